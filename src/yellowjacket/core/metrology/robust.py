"""Statistics that a few outliers do not move."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

# Standard deviations to a median absolute deviation of a normal distribution: 1/Φ⁻¹(3/4), rounded.
SIGMA_PER_MAD = 1.4826
# Quantiles of the normal distribution at ±1 σ.
_ONE_SIGMA_QUANTILES = (0.15865525393145707, 0.8413447460685429)


def mean_of(values: NDArray[np.float64], axis: int | None = None) -> NDArray[np.float64]:
    """The mean as NumPy's own gives it, to the last digit, in a quarter of the time on the few pixels of a tile.

    ``values`` of any shape; without that ``axis``, or a 0-d array.
    """
    return np.asarray(np.add.reduce(values, axis=axis) / (values.size if axis is None else values.shape[axis]))


def robust_sigma(values: NDArray[np.float64]) -> float:
    """Half the distance of the 16 % and 84 % points, from a histogram of 1 DN bins interpolated linearly.

    On whole numbers the usual median-based spread can be 0; interpolating inside the bins cannot.
    """
    from yellowjacket.core.metrology.binning import bin_whole, ends_of

    every = np.ravel(values)
    lowest, highest = ends_of(every)
    counts = np.zeros(highest - lowest + 1, np.int64)
    bin_whole(every, lowest, counts)
    cumulative = counts.cumsum() / every.size
    edges = lowest - 0.5 + np.arange(cumulative.size + 1)
    points = np.interp(_ONE_SIGMA_QUANTILES, np.concatenate(([0.0], cumulative)), edges)
    return float(points[1] - points[0]) / 2


def without_plane(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """``values`` less their mean and least-squares slopes along rows and columns. Shape (height, width)."""
    rows = np.arange(values.shape[0]) - (values.shape[0] - 1) / 2
    columns = np.arange(values.shape[1]) - (values.shape[1] - 1) / 2
    flat = values - mean_of(values)
    # On a full grid the three columns of the design are orthogonal, so each slope stands alone.
    down = float(rows @ np.add.reduce(flat, axis=1)) / max(float(rows @ rows) * columns.size, 1.0)
    across = float(np.add.reduce(flat, axis=0) @ columns) / max(float(columns @ columns) * rows.size, 1.0)
    return np.asarray(flat - down * rows[:, None] - across * columns[None, :])
