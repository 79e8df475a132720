"""Pixels of originals: decoded in a worker process, bounded in time and memory, and mapped from the cache."""

from __future__ import annotations

import contextlib
import fcntl
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from numpy.typing import NDArray

from yellowjacket.bench.intake.originals import path_of
from yellowjacket.bench.jobs.executor import frame_error, run_one
from yellowjacket.bench.models import Frame, LanePicture
from yellowjacket.bench.workers import DecodeTask, decode_to_file
from yellowjacket.core.raw.frame import FrameError, RawFrame


def decode(task: DecodeTask) -> None:
    """Write the pixels of a file to its target, whole or not at all. Raises FrameError."""
    try:
        run_one(decode_to_file, task)
    except OSError:
        # No room for the pixels is nothing that the file could help.
        raise
    except Exception as error:
        raise frame_error(Path(task.path), error) from error


def rendered_pixels(picture: LanePicture) -> NDArray[np.uint8]:
    """A lane's picture as sRGB, shape (height, width, 3), lying as its frame does; mapped from the cache."""
    return _mapped(picture, f"{picture.sha256}-{picture.quarter_turns}", picture.quarter_turns)


def raw_frame(frame: Frame) -> RawFrame:
    """The frame with its numbers, from the cache. Raises FrameError when the original is gone or changed."""
    neutral = None if frame.neutral is None else np.array(frame.neutral)
    return RawFrame(
        mosaic_of(frame), frame.mosaic_layout, dict(frame.black_dn), frame.white_dn, frame.xyz_to_camera, neutral
    )


def mosaic_of(frame: Frame) -> NDArray[np.uint16]:
    """The decoded mosaic, shape (height, width), DN, mapped from the cache so that a crop reads only its own rows.

    Raises FrameError when the original is gone or changed.
    """
    return _mapped(frame, frame.sha256, None)


def prepare(frame: Frame) -> None:
    """Have a frame decoded that pictures will be made from, while the page is still being written that asks for them."""
    if not _place(frame.sha256).exists():
        threading.Thread(target=_decoded_or_not, args=(frame,), daemon=True).start()


def _decoded_or_not(frame: Frame) -> None:
    # Who asks for the picture hears why there is none.
    with contextlib.suppress(FrameError, OSError):
        mosaic_of(frame)


def _place(name: str) -> Path:
    return Path(settings.HOME / "cache" / "mosaics" / f"{name}.npy")


def _mapped(original: Frame | LanePicture, name: str, quarter_turns: int | None) -> NDArray[Any]:
    path = _place(name)
    if (found := _kept(path)) is not None:
        return found
    # Pictures of one frame are asked for together, of several processes: one decodes it, the others wait for that.
    with _alone(path):
        if (found := _kept(path)) is not None:
            return found
        decode(DecodeTask(str(path_of(original)), str(path), quarter_turns))
        _trim(path.parent)
        return np.load(path, mmap_mode="r")


def _kept(path: Path) -> NDArray[Any] | None:
    """Pixels from the cache; None where they are not there yet, were emptied meanwhile, or are damaged: the cache may lose
    anything at any time."""
    try:
        return np.load(path, mmap_mode="r")
    except (OSError, ValueError, EOFError):
        return None


@contextlib.contextmanager
def _alone(path: Path) -> Iterator[None]:
    """Hold off every other thread and process that wants to decode what comes to ``path``; where files cannot be locked, all do
    it for themselves."""
    lock = path.parent / "locks" / path.name[:2]
    with contextlib.ExitStack() as held:
        with contextlib.suppress(OSError):
            lock.parent.mkdir(parents=True, exist_ok=True)
            fcntl.flock(held.enter_context(lock.open("w")), fcntl.LOCK_EX)
        yield


def _trim(folder: Path) -> None:
    """Drop the oldest mosaics beyond the size the cache may have."""
    files = []
    for file in folder.glob("*.npy"):
        with contextlib.suppress(OSError):
            stat = file.stat()
            files.append((stat.st_mtime, stat.st_size, file))
    total = 0
    for _, size, file in sorted(files, key=lambda one: one[0], reverse=True):
        total += size
        if total > settings.CACHE_MAX_BYTES:
            file.unlink(missing_ok=True)
