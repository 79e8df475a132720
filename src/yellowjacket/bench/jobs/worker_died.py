"""What is said of an input whose worker ended without an answer."""

from __future__ import annotations

TOO_LONG = "decoding it did not come to an end"
CRASHED = "the program that decodes it crashed"


class WorkerDied(Exception):
    """The process that worked on an input ended without an answer. ``too_long``: it was ended, for taking too long."""

    def __init__(self, reason: str, *, too_long: bool = False) -> None:
        super().__init__(reason)
        self.too_long = too_long
