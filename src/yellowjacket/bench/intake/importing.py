"""Importing files: from a folder that may be read, or from uploads."""

from __future__ import annotations

import hashlib
import itertools
import os
import shlex
from collections.abc import Iterable
from datetime import timedelta
from pathlib import Path
from stat import S_ISREG

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.utils import timezone

from yellowjacket import data_folder
from yellowjacket.bench.intake import nameless
from yellowjacket.bench.intake.frames import add_frame
from yellowjacket.bench.intake.match_shots import ShotFinder
from yellowjacket.bench.intake.problems import misfit_from, note_problem, printable
from yellowjacket.bench.intake.uploads import stored_uploads
from yellowjacket.bench.jobs import progress as progress_
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.jobs.executor import run_all
from yellowjacket.bench.jobs.registry import handles
from yellowjacket.bench.models import Frame, Job, Problem, SeenFile, Sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.raw.first_look import FrameFacts, inspect_file

# A file this old (s) is no longer being written; a look takes this many, the next one goes on.
_SETTLED_S = 1.5
_MOST_AT_A_LOOK = 200
_AFTER_FAILURE = timedelta(seconds=30)
# Of what people typed, when it is told back to them.
_LONGEST_SHOWN = 200
# What a watched inbox passes over in silence: files that have nothing to do with the sitting.
_UNRELATED = {"not-raw", "empty", "unreadable", "body", "ladder"}


class FolderNotAllowed(Refusal):
    """A folder outside of those that may be read."""

    def __init__(self, folder: Path) -> None:
        home, wanted = (shlex.quote(str(one)) for one in (settings.HOME, folder))
        command = f"{data_folder.HOME_VARIABLE}={home} yellowjacket allow {wanted}"
        super().__init__(
            f"{folder} is outside the folders Yellowjacket may read. Copy the files to {data_folder.inbox(settings.HOME)}, "
            f"or allow the folder once with: {command}"
        )
        self.folder = folder


def import_folder(sitting: Sitting, folder_text: str) -> Job:
    """Start importing every file of a folder, of the inbox when none is named.

    Refuses folders that are not there or not allowed.
    """
    return queue.start(sitting, Job.Kind.IMPORT, files=files_of(folder_text))


def files_of(folder_text: str) -> list[str]:
    """Paths of every file of a folder, of the inbox when none is named. Refuses as import_folder does."""
    folder = _folder_named(folder_text) if folder_text.strip() else data_folder.inbox(settings.HOME)
    if not data_folder.inside_allowed(settings.HOME, folder):
        raise FolderNotAllowed(folder)
    if not folder.is_dir():
        raise Refusal(f"{folder} is not a folder. Check the path.")
    files = _files_in(folder)
    if not files:
        raise Refusal(f"{folder} holds no files. Copy the frames there first.")
    return files


def _folder_named(text: str) -> Path:
    """The folder somebody typed. Refuses what cannot be one."""
    shown = text.strip()[:_LONGEST_SHOWN]
    try:
        folder = Path(text.strip()).expanduser()
        folder.stat()
    except FileNotFoundError:
        pass
    except (OSError, RuntimeError, ValueError) as error:
        # Too long, of an unknown person, with a NUL, through a file, or forbidden.
        raise Refusal(f"{shown!r} cannot be opened as a folder. Check the path.") from error
    if not folder.is_absolute():
        raise Refusal("Give the folder's full path, beginning with /.")
    return folder


def _files_in(folder: Path) -> list[str]:
    """Paths of all plain files below the folder, hidden ones left out."""
    found: list[str] = []
    for place, folders, names in os.walk(folder):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        # A link may lead out of the allowed folders.
        inside = [Path(place) / name for name in sorted(names) if not name.startswith(".")]
        found += [str(path) for path in inside if data_folder.inside_allowed(settings.HOME, path)]
        if len(found) > settings.IMPORT_MAX_FILES:
            raise Refusal(
                f"{folder} holds more than {settings.IMPORT_MAX_FILES} files. Import the folder of one card at a time."
            )
    return found


def set_watch(sitting: Sitting, wanted: bool) -> None:
    """Begin or end watching the inbox for a sitting; what lies there already is taken at the first look."""
    with transaction.atomic():
        sitting.watches_inbox = wanted
        sitting.save(update_fields=["watches_inbox"])
        SeenFile.objects.filter(sitting=sitting).delete()


def look_into_inboxes() -> None:
    """Look into the inbox for every sitting that watches it."""
    for sitting in Sitting.objects.filter(watches_inbox=True):
        look_into_inbox(sitting)


