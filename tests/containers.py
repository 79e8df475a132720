"""Containers of raw files around Exif of made-up bodies, from their published structure, to hold the metadata reader against.

Structures from memory: TIFF 6.0 and TIFF/EP (ISO 12234-2); ISO base media (ISO/IEC 14496-12) with the boxes CMT1 to CMT4 under
a "uuid" box in "moov"; a header of its own that points at a whole JPEG with Exif; JPEG with an APP1 segment (CIPA DC-008).
"""

from __future__ import annotations

import io
import struct
from collections.abc import Sequence

from PIL import Image

BYTE, ASCII, SHORT, LONG, RATIONAL, UNDEFINED, SRATIONAL = 1, 2, 3, 4, 5, 7, 10
_CODES = {BYTE: "B", SHORT: "H", LONG: "I", RATIONAL: "I", SRATIONAL: "i"}
EXIF_POINTER = 34665
# Tag, type, values: numbers, or bytes for BYTE, ASCII and UNDEFINED.
Entry = tuple[int, int, Sequence[int] | bytes]
_MEDIA_UUID = bytes.fromhex("85c0b687820f11e08111f4ce462b6a48")
# First sixteen bytes of the container with a JPEG in it.
_JPEG_HOLDER = bytes.fromhex("46554a4946494c4d4343442d52415720")
BODY: list[Entry] = [(271, ASCII, b"Ostrel\0"), (272, ASCII, b"Heath\0"), (305, ASCII, b"1.10\0")]
CAPTURE: list[Entry] = [
    (33434, RATIONAL, (8, 10000)), (33437, RATIONAL, (56, 10)), (34855, SHORT, (3200,)),
    (36867, ASCII, b"2026:03:14 20:01:02\0"), (36881, ASCII, b"+01:00\0"), (37521, ASCII, b"25\0"),
    (37888, SRATIONAL, (-55, 10)), (42033, ASCII, b"OH-0417\0"), (42036, ASCII, b"Ostrel 50 mm\0"),
]  # fmt: skip


def directory(entries: Sequence[Entry], at: int, following: int = 0, order: str = "<") -> bytes:
    """An image file directory that stands at ``at``, with what does not fit four bytes behind it."""
    found, heap = bytearray(), bytearray()
    heap_at = at + 2 + 12 * len(entries) + 4
    for tag, kind, values in sorted(entries, key=lambda one: one[0]):
        if isinstance(values, bytes):
            packed, count = values, len(values)
        else:
            packed = struct.pack(f"{order}{len(values)}{_CODES[kind]}", *values)
            count = len(values) // (2 if kind in (RATIONAL, SRATIONAL) else 1)
        if len(packed) > 4:
            place = struct.pack(f"{order}I", heap_at + len(heap))
            heap += packed + b"\0" * (len(packed) % 2)
        else:
            place = packed.ljust(4, b"\0")
        found += struct.pack(f"{order}HHI", tag, kind, count) + place
    return struct.pack(f"{order}H", len(entries)) + bytes(found) + struct.pack(f"{order}I", following) + bytes(heap)


def tiff(first: Sequence[Entry] = BODY, exif: Sequence[Entry] = CAPTURE, order: str = "<") -> bytes:
    """A file of TIFF structure: a first directory that points to an Exif directory behind it."""
    entries = [*first, (EXIF_POINTER, LONG, (0,))]
    exif_at = 8 + len(directory(entries, 8, order=order))
    entries[-1] = (EXIF_POINTER, LONG, (exif_at,))
    head = (b"II*\0" if order == "<" else b"MM\0*") + struct.pack(f"{order}I", 8)
    return head + directory(entries, 8, order=order) + directory(exif, exif_at, order=order)


def flat_tiff(entries: Sequence[Entry], order: str = "<") -> bytes:
    """TIFF structure with a single directory, as boxes of a media container hold it; TIFF/EP keeps all tags in one, too."""
    return (b"II*\0" if order == "<" else b"MM\0*") + struct.pack(f"{order}I", 8) + directory(entries, 8, order=order)


def box(kind: bytes, content: bytes) -> bytes:
    """A box of ISO base media: length, kind, content."""
    return struct.pack(">I", 8 + len(content)) + kind + content


def media(first: Sequence[Entry] = BODY, exif: Sequence[Entry] = CAPTURE) -> bytes:
    """The container whose Exif lies in boxes CMT1 (first directory) and CMT2 (Exif directory)."""
    boxes = (
        box(b"CMT1", flat_tiff(first))
        + box(b"CMT2", flat_tiff(exif))
        + box(b"CMT3", flat_tiff([]))
        + box(b"CMT4", flat_tiff([]))
    )
    return (
        box(b"ftyp", b"crx \0\0\0\1crx isom")
        + box(b"moov", box(b"uuid", _MEDIA_UUID + boxes))
        + box(b"mdat", b"\0" * 64)
    )


def jpeg(exif: bytes | None = None) -> bytes:
    """A small JPEG with Exif in its APP1 segment."""
    file = io.BytesIO()
    Image.new("RGB", (64, 48), (90, 90, 90)).save(file, "JPEG")
    whole = file.getvalue()
    block = b"Exif\0\0" + (tiff() if exif is None else exif)
    return whole[:2] + b"\xff\xe1" + struct.pack(">H", 2 + len(block)) + block + whole[2:]


def jpeg_holder(exif: bytes | None = None) -> bytes:
    """The container with a header of its own that points to a JPEG, in which the Exif lies; no mosaic follows."""
    inner = jpeg(exif)
    jpeg_at = 160
    header = _JPEG_HOLDER + b"0201" + b"\0" * 8 + b"Heath".ljust(32, b"\0") + b"0100" + b"\0" * 20
    behind = jpeg_at + len(inner)
    # Places and lengths of the JPEG, of a table of the mosaic, and of the mosaic.
    header += struct.pack(">6I", jpeg_at, len(inner), behind, 64, behind + 64, 64)
    return header.ljust(jpeg_at, b"\0") + inner + b"\0" * 128
