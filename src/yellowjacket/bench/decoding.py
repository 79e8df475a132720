"""Pixels of originals for the pages: decoded in a worker process, bounded in time and memory, and mapped from the cache."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from uuid import uuid4

import numpy as np

from yellowjacket.bench.jobs.executor import frame_error, run_one
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.renditions.picture import read_rendered


@dataclass(frozen=True, slots=True)
class DecodeTask:
    """A file whose pixels are wanted at ``target`` (.npy). ``quarter_turns``: of a rendered picture; None for a raw file."""

    path: str
    target: str
    quarter_turns: int | None = None


def decode(task: DecodeTask) -> None:
    """Write the pixels of a file to its target, whole or not at all. Raises FrameError."""
    try:
        run_one(decode_to_file, task)
    except OSError:
        # No room for the pixels is nothing that the file could help.
        raise
    except Exception as error:
        raise frame_error(Path(task.path), error) from error


def decode_to_file(task: DecodeTask) -> None:
    """What a worker does: decode, and move the array to its place in one step."""
    if task.quarter_turns is None:
        pixels = read_frame(Path(task.path)).mosaic
    else:
        pixels = np.ascontiguousarray(np.rot90(read_rendered(Path(task.path)), task.quarter_turns))
    target = Path(task.target)
    target.parent.mkdir(parents=True, exist_ok=True)
    partial = target.with_name(f".{target.name}.{uuid4().hex}.part")
    try:
        with partial.open("wb") as file:
            np.save(file, pixels)
            file.flush()
        partial.replace(target)
    finally:
        partial.unlink(missing_ok=True)
