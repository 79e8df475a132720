"""Files that a browser sends, stored whole."""

from __future__ import annotations

import hashlib
import os
import re
import tempfile
from collections.abc import Iterable, Sequence
from pathlib import Path

from django.conf import settings
from django.core.exceptions import SuspiciousFileOperation
from django.core.files.uploadedfile import UploadedFile
from django.utils.text import get_valid_filename

from yellowjacket.bench.intake.problems import note_problem, printable
from yellowjacket.bench.models import Sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.planning.frame_to_shot import Misfit
from yellowjacket.core.raw.frame import sha256_of

# What half-written files are called.
PARTIAL = ".part"
# Of names that browsers send.
_LONGEST_NAME = 100
_LONGEST_SUFFIX = 12

# A name that was taken: digits of the content follow it.
_MARKED = re.compile(r"(.+)-([0-9a-f]{8}|[0-9a-f]{16}|[0-9a-f]{64})")


def stored_uploads(sitting: Sitting, uploads: Iterable[UploadedFile]) -> list[str]:
    """Store uploaded files as originals of the sitting; their paths. Refuses when none could be stored."""
    folder = settings.HOME / "originals" / f"sitting-{sitting.pk}"
    stored, too_large = store_uploads(folder, uploads)
    for name in too_large:
        _note_too_large(sitting, name)
    if not stored:
        raise Refusal(nothing_stored(too_large))
    return stored


def nothing_stored(too_large: Sequence[str]) -> str:
    """Why there is nothing to begin with."""
    if too_large:
        return "No file was stored: each is larger than an upload may be."
    return "Choose one or more raw files first."


def store_uploads(folder: Path, uploads: Iterable[UploadedFile]) -> tuple[list[str], list[str]]:
    """Write uploads into a folder of the originals: paths of what was stored, and names of what is too large.

    All or nothing: when one cannot be written, for want of room say, those before it are taken away again.
    """
    folder.mkdir(parents=True, exist_ok=True)
    stored: dict[Path, bool] = {}
    too_large: list[str] = []
    try:
        for upload in uploads:
            if (upload.size or 0) > settings.UPLOAD_MAX_BYTES:
                too_large.append(upload.name or "a file")
            else:
                path, is_new = store_upload(folder, upload)
                stored[path] = stored.get(path, False) or is_new
    except BaseException:
        for path, is_new in stored.items():
            if is_new:
                path.unlink(missing_ok=True)
        raise
    return [str(path) for path in stored], too_large


def _note_too_large(sitting: Sitting, name: str) -> None:
    limit = settings.UPLOAD_MAX_BYTES // 1024**2
    misfit = Misfit("too-large", f"is larger than {limit} MB.", "Copy it to the inbox folder and import the folder.")
    note_problem(sitting, name, misfit)


def store_upload(folder: Path, upload: UploadedFile) -> tuple[Path, bool]:
    """Write an upload whole or not at all, under its own name or, if that is taken, one with its digest. Returns where it
    is, and whether it is new there: the same content may lie there already.

    Many may come at once under one name: each is written under a name nobody else has, and moved to one that was free.
    """
    name = _file_name(upload.name or "")
    handle, partial_name = tempfile.mkstemp(prefix=".", suffix=PARTIAL, dir=folder)
    partial = Path(partial_name)
    digest = hashlib.sha256()
    try:
        with os.fdopen(handle, "wb") as file:
            for chunk in upload.chunks():
                digest.update(chunk)
                file.write(chunk)
        partial.chmod(0o644)
        return _moved(partial, folder, name, digest.hexdigest())
    finally:
        partial.unlink(missing_ok=True)


def _file_name(said: str) -> str:
    """A name for the disk from what a browser says it is called."""
    try:
        name = Path(get_valid_filename(Path(printable(said)).name))
    except (SuspiciousFileOperation, ValueError):
        return "frame"
    return name.stem.lstrip(".")[:_LONGEST_NAME] + name.suffix[:_LONGEST_SUFFIX] or "frame"


def said_name(path: Path) -> str:
    """What an upload was called where it came from: without the mark that a taken name was given."""
    marked = _MARKED.fullmatch(path.stem)
    # Names with digits of their own are left as they are.
    ours = marked is not None and path.is_file() and sha256_of(path).startswith(marked[2])
    return f"{marked[1]}{path.suffix}" if marked is not None and ours else path.name


def _moved(partial: Path, folder: Path, name: str, digest: str) -> tuple[Path, bool]:
    """Move a whole file to the first of its names that is free; one that holds the same content already serves."""
    plain = Path(name)
    marked = (f"{plain.stem}-{digest[:length]}{plain.suffix}" for length in (8, 16, 64))
    for target in (folder / one for one in (name, *marked)):
        try:
            # The name is taken in one step: of two at once only one succeeds.
            os.close(os.open(target, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o644))
        except FileExistsError:
            if target.stat().st_size == partial.stat().st_size and sha256_of(target) == digest:
                return target, False
            continue
        partial.replace(target)
        return target, True
    raise FileExistsError(f"{name} cannot be stored: every name for it is taken")
