"""Importing files: from a folder that may be read, or from uploads."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable
from pathlib import Path
from stat import S_ISREG

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.utils import timezone
from django.utils.text import get_valid_filename

from yellowjacket import home
from yellowjacket.bench.executor import run_all
from yellowjacket.bench.models import Frame, Job, Problem, Sitting
from yellowjacket.bench.services import jobs
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.bench.services.frames import add_frame, misfit_from, note_problem
from yellowjacket.bench.services.matching import ShotFinder
from yellowjacket.core.inspection import FrameFacts, inspect_file
from yellowjacket.core.matching import Misfit

# A file this old (s) is no longer being written; a look takes this many, the next one goes on.
_SETTLED_S = 1.5
_MOST_AT_A_LOOK = 200
# What a watched inbox passes over in silence: files that have nothing to do with the sitting.
_UNRELATED = {"not-raw", "empty", "unreadable", "body", "ladder"}


def import_folder(sitting: Sitting, folder_text: str) -> Job:
    """Start importing every file of a folder, of the inbox when none is named.

    Refuses folders that are not there or not allowed.
    """
    return jobs.start(sitting, Job.Kind.IMPORT, files=files_of(folder_text))


def files_of(folder_text: str) -> list[str]:
    """Paths of every file of a folder, of the inbox when none is named. Refuses as import_folder does."""
    folder = Path(folder_text.strip()).expanduser() if folder_text.strip() else home.inbox(settings.HOME)
    if not folder.is_absolute():
        raise Refusal("Give the folder's full path, beginning with /.")
    if not home.inside_allowed(settings.HOME, folder):
        raise Refusal(
            f"{folder} is outside the folders Yellowjacket may read. Copy the files to {home.inbox(settings.HOME)}, "
            f"or allow the folder once with: yellowjacket allow {folder}"
        )
    if not folder.is_dir():
        raise Refusal(f"{folder} is not a folder. Check the path.")
    files = _files_in(folder)
    if not files:
        raise Refusal(f"{folder} holds no files. Copy the frames there first.")
    return files


def _files_in(folder: Path) -> list[str]:
    """Paths of all plain files below the folder, hidden ones left out."""
    found: list[str] = []
    for place, folders, names in os.walk(folder):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        # A link may lead out of the allowed folders.
        inside = [Path(place) / name for name in sorted(names) if not name.startswith(".")]
        found += [str(path) for path in inside if home.inside_allowed(settings.HOME, path)]
        if len(found) > settings.IMPORT_MAX_FILES:
            raise Refusal(
                f"{folder} holds more than {settings.IMPORT_MAX_FILES} files. Import the folder of one card at a time."
            )
    return found


def set_watch(sitting: Sitting, wanted: bool) -> None:
    """Begin or end watching the inbox for a sitting; what lies there already is taken at the first look."""
    sitting.watches_inbox = wanted
    sitting.inbox_seen = []
    sitting.save(update_fields=["watches_inbox", "inbox_seen"])


def look_into_inbox(sitting: Sitting) -> Job | None:
    """Start importing what is new in the inbox of a watching sitting; None when there is nothing new.

    Files still being written are left for the next look; each file is looked at once, whatever becomes of it.
    """
    if not sitting.watches_inbox or Job.objects.filter(sitting=sitting, state__in=Job.OPEN).exists():
        return None
    seen = set(sitting.inbox_seen)
    now = timezone.now().timestamp()
    landed: list[tuple[int, str, str]] = []
    for path in home.inbox(settings.HOME).rglob("*"):
        try:
            stat = path.stat()
        except OSError:
            continue
        mark = f"{path.name}|{stat.st_size}|{stat.st_mtime_ns}"
        if (
            mark not in seen
            and S_ISREG(stat.st_mode)
            and not path.name.startswith(".")
            and now - stat.st_mtime > _SETTLED_S
        ):
            landed.append((stat.st_mtime_ns, str(path), mark))
    # What landed last is what the tester waits for: thousands of older files must not stand before it.
    landed.sort(reverse=True)
    fresh = []
    for _, name, mark in landed[:_MOST_AT_A_LOOK]:
        seen.add(mark)
        if home.inside_allowed(settings.HOME, Path(name)):
            fresh.append(name)
    if landed:
        sitting.inbox_seen = sorted(seen)
        sitting.save(update_fields=["inbox_seen"])
    if not fresh:
        return None
    return jobs.start(sitting, Job.Kind.IMPORT, files=fresh, watched=True)


def import_uploads(sitting: Sitting, uploads: Iterable[UploadedFile]) -> Job:
    """Store uploaded files as originals of the sitting and start importing them."""
    return jobs.start(sitting, Job.Kind.IMPORT, files=stored_uploads(sitting, uploads))


def stored_uploads(sitting: Sitting, uploads: Iterable[UploadedFile]) -> list[str]:
    """Store uploaded files as originals of the sitting; their paths. Refuses when none could be stored."""
    folder = settings.HOME / "originals" / f"sitting-{sitting.pk}"
    folder.mkdir(parents=True, exist_ok=True)
    stored, refused = [], 0
    for upload in uploads:
        if (upload.size or 0) > settings.UPLOAD_MAX_BYTES:
            _note_too_large(sitting, upload)
            refused += 1
            continue
        stored.append(str(store_upload(folder, upload)))
    if not stored:
        raise Refusal(
            "No file was stored: each is larger than an upload may be."
            if refused
            else "Choose one or more raw files first."
        )
    return stored


def _note_too_large(sitting: Sitting, upload: UploadedFile) -> None:
    limit = settings.UPLOAD_MAX_BYTES // 1024**2
    misfit = Misfit("too-large", f"is larger than {limit} MB.", "Put it into the inbox folder and import the folder.")
    note_problem(sitting, upload.name or "a file", misfit)


def store_upload(folder: Path, upload: UploadedFile) -> Path:
    """Write an upload whole or not at all, under its own name or, if that is taken, one with its digest."""
    name = get_valid_filename(Path(upload.name or "frame").name)
    partial = folder / f".{name}.part"
    digest = hashlib.sha256()
    with partial.open("wb") as file:
        for chunk in upload.chunks():
            digest.update(chunk)
            file.write(chunk)
    target = folder / name
    if target.exists():
        target = folder / f"{target.stem}-{digest.hexdigest()[:8]}{target.suffix}"
    partial.replace(target)
    return target


def import_files(job: Job, progress: jobs.Progress) -> str:
    """The import job: inspect files in worker processes, store each as it comes. Returns a summary."""
    known = set(Frame.objects.filter(sitting=job.sitting).values_list("path", flat=True))
    waiting = [path for path in job.parameters["files"] if path not in known]
    progress.begin(len(waiting))
    added, problems = 0, 0
    finder = ShotFinder(job.sitting)
    for path, facts in run_all(inspect_file, waiting):
        if (
            job.parameters.get("watched")
            and not isinstance(facts, FrameFacts)
            and misfit_from(facts).code in _UNRELATED
        ):
            # An inbox holds other things, too: they are passed over in silence.
            progress.step()
            continue
        record: Frame | Problem | None = _store_outcome(job.sitting, path, facts, finder)
        if job.parameters.get("watched") and isinstance(record, Problem) and record.code in _UNRELATED:
            record.delete()
            record = None
        added += isinstance(record, Frame)
        problems += isinstance(record, Problem)
        progress.step()
    return summary(added, problems, len(job.parameters["files"]) - len(waiting))


def _store_outcome(sitting: Sitting, path: str, facts: FrameFacts | Exception, finder: ShotFinder) -> Frame | Problem:
    if isinstance(facts, FrameFacts):
        return add_frame(sitting, facts, finder=finder)
    return note_problem(sitting, Path(path).name, misfit_from(facts))


def summary(added: int, problems: int, known: int) -> str:
    """What an import did, in a sentence."""
    parts = [f"{added} frame{'s' if added != 1 else ''} in"]
    if known:
        parts.append(f"{known} known already")
    if problems:
        parts.append(f"{problems} not used, see below")
    return ", ".join(parts)
