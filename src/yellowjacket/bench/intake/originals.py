"""Original files: whether one still is what came in, asked before anything rests on it."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from enum import StrEnum
from pathlib import Path

from django.db.models import Q

from yellowjacket.bench.models import Frame, LanePicture, Problem, Sitting
from yellowjacket.core.raw.frame import FrameError, sha256_of


class OriginalState(StrEnum):
    """What became of an original."""

    INTACT = "intact"
    MISSING = "missing"
    CHANGED = "changed"


# What is told of until it is mended.
LOST = (OriginalState.MISSING, OriginalState.CHANGED)

# Digests of files that look other than they did, by place, size and time: read once, not at every crop.
_digests: dict[tuple[str, int, int], str] = {}
_lock = threading.Lock()
_MOST_DIGESTS = 10_000


def state_of(one: Frame | LanePicture) -> OriginalState:
    """Whether the file is there and has its content: by size and time of change, and by its digest where these differ."""
    path = Path(one.path)
    try:
        stat = path.stat()
    except (OSError, ValueError):
        return OriginalState.MISSING
    if isinstance(one, Frame):
        if stat.st_size != one.size_bytes:
            return OriginalState.CHANGED
        if stat.st_mtime_ns == one.mtime_ns:
            return OriginalState.INTACT
    key = (str(path), stat.st_size, stat.st_mtime_ns)
    with _lock:
        digest = _digests.get(key)
    if digest is None:
        try:
            digest = sha256_of(path)
        except OSError:
            return OriginalState.MISSING
        with _lock:
            if len(_digests) >= _MOST_DIGESTS:
                _digests.clear()
            _digests[key] = digest
    return OriginalState.INTACT if digest == one.sha256 else OriginalState.CHANGED


def path_of(one: Frame | LanePicture) -> Path:
    """Where an original lies that is what came in. Raises FrameError for one that is gone or was changed."""
    trouble = complaint(one)
    if trouble is not None:
        raise trouble
    return Path(one.path)


def complaint(one: Frame | LanePicture) -> FrameError | None:
    """Why an original cannot be used, None when it can."""
    state = state_of(one)
    if state is OriginalState.MISSING:
        return FrameError(
            Path(one.path), state, "is not where it was.", "Put it back there, or import it again from where it is now."
        )
    if state is OriginalState.CHANGED:
        return FrameError(
            Path(one.path), state, "was changed after it was imported; nothing shown or measured here uses it.",
            "Put the untouched file back.",
        )  # fmt: skip
    return None


def unusable(sitting: Sitting, paths: Iterable[str]) -> dict[str, FrameError]:
    """Those of the paths whose originals cannot be used now, each noted as a problem of the sitting; earlier complaints about
    those that can be used again are taken back."""
    from yellowjacket.bench.intake.problems import misfit_from, note_problem

    wanted, found, fine = set(paths), dict[str, FrameError](), list[str]()
    for frame in Frame.objects.filter(sitting=sitting).defer("report"):
        if frame.path not in wanted:
            continue
        trouble = complaint(frame)
        if trouble is None:
            fine.append(frame.path)
        else:
            found[frame.path] = trouble
            note_problem(sitting, frame.file_name, misfit_from(trouble), frame.path)
    gone = Problem.objects.filter(sitting=sitting, code__in=LOST)
    if gone.exists():
        # Complaints of older versions have no path.
        gone.filter(Q(path__in=fine) | Q(path="", file_name__in=[Path(path).name for path in fine])).delete()
    return found
