"""Which function does which kind of job: each says so itself, where it stands; the queue knows no work."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from yellowjacket.bench.jobs.progress import Work

Handler = TypeVar("Handler", bound=Work)
_handlers: dict[str, Work] = {}


def handles(kind: str) -> Callable[[Handler], Handler]:
    """Mark the function that carries out jobs of a kind. The rooms with work are imported when the application is ready."""

    def register(handler: Handler) -> Handler:
        _handlers[kind] = handler
        return handler

    return register


def handler_of(kind: str) -> Work:
    """The function for a kind of job. Raises KeyError for a kind that nobody does."""
    return _handlers[kind]
