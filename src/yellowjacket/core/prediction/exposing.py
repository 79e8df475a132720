"""The sensor at work on a clean crop: light taken away electron by electron, noise, clipping, codes. Compiled, as every picture
of a page is made of a million such pixels."""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

# From this variance on a normal that was given the binomial's skew and kurtosis stands for it.
_NORMAL_FROM = 10.0
_6TH, _24TH, _36TH = 1.0 / 6.0, 1.0 / 24.0, 1.0 / 36.0
# More than are ever counted under that variance, one by one: a mean of 20 at most, and 24 σ.
_MOST = 96
_INVERSE = 1.0 / np.arange(1, _MOST + 1)
# Distributions are kept of so many electrons and fewer, and to this count, which nearly nothing is above.
_KEPT_WHOLE, _KEPT_COUNT = 2048, 48


@njit(cache=True, nogil=True, error_model="numpy")
def expose(
    mosaic: NDArray[np.uint16], tiles: NDArray[np.float32], shares: NDArray[np.float32], which: NDArray[np.int64],
    read_e: float, rows_e: NDArray[np.float32], columns_e: NDArray[np.float32], rng: np.random.Generator,
    electrons: NDArray[np.float32],
) -> None:  # fmt: skip # pragma: no cover - compiled
    """Write what is left of a crop's electrons, with the noise that comes to them, into ``electrons``; both of shape (h, w).

    ``tiles``: black in DN and gain in electrons per DN over the tile, shape (2, rows, columns). ``shares``: of light that are
    kept, 0 to 1; ``which`` of them is that of a place of the tile, shape (rows, columns). ``read_e``: σ of the noise of every
    pixel; ``rows_e``, ``columns_e``: what comes to a whole row or column, shapes (h,) and (w,).

    Of what is there every electron is kept with a chance. Noise that took a pixel below nothing is scaled by as much; of a
    broken number the part over the whole is one more electron as often as it says. Many are drawn from a normal that was given
    the skew and kurtosis of binomial and read noise together (Cornish and Fisher, 1937; from memory), few by inversion of the
    binomial's distribution.
    """
    _, rows, columns = tiles.shape
    read_variance = read_e * read_e
    known = np.zeros((shares.size, _KEPT_WHOLE + 1), np.bool_)
    below = np.empty((shares.size, _KEPT_WHOLE + 1, _KEPT_COUNT), np.float32)
    for y in range(mosaic.shape[0]):
        row = y % rows
        for column in range(columns):
            black, gain = np.float64(tiles[0, row, column]), np.float64(tiles[1, row, column])
            share = which[row, column]
            light = np.float64(shares[share])
            lost, skew, curve = 1.0 - light, 1.0 - 2.0 * light, 1.0 - 6.0 * light * (1.0 - light)
            # Where more than half is kept, what is lost is counted.
            drawn = min(light, lost)
            odds, of_none = drawn / (1.0 - drawn), math.log1p(-drawn)
            for x in range(column, mosaic.shape[1], columns):
                there = (mosaic[y, x] - black) * gain
                mean, z = there * light, rng.standard_normal()
                spread = mean * lost
                if spread >= _NORMAL_FROM:
                    variance, square = spread + read_variance, z * z
                    sigma = math.sqrt(variance)
                    per_sigma = 1.0 / sigma
                    of_all = spread * per_sigma * per_sigma
                    third, fourth = of_all * skew, of_all * curve
                    bent = fourth * (square - 3.0) * _24TH - third * third * (2.0 * square - 5.0) * _36TH
                    left = mean + sigma * z + third * _6TH * (square - 1.0) + bent * z * per_sigma
                elif there <= 0.0 or light >= 1.0:
                    left = mean + read_e * z
                else:
                    whole, chance = int(there), rng.random()
                    part, count = there - whole, -1
                    if light <= 0.5 and whole < _KEPT_WHOLE:
                        if not known[share, whole]:
                            for one in (whole, whole + 1):
                                _distribution(one, odds, math.exp(one * of_none), below[share, one])
                            known[share, whole] = True
                        count = _found(
                            below[share], whole, part, int(mean + 2.5 * (chance - 0.5) * math.sqrt(spread)), chance
                        )
                    if count < 0:
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
def _distribution(
    whole: int, odds: float, share: float, below: NDArray[np.float32]
) -> None:  # pragma: no cover - compiled
    """Write the shares of so many and fewer, as :func:`_inverted` adds them up; more than there are is certain."""
    sum_of = share
    for count in range(below.size):
        below[count] = sum_of if count < whole else 1.0
        if count < whole:
            share *= odds * (whole - count) * _INVERSE[count]
            sum_of += share


@njit(cache=True, nogil=True)
def _found(
    below: NDArray[np.float32], whole: int, part: float, near: int, chance: float
) -> int:  # pragma: no cover - compiled
    """The first count at which the distribution of ``whole`` electrons, and of one more as often as ``part`` says, reaches
    ``chance``, looked for from ``near`` on; −1 where it is not in the table."""
    of_whole, of_more = below[whole], below[whole + 1]
    count = near
    while count > 0 and of_whole[count - 1] + part * (of_more[count - 1] - of_whole[count - 1]) >= chance:
        count -= 1
    while of_whole[count] + part * (of_more[count] - of_whole[count]) < chance:
        count += 1
        if count == of_whole.size:
            return -1
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
