"""The loops of lossless JPEG, compiled: what each sample adds to the one before, and how that is written."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

_MIDDLE, _ALL = 1 << 15, (1 << 16) - 1
_MOST_BITS, _BYTE, _ONES = 16, 8, 255


@njit(cache=True, nogil=True, inline="always")
def difference(samples: NDArray[np.uint16], y: int, x: int, c: int) -> np.int64:  # pragma: no cover - compiled
    """A sample, of shape (rows, columns, components), less what is predicted: the one before in its row, at its start the one
    above, the middle of the range at the very first. From −32767 to 32768, as remainders of 65536 count."""
    if x > 0:
        predicted = np.int64(samples[y, x - 1, c])
    elif y > 0:
        predicted = np.int64(samples[y - 1, 0, c])
    else:
        predicted = np.int64(_MIDDLE)
    found = np.int64((np.int64(samples[y, x, c]) - predicted) & _ALL)
    return found - np.int64(_ALL + 1) if found > _MIDDLE else found


@njit(cache=True, nogil=True, inline="always")
def category(found: np.int64) -> int:  # pragma: no cover - compiled
    """How many bits the size of a difference has."""
    size, bits = abs(found), 0
    while size:
        size >>= 1
        bits += 1
    return bits


@njit(cache=True, nogil=True)
def count_categories(samples: NDArray[np.uint16], counts: NDArray[np.int64]) -> None:  # pragma: no cover - compiled
    """Add to ``counts``, shape (17,), how many differences of samples (rows, columns, components) have so many bits."""
    for y in range(samples.shape[0]):
        for x in range(samples.shape[1]):
            for c in range(samples.shape[2]):
                counts[category(difference(samples, y, x, c))] += 1


@njit(cache=True, nogil=True, inline="always")
def put(held: np.uint64, out: NDArray[np.uint8], at: int) -> int:  # pragma: no cover - compiled
    """Write the last eight bits of a number into the bytes ``out``, shape (bytes,), and an empty byte behind one of ones, so
    that it is taken for no mark; where they end."""
    out[at] = np.uint8(held & np.uint64(_ONES))
    if out[at] == _ONES:
        at += 1
        out[at] = 0
    return at + 1


@njit(cache=True, nogil=True)
def write_differences(
    samples: NDArray[np.uint16], codes: NDArray[np.uint32], lengths: NDArray[np.uint32], out: NDArray[np.uint8], at: int
) -> int:  # pragma: no cover - compiled
    """Write all differences into the bytes ``out`` from ``at`` on, each as the code of its category, shapes (17,), and its
    bits; where they end."""
    held, filled = np.uint64(0), 0
    for y in range(samples.shape[0]):
        for x in range(samples.shape[1]):
            for c in range(samples.shape[2]):
                found = difference(samples, y, x, c)
                bits = category(found)
                held = (held << np.uint64(lengths[bits])) | np.uint64(codes[bits])
                filled += int(lengths[bits])
                # The one of 16 bits can only be 32768, and is not written out.
                if bits and bits < _MOST_BITS:
                    below = 0 if found > 0 else (1 << bits) - 1
                    held = (held << np.uint64(bits)) | np.uint64(found + below)
                    filled += bits
                while filled >= _BYTE:
                    filled -= _BYTE
                    at = put(held >> np.uint64(filled), out, at)
    if filled:
        # Filled up with ones.
        rest = _BYTE - filled
        at = put((held << np.uint64(rest)) | np.uint64((1 << rest) - 1), out, at)
    return at
