"""Darks that are none: light that leaked in, a picture, levels far off the line of the others."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.darks.dark_current import DarkTiles
from yellowjacket.core.darks.exposure_group import DarkGroup
from yellowjacket.core.exposure.notation import shutter_label

# Light that leaks in falls off over the whole frame; glow keeps to an edge. The middle half must be even to this share
# of the dark signal, and to so much in DN.
_UNEVEN_SHARE, _UNEVEN_DN = 0.25, 1.0
# A level so far over the line through the others, as a share of it, in DN, and as a share of the converter's range.
_OVER_SHARE, _OVER_DN, _OVER_RANGE = 0.5, 3.0, 0.0005
_FEWEST_FOR_LINE = 3


@dataclass(frozen=True, slots=True)
class Fault:
    """What is wrong with the darks of a time: ``code`` for programs, the sentence, and what to do."""

    group: DarkGroup
    code: str
    words: str
    remedy: str = "Cover lens and finder, darken the room, and shoot this time again."


def faults_of(times: Sequence[tuple[DarkGroup, DarkTiles, float]]) -> Iterator[Fault]:
    """Faults of darks of one ISO, each with its group, its tiles and the converter's range in DN."""
    if not times:
        return
    # A first guess of the bias: no dark lies below the shortest.
    bias = min(_level(tiles) for _, tiles, _ in times)
    for n, (group, tiles, span) in enumerate(times):
        signal = _level(tiles) - bias
        uneven = _unevenness(tiles)
        where = shutter_label(group.exposure_s)
        if uneven > max(_UNEVEN_DN, _UNEVEN_SHARE * max(signal, 0.0)):
            yield Fault(
                group, "leak",
                f"The darks of {where} are brighter on one side by {uneven:.1f} DN, over the whole frame: light leaked in.",
            )  # fmt: skip
            continue
        others = [one for m, one in enumerate(times) if m != n]
        over = _over_line(tiles, others)
        if over is not None and over[0] > max(_OVER_DN, _OVER_SHARE * over[1], _OVER_RANGE * span):
            yield Fault(
                group, "above-line",
                f"The darks of {where} stand {over[0]:.1f} DN over the line through the others: light leaked in, "
                "or the sensor was much warmer.",
            )  # fmt: skip


def _level(tiles: DarkTiles) -> float:
    return float(np.mean(list(tiles.medians.values())))


def _plane(tiles: DarkTiles) -> NDArray[np.float64]:
    return np.asarray(np.mean([np.asarray(one) for one in tiles.means.values()], axis=0))


def _unevenness(tiles: DarkTiles) -> float:
    """Largest difference in DN between the medians of opposite parts of the middle half of the frame."""
    plane = _plane(tiles)
    rows, columns = plane.shape
    if min(rows, columns) < 4:
        return 0.0
    middle = plane[rows // 4 : rows - rows // 4, columns // 4 : columns - columns // 4]
    r, c = (max(1, length // 3) for length in middle.shape)
    pairs = ((middle[:r], middle[-r:]), (middle[:, :c], middle[:, -c:]))
    return max(abs(float(np.median(one)) - float(np.median(other))) for one, other in pairs)


def _over_line(tiles: DarkTiles, others: Sequence[tuple[DarkGroup, DarkTiles, float]]) -> tuple[float, float] | None:
    """How far a time's level lies over the line through the others, and what the line says of its signal; DN."""
    # As the levels are told: warmth may count as time.
    seconds = np.array([one.exposure_s for _, one, _ in others])
    if len(set(seconds.tolist())) < _FEWEST_FOR_LINE:
        return None
    levels = np.array([_level(one) for _, one, _ in others])
    # The middle of all slopes between pairs (Theil and Sen): one bad time more does not bend it.
    first, second = np.triu_indices(len(seconds), 1)
    run = seconds[second] - seconds[first]
    told = np.abs(run) > 0
    slope = float(np.median((levels[second] - levels[first])[told] / run[told]))
    bias = float(np.median(levels - slope * seconds))
    signal = max(slope, 0.0) * tiles.exposure_s
    off = _level(tiles) - bias - signal
    return (off, signal) if math.isfinite(off) else None
