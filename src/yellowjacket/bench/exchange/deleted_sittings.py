"""Sittings that were deleted, kept as archives in the data folder until somebody deletes them for good.

Frames are never touched: the archive holds every record of the sitting, and the files stay where they are.
"""

from __future__ import annotations

import contextlib
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from django.db import transaction
from django.utils.crypto import get_random_string

from yellowjacket.bench import deleted_archives
from yellowjacket.bench.exchange import sitting_archive
from yellowjacket.bench.models import Job, Sitting
from yellowjacket.bench.refusal import Refusal

_TOKEN_LENGTH = 16
_TOKEN = re.compile(r"[0-9]{1,18}-[0-9A-Za-z]{16}", re.ASCII)


@dataclass(frozen=True, slots=True)
class Deleted:
    """A deleted sitting: its name, when it was deleted, and what names it in an address."""

    token: str
    name: str
    at: datetime


def delete(sitting: Sitting) -> Deleted:
    """Delete a sitting with all its records; it can be restored. Refuses while work on it is under way.

    Its archive is whole on disk before anything is taken out of the database; while the sitting is still there, as after a
    crash in between, the archive is not offered.
    """
    running = Job.objects.filter(sitting=sitting, state__in=Job.OPEN).first()
    if running is not None:
        raise Refusal(f"{running.get_kind_display()} is under way for {sitting}. Wait for it or stop it first.")
    # Numbers of sittings are never given twice.
    token = f"{sitting.pk}-{get_random_string(_TOKEN_LENGTH)}"
    path = _path(token)
    partial = path.with_name(f".{token}.part")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with partial.open("wb") as file:
            sitting_archive.write(sitting, file, originals=False)
        partial.replace(path)
    except OSError as error:
        with contextlib.suppress(OSError):
            partial.unlink(missing_ok=True)
        raise Refusal(
            f"{sitting} cannot be kept for restoring: {error.strerror or error}. Nothing is deleted."
        ) from error
    with transaction.atomic():
        sitting.delete()
    return Deleted(token, sitting.name, datetime.now(UTC))


def deleted() -> list[Deleted]:
    """Every deleted sitting that can be restored, the newest first. What cannot be read is left out."""
    kept = list(deleted_archives.archives())
    here = {str(pk) for pk in Sitting.objects.values_list("pk", flat=True)} if kept else set()
    found = []
    for path in kept:
        name = None if path.stem.partition("-")[0] in here else deleted_archives.sitting_name(path)
        if name is not None:
            found.append(Deleted(path.stem, name, datetime.fromtimestamp(path.stat().st_mtime, UTC)))
    return sorted(found, key=lambda one: one.at, reverse=True)


def restore(token: str) -> Sitting:
    """Bring a deleted sitting back, with everything that was decided. Refuses one that is not there any more."""
    path = _known(token)
    taken = sitting_archive.read(path, "the deleted sitting", again=True, described=sitting_archive.HERE)
    path.unlink(missing_ok=True)
    return taken.sitting


def delete_for_good(token: str) -> None:
    """Delete what is kept of a sitting. Its frames stay where they are."""
    _known(token).unlink(missing_ok=True)


def _path(token: str) -> Path:
    return deleted_archives.folder() / f"{token}.zip"


def _known(token: str) -> Path:
    if not _TOKEN.fullmatch(token) or not _path(token).is_file():
        raise Refusal("That sitting cannot be restored: it was restored already, or deleted for good.")
    return _path(token)
