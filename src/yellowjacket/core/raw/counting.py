"""The loops of histograms and tile sums, compiled. Imported where they run: the compiler takes its time to load.

The plain NumPy versions make several copies of a mosaic; these make none. Compiled once and kept on disk.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


@numba.njit(cache=True, nogil=True)
def count_codes(plane: NDArray[np.uint16], counts: NDArray[np.int64]) -> None:
    """Add the codes of a plane, shape (rows, columns), to counts of every code."""
    for row in range(plane.shape[0]):
        for column in range(plane.shape[1]):
            counts[plane[row, column]] += 1


@numba.njit(cache=True, nogil=True)
def sum_lines(plane: NDArray[np.uint16], rows: NDArray[np.int64], columns: NDArray[np.int64]) -> None:
    """Add the numbers of a plane, shape (rows, columns), to the sums of its rows and of its columns."""
    for row in range(plane.shape[0]):
        total = np.int64(0)
        for column in range(plane.shape[1]):
            value = np.int64(plane[row, column])
            total += value
            columns[column] += value
        rows[row] += total


@numba.njit(cache=True, nogil=True)
def sum_tiles(a: NDArray[np.uint16], b: NDArray[np.uint16], side: int, out: NDArray[np.int64]) -> None:
    """Write the sums of two planes into ``out``, shape (rows of tiles, columns of tiles, 5)."""
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


@numba.njit(cache=True, nogil=True)
def sum_cells(plane: NDArray[np.uint16], side: int, out: NDArray[np.uint32]) -> None:
    """Add the numbers of a plane in squares of ``side`` to ``out``, shape (rows of squares, columns of squares)."""
    for row in range(out.shape[0] * side):
        for column in range(out.shape[1]):
            total = np.uint32(0)
            for at in range(column * side, (column + 1) * side):
                total += np.uint32(plane[row, at])
            out[row // side, column] += total


@numba.njit(cache=True, nogil=True)
def sum_blocks(
    mosaic: NDArray[np.uint16], row_of: NDArray[np.int64], column_of: NDArray[np.int64], out: NDArray[np.uint64]
) -> None:
    """Add the numbers of a mosaic to ``out``, shape (sites of the tile, rows, columns) of blocks, by site. ``row_of``,
    ``column_of``: the block of each row and column of tiles."""
    step = mosaic.shape[0] // row_of.size
    for tile_row in range(row_of.size):
        for place in range(step * step):
            y, x = tile_row * step + place // step, place % step
            for tile_column in range(column_of.size):
                out[place, row_of[tile_row], column_of[tile_column]] += np.uint64(mosaic[y, tile_column * step + x])
