"""Writing DNG files: a mosaic of any square tile, one without filters, or linear samples, with levels, matrix and Exif.

The layout follows the DNG 1.4 and TIFF 6 specifications (tag numbers from memory): a small
preview (JPEG) in the first directory, the raw mosaic in a sub-directory, plain, packed or as lossless JPEG, capture data in
the Exif directory. One strip, little-endian.
"""

from __future__ import annotations

import io
import math
import os
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import Enum
from fractions import Fraction
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from yellowjacket.core.export.lossless_jpeg import lossless_jpeg
from yellowjacket.core.raw.frame import Layout

# TIFF field types: code, bytes per item.
_BYTE, _ASCII, _SHORT, _LONG, _RATIONAL, _SRATIONAL = (1, 1), (2, 1), (3, 2), (4, 4), (5, 8), (10, 8)
_CFA_CODE = {"R": 0, "G": 1, "B": 2}
_PREVIEW_LONG_SIDE_PX = 256
_PREVIEW_QUALITY = 85
_PLAIN, _JPEG, _YCBCR = 1, 7, 6
# Exif ISOSpeedRatings is a SHORT; from here on the true value stands in RecommendedExposureIndex.
_ISO_SHORT_LIMIT = 65535
_BAYER_SIDE = 2
# Bits of a number.
_LONGEST = 16
# PhotometricInterpretation of a mosaic and of samples without filters.
_MOSAIC, _LINEAR_RAW = 32803, 34892
_D55_ILLUMINANT = 20
_MANUAL_EXPOSURE = 1
_RECOMMENDED_EXPOSURE_INDEX = 2
# Exif 2.31.
_AMBIENT_TEMPERATURE = 0x9400

Tag = tuple[int, tuple[int, int], int, bytes]


class Storage(Enum):
    """How a file holds its numbers: two bytes each; without a gap, as many bits each as the white level needs; or compressed
    without loss."""

    PLAIN = "plain"
    PACKED = "packed"
    COMPRESSED = "compressed"


@dataclass(frozen=True, slots=True)
class CaptureData:
    """What a body writes about a frame. Times in seconds, aperture as f-number, naive local clock, °C around it if it
    knows."""

    make: str
    model: str
    serial: str
    firmware: str
    iso: int
    exposure_s: Fraction
    f_number: Fraction
    captured_at: datetime
    temperature_c: float | None = None


