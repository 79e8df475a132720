"""The sensor at work on a clean crop: light taken away electron by electron, noise, clipping, codes. Compiled, as every picture
of a page is made of a million such pixels."""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

# From this variance on a normal that was given the binomial's skew and kurtosis stands for it.
_NORMAL_FROM = 10.0
# More than are ever counted under that variance, one by one: a mean of 20 at most, and 24 σ.
_MOST = 96
_INVERSE = 1.0 / np.arange(1, _MOST + 1)


@njit(cache=True, nogil=True)
def expose(
    mosaic: NDArray[np.uint16], tiles: NDArray[np.float32], read_e: float, rows_e: NDArray[np.float32],
    columns_e: NDArray[np.float32], normals: NDArray[np.float32], chances: NDArray[np.float64],
    electrons: NDArray[np.float32],
) -> None:  # fmt: skip # pragma: no cover - compiled
    """Write what is left of a crop's electrons, with the noise that comes to them, into ``electrons``; both of shape (h, w).

    ``tiles``: black in DN, gain in electrons per DN and the share of light that is kept, 0 to 1, over the tile, shape
    (3, rows, columns). ``read_e``: σ of the noise of every pixel; ``rows_e``, ``columns_e``: what comes to a whole row or
    column, shapes (h,) and (w,). ``normals`` and ``chances``: standard normal and uniform numbers, shape (h, w).

    Of what is there every electron is kept with a chance. Noise that took a pixel below nothing is scaled by as much; of a
    broken number the part over the whole is one more electron as often as it says. Many are drawn from a normal that was given
    the skew and kurtosis of binomial and read noise together (Cornish and Fisher, 1937; from memory), few by inversion of the
    binomial's distribution.
    """
    _, rows, columns = tiles.shape
    read_variance = read_e * read_e
    for y in range(mosaic.shape[0]):
        row = y % rows
        for column in range(columns):
            black, gain = np.float64(tiles[0, row, column]), np.float64(tiles[1, row, column])
            light = np.float64(tiles[2, row, column])
            lost, skew, curve = 1.0 - light, 1.0 - 2.0 * light, 1.0 - 6.0 * light * (1.0 - light)
            # Where more than half is kept, what is lost is counted.
            drawn = min(light, lost)
            odds, of_none = drawn / (1.0 - drawn), math.log1p(-drawn)
            for x in range(column, mosaic.shape[1], columns):
                there = (mosaic[y, x] - black) * gain
                mean, z = there * light, np.float64(normals[y, x])
                spread = mean * lost
                if spread >= _NORMAL_FROM:
                    variance, square = spread + read_variance, z * z
                    third, fourth = spread * skew / variance, spread * curve / variance
                    bent = fourth * (square - 3.0) / 24.0 - third * third * (2.0 * square - 5.0) / 36.0
                    sigma = math.sqrt(variance)
                    left = mean + sigma * z + third / 6.0 * (square - 1.0) + bent * z / sigma
                elif there <= 0.0 or light >= 1.0:
                    left = mean + read_e * z
                else:
                    whole, chance = math.floor(there), chances[y, x]
                    part = there - whole
                    if chance < part:
                        whole += 1
                        chance /= part
                    else:
                        chance = (chance - part) / (1.0 - part)
                    count = _inverted(whole, odds, math.exp(whole * of_none), chance)
                    left = (count if light <= 0.5 else whole - count) + read_e * z
                electrons[y, x] = left + rows_e[y] + columns_e[x]


@njit(cache=True, nogil=True)
def _inverted(whole: int, odds: float, share: float, chance: float) -> int:  # pragma: no cover - compiled
    """The count of a binomial at which its distribution reaches ``chance``; ``share``: of none, ``odds``: for one against."""
    below, count = share, 0
    while chance > below and count < whole and count < _MOST:
        share *= odds * (whole - count) * _INVERSE[count]
        below += share
        count += 1
    return count


@njit(cache=True, nogil=True)
def encode(
    electrons: NDArray[np.float32], tiles: NDArray[np.float32], most_e: float, step: float, white: float,
    codes: NDArray[np.uint16],
) -> None:  # fmt: skip # pragma: no cover - compiled
    """Write a crop's electrons, shape (h, w), as codes: saturated at ``most_e``, converted, rounded to ``step``, and cut at 0
    and ``white``.

    ``tiles``: gain in electrons per DN, where the file says black is, and by how many DN it lies above that, over the tile,
    shape (3, rows, columns). Codes are counted from where the file says black is.
    """
    _, rows, columns = tiles.shape
    for y in range(electrons.shape[0]):
        row = y % rows
        for column in range(columns):
            per_e, told, over = 1.0 / tiles[0, row, column], tiles[1, row, column], tiles[2, row, column]
            for x in range(column, electrons.shape[1], columns):
                signal = min(electrons[y, x], most_e) * per_e + over
                code = np.rint(np.rint(signal / step) * step + told)
                codes[y, x] = np.uint16(min(max(code, 0.0), white))
