"""The colours a site has not measured, filled in from its neighbours; compiled, as every crop of every wall needs it."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray


@njit(cache=True, nogil=True)
def balanced(
    area: NDArray[np.uint16], black: NDArray[np.float32], gain: NDArray[np.float32], padded: NDArray[np.float32]
) -> None:  # pragma: no cover - compiled
    """Write (area − black)·gain into ``padded``, which has two more rows and columns on every side: those mirror the rest,
    which leaves the pattern of colours as it is. ``black`` and ``gain`` by parity of row and column,
    shape (2, 2); ``area`` of shape (height, width), DN.
    """
    height, width = area.shape
    for y in range(-2, height + 2):
        row = abs(y) if y < height else 2 * height - 2 - y
        for x in range(width):
            padded[y + 2, x + 2] = (np.float32(area[row, x]) - black[row % 2, x % 2]) * gain[row % 2, x % 2]
        for n in range(2):
            padded[y + 2, 1 - n] = padded[y + 2, 3 + n]
            padded[y + 2, width + 2 + n] = padded[y + 2, width - n]


@njit(cache=True, nogil=True)
def filled_in(
    padded: NDArray[np.float32], colours: NDArray[np.int64], gradient: bool, result: NDArray[np.float32]
) -> None:  # pragma: no cover - compiled
    """Write RGB of every site into ``result``, shape (h, w, 3). ``padded``: balanced values with two more rows and columns
    on every side, (h + 4, w + 4); ``colours``: 0, 1, 2 for R, G, B by parity of row and column of the unpadded area.

    Plain: the mean of the nearest sites of a colour. ``gradient``: that, less how the measured colour bends there, in
    eighths (Malvar, He and Cutler 2004; from memory).
    """
    for y in range(result.shape[0]):
        for x in range(result.shape[1]):
            r, c = y + 2, x + 2
            own = colours[y % 2, x % 2]
            here = padded[r, c]
            level = padded[r, c - 1] + padded[r, c + 1]
            plumb = padded[r - 1, c] + padded[r + 1, c]
            slant = padded[r - 1, c - 1] + padded[r - 1, c + 1] + padded[r + 1, c - 1] + padded[r + 1, c + 1]
            far_level = padded[r, c - 2] + padded[r, c + 2]
            far_plumb = padded[r - 2, c] + padded[r + 2, c]
            result[y, x, own] = here
            if own == 1:
                # Left and right lies the colour of this row, above and below the other.
                beside = colours[y % 2, (x + 1) % 2]
                if gradient:
                    result[y, x, beside] = (5 * here + 4 * level - slant - far_level + far_plumb / 2) / 8
                    result[y, x, 2 - beside] = (5 * here + 4 * plumb - slant - far_plumb + far_level / 2) / 8
                else:
                    result[y, x, beside] = level / 2
                    result[y, x, 2 - beside] = plumb / 2
            elif gradient:
                far = far_level + far_plumb
                result[y, x, 1] = (4 * here + 2 * (level + plumb) - far) / 8
                result[y, x, 2 - own] = (6 * here + 2 * slant - 1.5 * far) / 8
            else:
                result[y, x, 1] = (level + plumb) / 4
                result[y, x, 2 - own] = slant / 4


@njit(cache=True, nogil=True)
def encoded(
    values: NDArray[np.floating], borders: NDArray[np.float64], guess: NDArray[np.uint8], result: NDArray[np.uint8]
) -> None:  # pragma: no cover - compiled
    """Write into ``result`` the codes of ``values`` (both of one dimension): 0 up to nothing, 255 from 1 on.

    ``borders[c]``: the smallest value above code c. ``guess``: for values from 0 to 1 in equal steps the code at the lower
    end of the step, from which the borders lead to the code itself.
    Shape (n,).
    """
    for n in range(values.size):
        value = values[n]
        if value >= 1.0:
            result[n] = 255
        elif value > 0.0:
            code = guess[int(value * guess.size)]
            while value >= borders[code]:
                code += 1
            result[n] = code
        else:
            result[n] = 0


@njit(cache=True, nogil=True)
def area_means(
    linear: NDArray[np.float32], tall: float, wide: float, result: NDArray[np.float32]
) -> None:  # pragma: no cover - compiled
    """Write into ``result``, shape (rows, columns, 3), the means of the areas of ``linear``, each ``tall`` rows by ``wide``
    columns, that its pixels cover; pixels that lie across a border count by their share."""
    height, width = linear.shape[:2]
    rows, columns = result.shape[:2]
    strip = np.empty((width, 3), np.float32)
    for row in range(rows):
        top, foot = row * tall, (row + 1) * tall
        strip[:] = 0.0
        for y in range(int(top), min(height, int(np.ceil(foot)))):
            share = np.float32(min(foot, y + 1.0) - max(top, float(y)))
            for x in range(width):
                for n in range(3):
                    strip[x, n] += share * linear[y, x, n]
        for column in range(columns):
            left, right = column * wide, (column + 1) * wide
            red = green = blue = np.float32(0.0)
            for x in range(int(left), min(width, int(np.ceil(right)))):
                share = np.float32(min(right, x + 1.0) - max(left, float(x)))
                red += share * strip[x, 0]
                green += share * strip[x, 1]
                blue += share * strip[x, 2]
            area = np.float32(tall * wide)
            result[row, column, 0] = red / area
            result[row, column, 1] = green / area
            result[row, column, 2] = blue / area