@dataclass(frozen=True, slots=True)
class DngImage:
    """Raw numbers and their claims.

    ``mosaic``: uint16, shape (height, width), or (height, width, 3) for linear samples, DN. ``cfa``: colours of the square
    tile, row by row; none without filters. ``black_dn``: four levels, of a 2×2 tile in the same order; of other layouts
    the first counts. ``color_matrix``: XYZ → camera, 3×3. ``as_shot_neutral``: camera response to the scene's neutral,
    three values.
    """

    mosaic: NDArray[np.uint16]
    cfa: tuple[str, ...]
    black_dn: tuple[int, int, int, int]
    white_dn: int
    color_matrix: NDArray[np.float64]
    as_shot_neutral: Sequence[float]
    capture: CaptureData
    storage: Storage = Storage.PLAIN
    # By how much a converter is to brighten the picture.
    push_stops: float = 0.0

    @property
    def tile_side(self) -> int:
        """Pixels to the side of the tile; 0 without filters."""
        return math.isqrt(len(self.cfa))

    @property
    def bits(self) -> int:
        """Bits of a sample in the file: 16, or when packed the next even number that holds the white level."""
        packed = self.storage is Storage.PACKED
        return min(_LONGEST, (max(self.white_dn.bit_length(), 8) + 1) // 2 * 2) if packed else _LONGEST


def filters_of(layout: Layout) -> tuple[str, ...]:
    """The tile of a layout as DngImage takes it."""
    return tuple(name[0] for row in layout.tile for name in row) if layout.coloured and not layout.demosaiced else ()


def write_dng(path: Path, image: DngImage) -> None:
    """Write ``image`` to ``path``; the file appears whole or not at all.

    Raises ValueError when the mosaic is no uint16 array of two axes, or of three with three samples, or when the tile is
    not square, or does not fit 2×2 mosaics of odd sides, or when numbers cannot be stored as asked.
    """
    shape = image.mosaic.shape
    if (
        image.mosaic.dtype != np.uint16
        or len(shape) not in (2, 3)
        or (len(shape) == 3 and (shape[2] != 3 or image.cfa))
    ):
        raise ValueError(f"mosaic must be 2-D uint16, or have 3 samples, got {image.mosaic.dtype} of shape {shape}")
    if len(image.cfa) != image.tile_side**2:
        raise ValueError(f"a tile of {len(image.cfa)} filters is not square")
    if image.tile_side == _BAYER_SIDE and (shape[0] % 2 or shape[1] % 2):
        raise ValueError(f"mosaic sides must be even, got {shape}")
    if image.storage is Storage.COMPRESSED and (not image.cfa or shape[1] % 2):
        raise ValueError("what is compressed has filters and even rows")
    if image.storage is Storage.PACKED and (
        image.mosaic.shape[1] % 4 or int(image.mosaic.max(initial=0)) >> image.bits
    ):
        raise ValueError("packed rows are a multiple of four long, and no number exceeds the white level's bits")
    partial = path.with_name(f".{path.name}.{os.getpid()}.part")
    with partial.open("wb") as file:
        for block in _layout(image):
            file.write(block)
    partial.replace(path)


def _layout(image: DngImage) -> list[bytes | memoryview]:
    """The file as blocks: header, first directory, Exif, raw directory, preview, mosaic."""
    preview = _preview(image)
    compressed = _as_jpeg(preview)
    height, width = image.mosaic.shape[:2]
    samples = 1 if image.mosaic.ndim == 2 else 3
    mosaic = _stored(image)
    how = _JPEG if image.storage is Storage.COMPRESSED else _PLAIN
    raw_tags = [
        _longs(254, 0), _longs(256, width), _longs(257, height), _shorts(258, *[image.bits] * samples), _shorts(259, how),
        _shorts(262, _MOSAIC if image.cfa else _LINEAR_RAW), _longs(273, 0), _shorts(277, samples), _longs(278, height),
        _longs(279, len(mosaic)), _shorts(284, 1), *_filter_tags(image, samples),
        _longs(50717, *[image.white_dn] * samples),
    ]  # fmt: skip
    exif_tags = _exif_tags(image.capture)
    first_tags = [
        _longs(254, 1), _longs(256, preview.shape[1]), _longs(257, preview.shape[0]), _shorts(258, 8, 8, 8),
        _shorts(259, _JPEG), _shorts(262, _YCBCR), _ascii(271, image.capture.make), _ascii(272, image.capture.model),
        _longs(273, 0), _shorts(274, 1), _shorts(277, 3), _longs(278, preview.shape[0]),
        _longs(279, len(compressed)), _shorts(284, 1), _ascii(305, image.capture.firmware),
        _ascii(306, _exif_time(image.capture.captured_at)), _longs(330, 0), _shorts(530, 1, 1), _longs(34665, 0),
        _bytes(50706, b"\x01\x04\x00\x00"), _bytes(50707, b"\x01\x01\x00\x00"),
        _ascii(50708, f"{image.capture.make} {image.capture.model}"),
        _rationals(50721, *np.ravel(image.color_matrix), signed=True),
        _rationals(50728, *image.as_shot_neutral), *_push(image), _ascii(50735, image.capture.serial),
        _shorts(50778, _D55_ILLUMINANT),
    ]  # fmt: skip
    first_at = 8
    exif_at = first_at + _directory_size(first_tags)
    raw_at = exif_at + _directory_size(exif_tags)
    preview_at = raw_at + _directory_size(raw_tags)
    mosaic_at = preview_at + len(compressed)
    first = _directory(_patched(first_tags, {273: preview_at, 330: raw_at, 34665: exif_at}), first_at)
    raw = _directory(_patched(raw_tags, {273: mosaic_at}), raw_at)
    return [
        b"II*\0" + struct.pack("<I", first_at), first, _directory(exif_tags, exif_at), raw,
        compressed, mosaic,
    ]  # fmt: skip


def _push(image: DngImage) -> list[Tag]:
    """BaselineExposure, where there is any."""
    return [_rationals(50730, image.push_stops, signed=True)] if image.push_stops else []


def _filter_tags(image: DngImage, samples: int) -> list[Tag]:
    """The tile and the black levels: of a 2×2 tile by place, else one for each sample."""
    side = image.tile_side
    tile = [_shorts(33421, side, side), _bytes(33422, bytes(_CFA_CODE[c] for c in image.cfa))] if side else []
    if side == _BAYER_SIDE:
        return [*tile, _shorts(50713, 2, 2), _rationals(50714, *image.black_dn)]
    return [*tile, _shorts(50713, 1, 1), _rationals(50714, *[image.black_dn[0]] * samples)]


def _stored(image: DngImage) -> bytes | memoryview:
    """The numbers as the file holds them."""
    if image.storage is Storage.COMPRESSED:
        # Of two components, so that most pixels are predicted from one of their own colour.
        return lossless_jpeg(image.mosaic.reshape(image.mosaic.shape[0], -1, 2))
    if image.bits < _LONGEST:
        return _packed(image)
    return np.ascontiguousarray(image.mosaic.astype("<u2", copy=False)).reshape(-1).view(np.uint8).data


def _packed(image: DngImage) -> bytes:
    """Four numbers at a time, the first in the highest bits (TIFF 6.0, FillOrder 1; from memory)."""
    four = image.mosaic.reshape(-1, 4).astype(np.uint64)
    word = four[:, 0]
    for place in range(1, 4):
        word = (word << np.uint64(image.bits)) | four[:, place]
    used = image.bits // 2
    return word.astype(">u8").view(np.uint8).reshape(-1, 8)[:, 8 - used :].tobytes()


def _exif_tags(capture: CaptureData) -> list[Tag]:
    taken = _exif_time(capture.captured_at)
    ambient = (
        [] if capture.temperature_c is None else [_rationals(_AMBIENT_TEMPERATURE, capture.temperature_c, signed=True)]
    )
    return [
        *ambient,
        _rationals(33434, capture.exposure_s), _rationals(33437, capture.f_number), _shorts(34850, _MANUAL_EXPOSURE),
        _shorts(34855, min(capture.iso, _ISO_SHORT_LIMIT)), _shorts(34864, _RECOMMENDED_EXPOSURE_INDEX),
        _longs(34866, capture.iso), _bytes(36864, b"0230", kind=7), _ascii(36867, taken), _ascii(36868, taken),
        _ascii(37521, f"{capture.captured_at.microsecond // 10_000:02d}"), _ascii(42033, capture.serial),
    ]  # fmt: skip


def _exif_time(moment: datetime) -> str:
    return moment.strftime("%Y:%m:%d %H:%M:%S")


def _preview(image: DngImage) -> NDArray[np.uint8]:
    """A small RGB picture for file browsers: one pixel per block of tiles, as-shot neutral, display gamma."""
    side = image.tile_side or 1
    step = side * max(1, -(-max(image.mosaic.shape) // (side * _PREVIEW_LONG_SIDE_PX)))
    black = float(image.black_dn[0])
    span = max(image.white_dn - black, 1.0)
    rows, columns = (length // side * side for length in image.mosaic.shape[:2])
    planes = []
    for n, colour in enumerate("RGB"):
        if image.mosaic.ndim == 3:
            plane = image.mosaic[::step, ::step, n]
        else:
            position = image.cfa.index(colour) if image.cfa else 0
            plane = image.mosaic[position // side : rows : step, position % side : columns : step]
        planes.append(np.clip((plane.astype(np.float64) - black) / (image.as_shot_neutral[n] * span), 0.0, 1.0))
    stack = np.stack(planes, axis=-1)
    return np.round(255 * stack ** (1 / 2.2)).astype(np.uint8)


def _as_jpeg(preview: NDArray[np.uint8]) -> bytes:
    """The small picture as a DNG may hold it (DNG 1.4, preview images; from memory), of even length."""
    into = io.BytesIO()
    Image.fromarray(preview).save(into, "JPEG", quality=_PREVIEW_QUALITY, subsampling="4:4:4")
    return into.getvalue() + b"\0" * (into.tell() % 2)


def _longs(tag: int, *values: int) -> Tag:
    return (tag, _LONG, len(values), struct.pack(f"<{len(values)}I", *values))


def _shorts(tag: int, *values: int) -> Tag:
    return (tag, _SHORT, len(values), struct.pack(f"<{len(values)}H", *values))


def _bytes(tag: int, value: bytes, kind: int = 1) -> Tag:
    return (tag, (kind, 1), len(value), value)


def _ascii(tag: int, text: str) -> Tag:
    data = text.encode("ascii", "replace") + b"\0"
    return (tag, _ASCII, len(data), data)


def _rationals(tag: int, *values: Fraction | float, signed: bool = False) -> Tag:
    parts: list[int] = []
    for value in values:
        ratio = value if isinstance(value, Fraction) else Fraction(float(value)).limit_denominator(1_000_000)
        parts += [ratio.numerator, ratio.denominator]
    kind, code = (_SRATIONAL, "i") if signed else (_RATIONAL, "I")
    return (tag, kind, len(values), struct.pack(f"<{len(parts)}{code}", *parts))


def _directory_size(tags: list[Tag]) -> int:
    return 2 + 12 * len(tags) + 4 + sum(_padded(len(data)) for *_, data in tags if len(data) > 4)


def _padded(size: int) -> int:
    return size + size % 2


def _patched(tags: list[Tag], offsets: dict[int, int]) -> list[Tag]:
    """The same tags with the file offsets filled in, now that the layout is known."""
    return [_longs(tag[0], offsets[tag[0]]) if tag[0] in offsets else tag for tag in tags]


def _directory(tags: list[Tag], at: int) -> bytes:
    """One TIFF directory placed at byte ``at``, values that do not fit the entries right behind it."""
    entries, overflow = b"", b""
    overflow_at = at + 2 + 12 * len(tags) + 4
    for tag, (kind, _size), count, data in sorted(tags):
        if len(data) <= 4:
            value = data.ljust(4, b"\0")
        else:
            value = struct.pack("<I", overflow_at + len(overflow))
            overflow += data.ljust(_padded(len(data)), b"\0")
        entries += struct.pack("<HHI", tag, kind, count) + value
    return struct.pack("<H", len(tags)) + entries + b"\0\0\0\0" + overflow
