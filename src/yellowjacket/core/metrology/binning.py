"""The loops of a histogram of whole numbers, compiled. Imported where they run: the compiler takes its time to load."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


@numba.njit(cache=True, nogil=True)
def ends_of(values: NDArray[np.float64]) -> tuple[int, int]:
    """The lowest and the highest of values, shape (n,), rounded to whole numbers."""
    lowest, highest = np.inf, -np.inf
    for n in range(values.size):
        lowest = min(lowest, values[n])
        highest = max(highest, values[n])
    return int(np.rint(lowest)), int(np.rint(highest))


@numba.njit(cache=True, nogil=True)
def bin_whole(values: NDArray[np.float64], lowest: int, counts: NDArray[np.int64]) -> None:
    """Add values, shape (n,), rounded to whole numbers, to counts of every number from the lowest on."""
    for n in range(values.size):
        counts[int(np.rint(values[n])) - lowest] += 1
