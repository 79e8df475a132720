"""Whether any light reached the sensor."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.robust import SIGMA_PER_MAD
from yellowjacket.core.raw.frame import RawFrame

# A dark's channel means agree within this many DN or this share; light behind colour filters does not.
_DARK_SPREAD_DN = 6.0
_DARK_SPREAD_SHARE = 0.08
# Every nth pixel each way is enough to tell dark from light.
_SAMPLE_STEP = 4
# Means further apart than so many standard errors do not stand at one level.
_SURE_SIGMAS = 5.0
_BRIGHTEST_SHARE = 0.003
# No dark of a short exposure stands above this share of the range.
# Dark signal stands out from about a second on; evenness is told over so many parts each way.
_SIGNAL_FROM_S, _PARTS = 1.0, 8
_BRIGHT_SHARE, _LONG_S = 0.05, 10.0


def looks_dark(frame: RawFrame, exposure_s: float | None = None) -> bool:
    """Whether no light reached the sensor: all planes stand at one level, as no scene does behind colour filters.

    Without filters a dark is told by its level, or after a second and more by being as even as no scene is. A level far
    above black is light, however even, unless the exposure was long enough for dark signal.
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
        warm = exposure_s is not None and exposure_s >= _SIGNAL_FROM_S
        return level <= _DARK_SPREAD_DN or (warm and _even(frame, level))
    # At the highest ISO noise alone moves the means further apart than a few DN.
    noise = _SURE_SIGMAS * math.sqrt(2) * max(errors)
    return max(means) - min(means) <= max(_DARK_SPREAD_DN, _DARK_SPREAD_SHARE * level, noise)


def _even(frame: RawFrame, level: float) -> bool:
    """Whether parts of the frame stand at one level: dark signal is the same nearly everywhere."""
    plane = frame.planes(frame.channels[0])[0][::_SAMPLE_STEP, ::_SAMPLE_STEP]
    rows, columns = plane.shape[0] // _PARTS, plane.shape[1] // _PARTS
    if min(rows, columns) < 1:
        return False
    parts = plane[: rows * _PARTS, : columns * _PARTS].reshape(_PARTS, rows, _PARTS, columns)
    middles = np.median(parts.swapaxes(1, 2).reshape(_PARTS**2, -1), axis=1)
    # An edge that glows is a part or two; a scene is in most of them.
    low, high = np.percentile(middles, (10, 90))
    return bool(high - low <= max(_DARK_SPREAD_DN, _DARK_SPREAD_SHARE * level))


def _standard_error(rows: NDArray[np.uint16]) -> float:
    """Standard error (DN) of the mean of a plane, row noise included, from neighbouring rows: what the scene shows there is
    nearly the same."""
    if rows.shape[0] < 2:
        return 0.0
    steps = np.diff(rows.mean(axis=1, dtype=np.float64))
    return float(np.median(np.abs(steps)) * SIGMA_PER_MAD / math.sqrt(2) / math.sqrt(rows.shape[0]))
