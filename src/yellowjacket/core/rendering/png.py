"""PNG files that hold their pixels as they are: noise does not compress, and looking for a way takes longer than developing.

Written by hand because the usual writers choose a filter for every line even where nothing is compressed, which takes ten
times as long (ISO/IEC 15948, the PNG specification; chunk names and filter types from memory).
"""

from __future__ import annotations

import struct
import zlib

import numpy as np
from numpy.typing import NDArray

_SIGNATURE = b"\x89PNG\r\n\x1a\n"
_GREY, _COLOUR = 0, 2


def stored_png(picture: NDArray[np.uint8]) -> bytes:
    """A picture, shape (h, w) or (h, w, 3), as PNG; all pictures of one size are equally long.

    Raises ValueError for another shape or an empty picture.
    """
    if not (picture.ndim == 2 or (picture.ndim == 3 and picture.shape[2] == 3)) or 0 in picture.shape:
        raise ValueError(f"a picture is (h, w) or (h, w, 3) and not empty, not {picture.shape}")
    height, width = picture.shape[:2]
    # Every line begins with its filter: none.
    lines = np.zeros((height, 1 + picture[0].size), np.uint8)
    lines[:, 1:] = picture.reshape(height, -1)
    header = struct.pack(">IIBBBBB", width, height, 8, _GREY if picture.ndim == 2 else _COLOUR, 0, 0, 0)
    parts = ((b"IHDR", header), (b"IDAT", zlib.compress(lines.tobytes(), 0)), (b"IEND", b""))
    return _SIGNATURE + b"".join(_chunk(name, data) for name, data in parts)


def _chunk(name: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))
