"""The mean level of even frames, with what rows and columns add to its uncertainty: they are fewer than their pixels."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Quantity, with_error
from yellowjacket.core.raw.histograms import line_means

# Bands go over many lines: lines are taken together by so many groups, whose scatter tells what they share. Student's t of one
# less than that many, over the normal's, 95 %.
_GROUPS, _STUDENT = 16, 1.088


def level_of(frames: Sequence[Sequence[NDArray[np.uint16]]]) -> Quantity:
    """Mean in DN of a channel. ``frames``: of every frame its planes, one for each site in the tile, all of one shape.

    What rows bring changes from frame to frame; the pattern of columns and pixels stays the same in all, and more frames do not
    average it out.
    """
    means = [np.mean([plane.mean(dtype=np.float64) for plane in planes]) for planes in frames]
    n = sum(plane.size for planes in frames for plane in planes)
    lines = [[line_means(plane) for plane in planes] for planes in frames]
    rows = [_scatter(np.mean([down for down, _ in planes], axis=0)) for planes in lines]
    columns = np.mean([across for planes in lines for _, across in planes], axis=0)
    square = sum(rows) / len(rows) ** 2 + _scatter(columns)
    # Both hold what pixels scatter by themselves: once is enough.
    spread = float(np.std(frames[0][0], dtype=np.float64))
    square = max(square - spread**2 / n, spread**2 / n)
    return with_error(float(np.mean(means)), _STUDENT * math.sqrt(square), n)


def _scatter(lines: NDArray[np.float64]) -> float:
    """Square of the standard error of the mean of lines, from groups of neighbours."""
    groups = np.array([part.mean() for part in np.array_split(lines, min(_GROUPS, lines.size))])
    return float(np.var(groups, ddof=1)) / groups.size if groups.size > 1 else 0.0
