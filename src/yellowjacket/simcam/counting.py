"""The passes over every pixel of a simulated frame, each of them once: compiled, in the arithmetic of NumPy's float32."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

Plane = NDArray[np.float32]


@njit(cache=True, nogil=True)
def count_bright(
    means: Plane, least: np.float32, z: NDArray[np.float32], counts: Plane
) -> None:  # pragma: no cover - compiled
    """Write a Poisson count for each mean of ``least`` and more, flat arrays of one size: a rounded normal ``z``, one for each of
    them, with the variance and skew of the count (Cornish and Fisher, 1937; from memory)."""
    one, six, at = np.float32(1), np.float32(6), 0
    for n in range(means.size):
        mean = means[n]
        if mean >= least:
            counts[n] = np.rint(mean + np.sqrt(mean) * z[at] + (z[at] * z[at] - one) / six)
            at += 1


@njit(cache=True, nogil=True)
def amplify(
    electrons: Plane, offset_e: Plane, before: tuple[np.float32, Plane], rows: Plane, gain: np.float32,
    after: tuple[np.float32, Plane], errors: Plane, signal: Plane,
) -> None:  # fmt: skip # pragma: no cover - compiled
    """Write the converter's input in DN over black, shape (rows, columns): electrons with their offset, noise before the gain,
    the noise of their row, shape (rows,), gain, noise after it, and the error of the black level at the place of the 2×2 tile.

    ``before``, ``after``: σ and a standard normal for each pixel.
    """
    for y in range(signal.shape[0]):
        for x in range(signal.shape[1]):
            level = electrons[y, x] + offset_e[y, x] + before[0] * before[1][y, x] + rows[y]
            signal[y, x] = level * gain + after[0] * after[1][y, x] + errors[y % 2, x % 2]


@njit(cache=True, nogil=True)
def round_off(
    signal: Plane, black: np.float32, factor: np.float32, white: np.float32, codes: NDArray[np.uint16]
) -> None:  # pragma: no cover - compiled
    """Write the codes of a converter's input: black, rounding, multiplication by ``factor``, and the range's ends."""
    zero = np.float32(0)
    for y in range(signal.shape[0]):
        for x in range(signal.shape[1]):
            code = np.rint(signal[y, x] + black)
            if factor > 1:
                # Whole numbers times a factor: codes in between stay empty.
                code = np.rint((min(max(code, zero), white) - black) * factor + black)
            codes[y, x] = np.uint16(min(max(code, zero), white))