def look_into_inbox(sitting: Sitting) -> Job | None:
    """Start importing what is new in the inbox of a watching sitting; None when there is nothing new.

    Files still being written are left for the next look. A file counts as seen together with what became of it, so that
    a job that was refused, failed or killed loses none.
    """
    if not sitting.watches_inbox or Job.objects.filter(sitting=sitting, state__in=Job.OPEN).exists():
        return None
    last = Job.objects.filter(sitting=sitting, kind=Job.Kind.IMPORT, state=Job.State.FAILED).last()
    if last and last.finished_at and timezone.now() - last.finished_at < _AFTER_FAILURE:
        # What failed a moment ago, for want of room say, is not tried again without a pause.
        return None
    seen = set(SeenFile.objects.filter(sitting=sitting).values_list("mark", flat=True))
    inbox = data_folder.inbox(settings.HOME)
    landed: list[tuple[int, str, str]] = []
    for place, _, names in os.walk(inbox):
        for path in (Path(place) / name for name in names if not name.startswith(".")):
            try:
                stat = path.stat()
            except OSError:
                continue
            mark = _mark(inbox, path, stat)
            if mark not in seen and S_ISREG(stat.st_mode) and _settled(stat):
                landed.append((stat.st_mtime_ns, str(path), mark))
    # What landed last is what the tester waits for: thousands of older files must not stand before it.
    landed.sort(reverse=True)
    fresh = {name: mark for _, name, mark in landed if data_folder.inside_allowed(settings.HOME, Path(name))}
    fresh = dict(itertools.islice(fresh.items(), _MOST_AT_A_LOOK))
    if not fresh:
        return None
    return queue.start(sitting, Job.Kind.IMPORT, files=list(fresh), marks=fresh, watched=True)


def _settled(stat: os.stat_result) -> bool:
    """Whether nobody writes to a file any more. A copy may carry the time of a clock that runs ahead."""
    return abs(timezone.now().timestamp() - stat.st_mtime) > _SETTLED_S


def _mark(inbox: Path, path: Path, stat: os.stat_result) -> str:
    """By what a file is known again: place, size and time. Two cards may hold equal names."""
    place = printable(str(path.relative_to(inbox)))
    return f"{hashlib.sha256(place.encode()).hexdigest()[:32]}|{stat.st_size}|{stat.st_mtime_ns}"


def import_uploads(sitting: Sitting, uploads: Iterable[UploadedFile]) -> Job:
    """Store uploaded files as originals of the sitting and start importing them."""
    return queue.start(sitting, Job.Kind.IMPORT, files=stored_uploads(sitting, uploads))


@handles(Job.Kind.IMPORT)
def import_files(job: Job, progress: progress_.Progress) -> str:
    """The import job: inspect files in worker processes, store each as it comes. Returns a summary."""
    known = set(Frame.objects.filter(sitting=job.sitting).values_list("path", flat=True))
    marks: dict[str, str] = job.parameters.get("marks", {})
    waiting = [path for path in job.parameters["files"] if path not in known]
    SeenFile.note(job.sitting, [mark for path, mark in marks.items() if path in known])
    progress.begin(len(waiting))
    added, problems = 0, 0
    finder, kinds = ShotFinder(job.sitting), nameless.known_kinds()
    for path, facts in run_all(inspect_file, waiting):
        with transaction.atomic():
            facts = nameless.with_name(facts, kinds) if isinstance(facts, FrameFacts) else facts
            record = _store_outcome(job.sitting, path, facts, finder, watched=bool(job.parameters.get("watched")))
            SeenFile.note(job.sitting, [marks[path]] if path in marks else [])
        added += isinstance(record, Frame)
        problems += isinstance(record, Problem)
        progress.step()
    nameless.keep_claims(job.sitting)
    return summary(added, problems, len(job.parameters["files"]) - len(waiting))


def _store_outcome(
    sitting: Sitting, path: str, facts: FrameFacts | Exception, finder: ShotFinder, *, watched: bool
) -> Frame | Problem | None:
    """The frame or problem that a file became. A watched inbox holds other things, too: they are passed over in silence."""
    if isinstance(facts, FrameFacts):
        record = add_frame(sitting, facts, finder=finder)
    else:
        misfit = misfit_from(facts)
        if watched and misfit.code in _UNRELATED:
            return None
        record = note_problem(sitting, Path(path).name, misfit)
    if watched and isinstance(record, Problem) and record.code in _UNRELATED:
        record.delete()
        return None
    return record


def summary(added: int, problems: int, known: int) -> str:
    """What an import did, in a sentence."""
    parts = [f"{counted(added, 'frame')} in"]
    if known:
        parts.append(f"{known} known already")
    if problems:
        parts.append(f"{problems} not used, see below")
    return ", ".join(parts)
