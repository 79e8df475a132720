"""Whole-frame counts, compiled: histograms and exact sums per tile, in one walk over the numbers.

The plain NumPy versions make several copies of a mosaic; these make none. Compiled once and kept on disk.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

CODES = 65536
# Tiles of a channel over which light counts as even.
TILE_PX = 16
# Columns of tile_sums.
SUM_A, SUM_B, SUM_AA, SUM_BB, SUM_AB = range(5)


@numba.njit(cache=True, nogil=True)
def _count(plane: NDArray[np.uint16], counts: NDArray[np.int64]) -> None:
    for row in range(plane.shape[0]):
        for column in range(plane.shape[1]):
            counts[plane[row, column]] += 1


def add_histogram(plane: NDArray[np.uint16], counts: NDArray[np.int64]) -> None:
    """Add the codes of a plane (any strides) to ``counts``, int64 of CODES entries."""
    _count(plane, counts)


@numba.njit(cache=True, nogil=True)
def _tile_sums(a: NDArray[np.uint16], b: NDArray[np.uint16], side: int, out: NDArray[np.int64]) -> None:
    for row in range(out.shape[0] * side):
        tile_row = row // side
        for tile_column in range(out.shape[1]):
            sum_a = sum_b = sum_aa = sum_bb = sum_ab = np.int64(0)
            for column in range(tile_column * side, (tile_column + 1) * side):
                x, y = np.int64(a[row, column]), np.int64(b[row, column])
                sum_a += x
                sum_b += y
                sum_aa += x * x
                sum_bb += y * y
                sum_ab += x * y
            cell = out[tile_row, tile_column]
            cell[0] += sum_a
            cell[1] += sum_b
            cell[2] += sum_aa
            cell[3] += sum_bb
            cell[4] += sum_ab


def tile_sums(a: NDArray[np.uint16], b: NDArray[np.uint16], side: int = TILE_PX) -> NDArray[np.int64]:
    """Exact sums over square tiles of two planes: A, B, A², B², AB; int64, shape (rows, columns, 5)."""
    rows, columns = a.shape[0] // side, a.shape[1] // side
    out = np.zeros((rows, columns, 5), np.int64)
    _tile_sums(a, b, side, out)
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
