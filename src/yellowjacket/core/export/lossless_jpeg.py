"""Lossless JPEG, as most cameras and DNG files hold raw numbers: each sample as its difference from the one before.

ITU-T T.81, process 14 with the first predictor (from memory). Decoders of raw files read it.
"""

from __future__ import annotations

import struct

import numpy as np
from numpy.typing import NDArray

_BITS = 16
# Differences by how many bits they have: from none to 16.
_CATEGORIES = 17
# Lengths of the codes, of the most frequent category first. They leave the code of ones alone free, as they must.
_LENGTHS = (2, 2, 3, 3, *range(4, 17))
_START, _FRAME, _TABLE, _SCAN, _END = b"\xff\xd8", b"\xff\xc3", b"\xff\xc4", b"\xff\xda", b"\xff\xd9"
_FIRST_PREDICTOR = 1


def lossless_jpeg(samples: NDArray[np.uint16]) -> memoryview:
    """The samples, shape (rows, columns, components), as a JPEG stream of 16 bits, of even length."""
    from yellowjacket.core.export.differences import count_categories, write_differences

    flat = np.ascontiguousarray(samples)
    counts = np.zeros(_CATEGORIES, np.int64)
    count_categories(flat, counts)
    order = np.argsort(-counts, kind="stable")
    codes, lengths = np.zeros(_CATEGORIES, np.uint32), np.zeros(_CATEGORIES, np.uint32)
    code, before = 0, _LENGTHS[0]
    for category, length in zip(order, _LENGTHS, strict=True):
        code <<= length - before
        codes[category], lengths[category] = code, length
        code, before = code + 1, length
    head = _head(flat.shape, order)
    # A code of 16 bits and 15 of the difference, every byte followed by an empty one: no sample takes more than eight bytes.
    out = np.empty(len(head) + 8 * flat.size + 8, np.uint8)
    out[: len(head)] = np.frombuffer(head, np.uint8)
    end = write_differences(flat, codes, lengths, out, len(head))
    tail = _END + b"\0" * (end % 2)
    out[end : end + len(tail)] = np.frombuffer(tail, np.uint8)
    return out[: end + len(tail)].data


def _head(shape: tuple[int, ...], order: NDArray[np.int64]) -> bytes:
    """What stands before the differences: the frame, the table, and which component goes by which table."""
    rows, columns, components = shape
    numbers = range(1, components + 1)
    frame = struct.pack(">BHHB", _BITS, rows, columns, components) + b"".join(bytes((n, 0x11, 0)) for n in numbers)
    table = bytes((0, *(_LENGTHS.count(length) for length in range(1, 17)), *(int(category) for category in order)))
    scan = bytes((components, *(part for n in numbers for part in (n, 0)), _FIRST_PREDICTOR, 0, 0))
    segments = ((_FRAME, frame), (_TABLE, table), (_SCAN, scan))
    return _START + b"".join(mark + struct.pack(">H", len(data) + 2) + data for mark, data in segments)
