"""Bright points of a light frame, looked for in a worker process as all decoding is."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from yellowjacket.bench.intake.originals import path_of
from yellowjacket.bench.jobs.executor import frame_error, run_one
from yellowjacket.bench.models import Frame
from yellowjacket.bench.workers import bright_points_in
from yellowjacket.core.darks.hot_pixels import HotPixel


def points_in_light(frame: Frame) -> Sequence[HotPixel]:
    """Pixels of a light frame that look hot, less surely than in a dark. Raises FrameError when the original is gone."""
    path = str(path_of(frame))
    try:
        return run_one(bright_points_in, path)
    except Exception as error:
        raise frame_error(Path(path), error) from error
