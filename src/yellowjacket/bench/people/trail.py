"""The trail: who decided what, when; entries are added and never changed."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from django.db.models import QuerySet

from yellowjacket.bench.models import Sitting, TrailEntry

# The account under which the present request acts; empty where nobody signs in.
_account: ContextVar[str] = ContextVar("account", default="")


@contextmanager
def acting(account: str) -> Iterator[None]:
    """Whatever is noted inside is noted under this account."""
    token = _account.set(account)
    try:
        yield
    finally:
        _account.reset(token)


def account() -> str:
    """The account that acts now, empty where nobody signs in."""
    return _account.get()


def note(
    act: str, what: str, *, sitting: Sitting | None = None, person: str = "", before: str = "", after: str = ""
) -> TrailEntry | None:
    """Add an entry; None where a change changes nothing."""
    if before and before == after:
        return None
    return TrailEntry.objects.create(
        account=account()[:150], person=person.strip()[:80], act=act, what=what[:200], before=before[:120], after=after[:120],
        sitting=sitting,
    )  # fmt: skip


def of_sitting(sitting: Sitting) -> QuerySet[TrailEntry]:
    """Entries of a sitting, the newest first."""
    return TrailEntry.objects.filter(sitting=sitting)
