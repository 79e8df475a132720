"""A database that somebody else holds, or that cannot be written: told apart, and waited for."""

from __future__ import annotations

import errno
import logging
import sqlite3
import time
from collections.abc import Callable
from enum import StrEnum
from typing import TypeVar

from django.db import DatabaseError, close_old_connections, connection

log = logging.getLogger(__name__)

Result = TypeVar("Result")

# Between two tries, doubling (s).
_FIRST_PAUSE_S, _LONGEST_PAUSE_S = 0.5, 15.0
_FULL = (errno.ENOSPC, errno.EDQUOT)


class Trouble(StrEnum):
    """What keeps something from being stored, where a person can do something about it."""

    BUSY = "busy"
    FULL = "full"
    READ_ONLY = "read-only"
    DAMAGED = "damaged"


_BY_CODE = {
    sqlite3.SQLITE_BUSY: Trouble.BUSY, sqlite3.SQLITE_LOCKED: Trouble.BUSY, sqlite3.SQLITE_FULL: Trouble.FULL,
    sqlite3.SQLITE_READONLY: Trouble.READ_ONLY, sqlite3.SQLITE_CANTOPEN: Trouble.READ_ONLY,
    sqlite3.SQLITE_CORRUPT: Trouble.DAMAGED, sqlite3.SQLITE_NOTADB: Trouble.DAMAGED, sqlite3.SQLITE_IOERR: Trouble.FULL,
}  # fmt: skip

_WORDS = {
    Trouble.BUSY: "Another program is writing to the database, or holds it. Nothing was changed; try again in a moment.",
    Trouble.FULL: "The disk is full. Nothing was changed; make room on it, then try again.",
    Trouble.READ_ONLY: "The data folder cannot be written to. Nothing was changed; check who owns it and whether its "
    "disk is read-only, then try again.",
    Trouble.DAMAGED: "The database is damaged. Stop the application, run `yellowjacket doctor`, and restore the newest "
    "backup into another folder with `yellowjacket restore`.",
}  # fmt: skip


def trouble_of(error: BaseException | None) -> Trouble | None:
    """What an exception, or one that led to it, says about disk and database; None for everything else."""
    seen: set[int] = set()
    while error is not None and id(error) not in seen:
        seen.add(id(error))
        if isinstance(error, sqlite3.Error):
            # The low byte is the primary result code (sqlite.org/rescode.html).
            found = _BY_CODE.get((getattr(error, "sqlite_errorcode", None) or 0) & 0xFF)
            if found is not None:
                return found
        elif isinstance(error, OSError) and not isinstance(error, ConnectionError):
            if error.errno in _FULL:
                return Trouble.FULL
            if error.errno == errno.EROFS:
                return Trouble.READ_ONLY
        elif isinstance(error, DatabaseError) and "database is locked" in str(error):
            return Trouble.BUSY
        error = error.__cause__ or error.__context__
    return None


def words_for(trouble: Trouble) -> str:
    """What to tell a person."""
    return _WORDS[trouble]


def busy(error: BaseException) -> bool:
    """Whether somebody else holds the database: what failed can be done again later."""
    return trouble_of(error) is Trouble.BUSY


def patiently(do: Callable[[], Result], *, pause: Callable[[float], object] = time.sleep) -> Result:
    """Carry out something that reads or writes the database, again and again while somebody else holds it.

    ``do`` must be whole in itself: a transaction, or a single statement. Not for use inside a transaction.
    """
    wait_s = _FIRST_PAUSE_S
    while True:
        try:
            return do()
        except DatabaseError as error:
            if not busy(error) or connection.in_atomic_block:
                raise
            log.warning("the database is held by another program; trying again in %.1f s", wait_s)
        close_old_connections()
        pause(wait_s)
        wait_s = min(2 * wait_s, _LONGEST_PAUSE_S)
