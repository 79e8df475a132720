"""What running work reports to, and how it hears that it should stop."""

from __future__ import annotations

import time
from collections.abc import Callable

from yellowjacket.bench.models import Job

Work = Callable[[Job, "Progress"], str]
_TOLD_EVERY_S = 0.15


class Stopped(Exception):
    """The person asked for the work to stop."""


class Progress:
    """What running work reports to; each step also hears whether it should stop."""

    def __init__(self, job: Job) -> None:
        self._job = job
        self._told = 0.0

    def begin(self, total: int) -> None:
        """Say how many items there are."""
        self._job.total, self._job.done = total, 0
        self._job.save(update_fields=["total", "done"])

    def step(self) -> None:
        """One more item is done and stored. Raises Stopped when that is wanted.

        Many small items are told of together: nobody reads faster.
        """
        self._job.done += 1
        now = time.monotonic()
        if now - self._told < _TOLD_EVERY_S and self._job.done < self._job.total:
            return
        self._told = now
        self._job.save(update_fields=["done"])
        if Job.objects.filter(pk=self._job.pk, stop_wanted=True).exists():
            raise Stopped
