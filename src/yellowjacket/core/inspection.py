"""A first look at a file: what it is, what it claims, and whether it is a dark or a light frame."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.audit import FrameReport, look_at
from yellowjacket.core.frames import FrameError, FrameMetadata, RawFrame, read_with_metadata, sha256_of

# A dark's channel means agree within this many DN or this share; light behind colour filters does not.
_DARK_SPREAD_DN = 6.0
_DARK_SPREAD_SHARE = 0.08
# Every nth pixel each way is enough to tell dark from light.
_SAMPLE_STEP = 4
# Means further apart than so many standard errors do not stand at one level.
_SURE_SIGMAS = 5.0
_BRIGHTEST_SHARE = 0.003
# No dark of a short exposure stands above this share of the range.
_BRIGHT_SHARE, _LONG_S = 0.05, 10.0


@dataclass(frozen=True, slots=True)
class FrameFacts:
    """What is kept about a file at import. ``matrix`` and ``neutral`` as nested tuples, or None."""

    path: str
    sha256: str
    size_bytes: int
    mtime_ns: int
    width: int
    height: int
    metadata: FrameMetadata
    dark: bool
    white_dn: float
    black_dn: dict[str, float]
    offsets: dict[str, tuple[int, int]]
    matrix: tuple[tuple[float, ...], ...] | None
    neutral: tuple[float, ...] | None
    report: FrameReport


def inspect_file(path: str) -> FrameFacts:
    """Hash, decode and describe one file. Raises FrameError when it cannot be used."""
    where = Path(path)
    try:
        path.encode()
    except UnicodeEncodeError as error:
        raise FrameError(
            where, "name", "has a name that is no UTF-8 text.", "Rename it and import it again."
        ) from error
    # Before it is read: what is written to it afterwards shows as a change.
    stat = where.stat() if where.is_file() else None
    frame, metadata = read_with_metadata(where)
    return FrameFacts(
        path=path,
        sha256=sha256_of(where),
        size_bytes=stat.st_size if stat else 0,
        mtime_ns=stat.st_mtime_ns if stat else 0,
        width=frame.mosaic.shape[1],
        height=frame.mosaic.shape[0],
        metadata=metadata,
        dark=looks_dark(frame, metadata.exposure_s),
        white_dn=frame.white_dn,
        black_dn=frame.black_dn,
        offsets=frame.offsets,
        matrix=None if frame.xyz_to_camera is None else tuple(tuple(map(float, row)) for row in frame.xyz_to_camera),
        neutral=None if frame.neutral is None else tuple(map(float, frame.neutral)),
        report=look_at(frame),
    )


def looks_dark(frame: RawFrame, exposure_s: float | None = None) -> bool:
    """Whether no light reached the sensor: all planes stand at one level, as no scene does behind colour filters.

    Without filters a dark is told by its level alone. A level far above black is light, however even, unless the
    exposure was long enough for dark signal.
    """
    means, errors = [], []
    for channel in frame.channels:
        rows = frame.planes(channel)[0][::_SAMPLE_STEP, ::_SAMPLE_STEP]
        sample = rows.ravel()
        # Hot pixels fall unevenly on the channels: the brightest few do not count.
        kept = sample.size - int(sample.size * _BRIGHTEST_SHARE)
        means.append(float(np.partition(sample, kept - 1)[:kept].mean(dtype=np.float64)) - frame.black_dn[channel])
        errors.append(_standard_error(rows))
    level = abs(sum(means) / len(means))
    span = frame.white_dn - max(frame.black_dn.values())
    if exposure_s is not None and exposure_s < _LONG_S and level > _BRIGHT_SHARE * span:
        return False
    if len(means) == 1:
        return level <= _DARK_SPREAD_DN
    # At the highest ISO noise alone moves the means further apart than a few DN.
    noise = _SURE_SIGMAS * math.sqrt(2) * max(errors)
    return max(means) - min(means) <= max(_DARK_SPREAD_DN, _DARK_SPREAD_SHARE * level, noise)


def _standard_error(rows: NDArray[np.uint16]) -> float:
    """Standard error (DN) of the mean of a plane, row noise included, from neighbouring rows: what the scene shows there is
    nearly the same."""
    if rows.shape[0] < 2:
        return 0.0
    steps = np.diff(rows.mean(axis=1, dtype=np.float64))
    return float(np.median(np.abs(steps)) * 1.4826 / math.sqrt(2) / math.sqrt(rows.shape[0]))
