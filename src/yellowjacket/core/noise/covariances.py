"""How alike pixels are that lie a few pixels apart. Compiled: imported where it is used."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


# Sums may be taken in any order: a patch has some thousands of pixels, and is looked at up to 85 times.
@numba.njit(cache=True, nogil=True, fastmath={"reassoc", "contract"})
def covariances(clean: NDArray[np.float64], most: int) -> NDArray[np.float64]:
    """Mean products of pixels (dy, dx) apart, shape (most + 1, 2 · most + 1); 0 where none are so far apart, and for the half
    of the first row that is the other's mirror image."""
    rows, columns = clean.shape
    found = np.zeros((most + 1, 2 * most + 1))
    for down in range(min(most + 1, rows)):
        for across in range(0 if down == 0 else -most, most + 1):
            begin, end = max(across, 0), columns + min(across, 0)
            if end <= begin:
                continue
            total = 0.0
            for y in range(down, rows):
                here, there = clean[y, begin:end], clean[y - down, begin - across : end - across]
                for n in range(here.size):
                    total += here[n] * there[n]
            found[down, across + most] = total / ((rows - down) * (end - begin))
    return found
