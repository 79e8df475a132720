"""Archives that came in and wait for a decision: kept for a day, so that nobody sends them twice."""

from __future__ import annotations

import re
import time
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.utils.crypto import get_random_string

from yellowjacket import data_folder
from yellowjacket.bench.refusal import Refusal

_TOKEN = re.compile(r"[A-Za-z0-9]{16}")
_KEPT_S = 24 * 3600.0


@dataclass(frozen=True, slots=True)
class Waiting:
    """An archive on the disk, and by what it is found again."""

    token: str
    path: Path


def let_go(waiting: Waiting) -> None:
    """An archive that is decided waits no longer."""
    waiting.path.unlink(missing_ok=True)


def _folder() -> Path:
    return data_folder.arriving(settings.HOME) / "archives"


def keep(upload: UploadedFile | None) -> Waiting:
    """Write what was uploaded to the disk. Refuses nothing at all, and more than an archive may have."""
    if upload is None:
        raise Refusal("Choose an archive file of a sitting first.")
    if (upload.size or 0) > settings.ARCHIVE_MAX_BYTES:
        raise Refusal(f"{upload.name} is larger than {settings.ARCHIVE_MAX_BYTES // 1024**3} GB.")
    folder = _folder()
    folder.mkdir(parents=True, exist_ok=True)
    for old in folder.glob("*.zip"):
        if time.time() - old.stat().st_mtime > _KEPT_S:
            old.unlink(missing_ok=True)
    token = get_random_string(16)
    path = folder / f"{token}.zip"
    with path.open("wb") as file:
        for chunk in upload.chunks():
            file.write(chunk)
    return Waiting(token, path)


def kept(token: str) -> Waiting | None:
    """The archive of a token while it waits; None for no token. Refuses one that waits no longer."""
    if not token:
        return None
    path = _folder() / f"{token}.zip"
    if not _TOKEN.fullmatch(token) or not path.is_file():
        raise Refusal("This archive is no longer waiting to be imported: choose the file again.")
    return Waiting(token, path)
