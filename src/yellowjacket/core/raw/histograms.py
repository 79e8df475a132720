"""Whole-frame counts: histograms and exact sums per tile, in one walk over the numbers."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

CODES = 65536
# Tiles of a channel over which light counts as even.
TILE_PX = 16
# Columns of tile_sums.
SUM_A, SUM_B, SUM_AA, SUM_BB, SUM_AB = range(5)


def add_histogram(plane: NDArray[np.uint16], counts: NDArray[np.int64]) -> None:
    """Add the codes of a plane (any strides) to ``counts``, int64 of CODES entries."""
    from yellowjacket.core.raw.counting import count_codes

    count_codes(plane, counts)


def line_means(plane: NDArray[np.uint16]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Means of the rows and of the columns of a plane of any strides, from exact sums; shapes (rows,) and (columns,)."""
    from yellowjacket.core.raw.counting import sum_lines

    rows, columns = (np.zeros(length, np.int64) for length in plane.shape)
    sum_lines(plane, rows, columns)
    return rows / plane.shape[1], columns / plane.shape[0]


def middle_of(values: NDArray[np.float64], counts: NDArray[np.int64]) -> float:
    """The median of ``values``, in order, each of which is there so many times: as NumPy's of all of them. Shapes (n,)."""
    up_to, total = np.cumsum(counts), int(counts.sum())
    low, high = np.searchsorted(up_to, ((total - 1) // 2, total // 2), side="right")
    return float(values[low] + values[high]) / 2


def tile_sums(a: NDArray[np.uint16], b: NDArray[np.uint16], side: int = TILE_PX) -> NDArray[np.int64]:
    """Exact sums over square tiles of two planes: A, B, A², B², AB; int64, shape (rows, columns, 5)."""
    from yellowjacket.core.raw.counting import sum_tiles

    rows, columns = a.shape[0] // side, a.shape[1] // side
    out = np.zeros((rows, columns, 5), np.int64)
    sum_tiles(a, b, side, out)
    return out


def cell_sums(plane: NDArray[np.uint16], side: int) -> NDArray[np.uint32]:
    """Exact sums over squares of a plane of any strides; shape (rows // side, columns // side)."""
    from yellowjacket.core.raw.counting import sum_cells

    out = np.zeros((plane.shape[0] // side, plane.shape[1] // side), np.uint32)
    sum_cells(plane, side, out)
    return out


def tile_means_and_noise(
    sums: NDArray[np.int64], side: int = TILE_PX
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Mean of both frames and temporal variance (half the variance of A − B) of every tile, in DN and DN².

    Shapes (height, width) in, (rows of tiles, columns of tiles) out.
    """
    n = side * side
    mean = (sums[..., SUM_A] + sums[..., SUM_B]) / (2 * n)
    # Exact in whole numbers: no difference of large floats.
    squares = sums[..., SUM_AA] + sums[..., SUM_BB] - 2 * sums[..., SUM_AB]
    difference = sums[..., SUM_A] - sums[..., SUM_B]
    return mean, (squares - difference * difference / n) / (2 * (n - 1))
