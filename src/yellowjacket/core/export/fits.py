"""FITS files by Astropy: master darks, calibrated frames, hot-pixel tables and masks."""

from __future__ import annotations

import io
import unicodedata
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from yellowjacket import __version__

if TYPE_CHECKING:
    from astropy.io import fits

Header = Mapping[str, tuple[str | float | int | None, str]]
# Bits of a mask, by class; the names stand in its header.
MASK_BITS = {"hot": 1, "warm": 2, "stuck": 4, "dead": 8, "blinking": 16}


# A card is ASCII (FITS standard 4.0, 4.1.2.1).
_PLAIN = {"−": "-", "⁻": "-", "–": "-", "±": "+/-", "×": "x", "°": " deg ", "·": "|", "…": "...", "µ": "u", "“": '"', "”": '"',
          "’": "'"}  # fmt: skip


def _header(cards: Header, history: Sequence[str] = ()) -> fits.Header:
    """A header of ASCII cards, unknown values left out."""
    from astropy.io import fits

    header = fits.Header()
    header["CREATOR"] = (f"Yellowjacket {__version__}", "")
    for key, (value, comment) in cards.items():
        if value is not None and value != "":
            header[key] = (_ascii(value) if isinstance(value, str) else value, _ascii(comment))
    for line in history:
        header.add_history(_ascii(line))
    return header


def _ascii(text: str) -> str:
    """Signs that a card cannot hold put plainly; what has no plain form keeps its code."""
    for sign, plain in _PLAIN.items():
        text = text.replace(sign, plain)
    return unicodedata.normalize("NFKD", text).encode("ascii", "namereplace").decode()


def image_bytes(data: NDArray[np.generic], cards: Header, history: Sequence[str] = ()) -> bytes:
    """An image as a FITS file with checksums; numbers keep their kind (float32, uint8 …). Shape (height, width)."""
    from astropy.io import fits

    return _written([fits.PrimaryHDU(np.asarray(data), _header(cards, history))])


def table_bytes(columns: Sequence[tuple[str, str, str, NDArray[np.generic]]], cards: Header) -> bytes:
    """A binary table as a FITS file. ``columns``: name, FITS format, unit, values. Values of shape (rows,)."""
    from astropy.io import fits

    made = [
        fits.Column(name=name, format=form, unit=unit or None, array=values) for name, form, unit, values in columns
    ]
    return _written([fits.PrimaryHDU(header=_header(cards)), fits.BinTableHDU.from_columns(made, name="PIXELS")])


def _written(parts: Sequence[fits.hdu.base._BaseHDU]) -> bytes:
    from astropy.io import fits

    buffer = io.BytesIO()
    fits.HDUList(list(parts)).writeto(buffer, checksum=True)
    return buffer.getvalue()


def read_image(path: Path) -> NDArray[np.float32]:
    """The image of a FITS file as float32. Raises OSError or ValueError for what is none, or fails its checksum.

    Shape (height, width).
    """
    from astropy.io import fits

    with fits.open(path, memmap=False, checksum=True) as parts:
        data = parts[0].data
        if data is None or data.ndim != 2:
            raise ValueError(f"{path.name} holds no image")
        return np.asarray(data, dtype=np.float32)


def mask_of(
    size: tuple[int, int], x: NDArray[np.integer], y: NDArray[np.integer], kinds: Sequence[str]
) -> NDArray[np.uint8]:
    """A mask of a frame of (width, height): 0 for good pixels, else the bits of MASK_BITS. Shape (height, width)."""
    mask = np.zeros((size[1], size[0]), np.uint8)
    for column, row, kind in zip(x.tolist(), y.tolist(), kinds, strict=True):
        mask[row, column] |= MASK_BITS.get(kind, 0)
    return mask
