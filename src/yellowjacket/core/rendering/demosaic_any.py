"""Colours filled in on tiles of any pattern, by normalised convolution: what a colour's pixels around a site say, weighted by
how near they are, over the weights themselves (Knutsson and Westin 1993; from memory). Exact at measured sites.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

# Pixels looked at each way, and the width (σ) of the weights: the nearest of a rare colour lies up to three pixels off.
_REACH_PX, _WIDTH_PX = 4, 1.0
# Differences of colours vary slower than the colours themselves.
_DIFFERENCE_WIDTH_PX = 1.4


def any_tile(values: NDArray[np.float32], colours: NDArray[np.int64], *, by_green: bool) -> NDArray[np.float32]:
    """RGB of every site, shape (height, width, 3), from balanced values of shape (height, width).

    ``colours``: 0, 1, 2 for R, G, B over one tile, whose first pixel is that of ``values``. Plain: each colour by itself.
    ``by_green``: green first; red and blue then by their difference to it, which edges leave alone.
    """
    result = np.empty((*values.shape, 3), np.float32)
    near = _weights(_WIDTH_PX)
    if not by_green:
        _convolved(values, colours, near, np.array([True, True, True]), result)
        return result
    _convolved(values, colours, near, np.array([False, True, False]), result)
    green = result[..., 1].copy()
    _convolved(values - green, colours, _weights(_DIFFERENCE_WIDTH_PX), np.array([True, False, True]), result)
    result[..., 0] += green
    result[..., 2] += green
    return result


def _weights(width_px: float) -> NDArray[np.float32]:
    at = np.arange(-_REACH_PX, _REACH_PX + 1)
    return np.exp(-(at[:, None] ** 2 + at[None, :] ** 2) / (2 * width_px**2)).astype(np.float32)


@njit(cache=True, nogil=True)
def balanced_tile(
    area: NDArray[np.uint16], black: NDArray[np.float32], gain: NDArray[np.float32], values: NDArray[np.float32]
) -> None:  # pragma: no cover - compiled
    """Write (area − black)·gain into ``values``, both of shape (height, width); ``black`` and ``gain`` over one tile."""
    rows, columns = black.shape
    for y in range(area.shape[0]):
        for x in range(area.shape[1]):
            r, c = y % rows, x % columns
            values[y, x] = (np.float32(area[y, x]) - black[r, c]) * gain[r, c]


@njit(cache=True, nogil=True)
def _convolved(
    values: NDArray[np.float32],
    colours: NDArray[np.int64],
    weights: NDArray[np.float32],
    wanted: NDArray[np.bool_],
    result: NDArray[np.float32],
) -> None:  # pragma: no cover - compiled
    """The ``wanted`` of the three colours, each by itself, into ``result``; the others stay what they are."""
    height, width = values.shape
    rows, columns = colours.shape
    reach = weights.shape[0] // 2
    above, below = np.empty(3, np.float32), np.empty(3, np.float32)
    # Remainders are worked out once: each pixel is looked at from all around it.
    along = np.arange(width) % columns
    for y in range(height):
        for x in range(width):
            above[:] = 0
            below[:] = 0
            for j in range(max(0, y - reach), min(height, y + reach + 1)):
                row = j % rows
                for i in range(max(0, x - reach), min(width, x + reach + 1)):
                    colour = colours[row, along[i]]
                    if wanted[colour]:
                        weight = weights[j - y + reach, i - x + reach]
                        above[colour] += weight * values[j, i]
                        below[colour] += weight
            for colour in range(3):
                if wanted[colour]:
                    result[y, x, colour] = above[colour] / max(below[colour], np.float32(1e-12))
            own = colours[y % rows, along[x]]
            if wanted[own]:
                result[y, x, own] = values[y, x]
