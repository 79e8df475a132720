"""Reading frames: the un-demosaiced mosaic, its levels and its metadata, copied out of LibRaw.

The only module that opens raw files. LibRaw (through rawpy) decodes, ExifRead reads the tags that
LibRaw does not hand out. Black and white from the file are claims; darks overrule them elsewhere.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import exifread
import numpy as np
import rawpy
from numpy.typing import NDArray

CHANNELS = ("R", "G1", "G2", "B")
# Exif writes this where the true ISO does not fit sixteen bits; the true one stands in another tag.
_ISO_OVERFLOW = 65535
_ISO_TAGS = ("EXIF RecommendedExposureIndex", "EXIF ISOSpeed", "EXIF StandardOutputSensitivity")
_COLOR_MATRIX_TAGS = ("Image ColorMatrix1", "Image Tag 0xC621")
_SERIAL_TAGS = ("EXIF BodySerialNumber", "Image CameraSerialNumber", "Image Tag 0xC62F")
_HASH_BLOCK_BYTES = 1 << 20


class FrameError(Exception):
    """A file that cannot be used as a frame: ``code`` for programs, ``reason`` and ``remedy`` for people."""

    def __init__(self, path: Path, code: str, reason: str, remedy: str) -> None:
        super().__init__(f"{path.name}: {reason} {remedy}")
        self.path, self.code, self.reason, self.remedy = path, code, reason, remedy

    def __reduce__(self) -> tuple[type[FrameError], tuple[Path, str, str, str]]:
        # Errors travel from worker processes; the default would call __init__ with the message alone.
        return FrameError, (self.path, self.code, self.reason, self.remedy)


@dataclass(frozen=True, slots=True)
class FrameMetadata:
    """What a file says about its capture; None where it says nothing. Times in s, clock naive."""

    make: str
    model: str
    serial: str
    firmware: str
    iso: int | None
    exposure_s: float | None
    f_number: float | None
    captured_at: datetime | None


@dataclass(frozen=True, slots=True, eq=False)
class RawFrame:
    """A Bayer mosaic in DN with its claims.

    ``mosaic``: uint16, shape (height, width), the full raw area. ``offsets``: for each channel name
    the (row, column) of its site in the 2×2 tile. ``black_dn`` by channel; ``white_dn`` for all.
    ``xyz_to_camera``: 3×3 matrix from the file, or None. ``neutral``: camera response to the neutral
    the body assumed (R, G, B; green 1), or None.
    """

    mosaic: NDArray[np.uint16]
    offsets: dict[str, tuple[int, int]]
    black_dn: dict[str, float]
    white_dn: float
    xyz_to_camera: NDArray[np.float64] | None
    neutral: NDArray[np.float64] | None

    def plane(self, channel: str) -> NDArray[np.uint16]:
        """A view of one channel's sites, shape (height // 2, width // 2)."""
        row, column = self.offsets[channel]
        height, width = self.mosaic.shape
        return self.mosaic[row : height - height % 2 : 2, column : width - width % 2 : 2]


def sha256_of(path: Path) -> str:
    """Hex digest of the file's content, read in blocks."""
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while block := file.read(_HASH_BLOCK_BYTES):
            digest.update(block)
    return digest.hexdigest()


def read_frame(path: Path) -> RawFrame:
    """Decode a raw file. The mosaic is a copy that outlives the file.

    Raises FrameError for files that are empty, cut short, not raw, or of a layout not yet read.
    """
    with _opened(path) as raw:
        return _frame(path, raw)


def read_with_metadata(path: Path) -> tuple[RawFrame, FrameMetadata]:
    """Decode a raw file once and read what it says about its capture. Raises FrameError like read_frame."""
    with _opened(path) as raw:
        frame = _frame(path, raw)
        other = raw.other
    tags = _exif_tags(path)
    metadata = FrameMetadata(
        make=_text(tags, "Image Make"),
        model=_text(tags, "Image Model"),
        serial=next((text for name in _SERIAL_TAGS if (text := _text(tags, name))), ""),
        firmware=_text(tags, "Image Software"),
        iso=_iso(tags, other.iso_speed),
        exposure_s=_number(tags, "EXIF ExposureTime") or _positive(other.shutter_speed),
        f_number=_number(tags, "EXIF FNumber") or _positive(other.aperture),
        captured_at=_moment(tags),
    )
    return frame, metadata


def _frame(path: Path, raw: Any) -> RawFrame:
    try:
        # raw_image is a view into LibRaw's memory and dies with the file.
        mosaic = np.array(raw.raw_image, dtype=np.uint16)
    except (rawpy.LibRawError, AttributeError, TypeError, ValueError) as error:
        raise FrameError(
            path, "truncated", "is cut short or damaged and could not be decoded.", "Copy it from the card again."
        ) from error
    if mosaic.ndim != 2 or min(mosaic.shape) < 2:
        raise FrameError(path, "no-mosaic", "holds no sensor mosaic.", "Shoot uncompressed or lossless raw.")
    offsets, black_dn = _layout(path, raw.raw_pattern, raw.color_desc.decode(), raw.black_level_per_channel)
    white = float(raw.white_level)
    if white <= max(black_dn.values()):
        raise FrameError(
            path, "levels", f"says white {white:g} is not above black {max(black_dn.values()):g}.",
            "Convert it to DNG with correct levels, or leave it out.",
        )  # fmt: skip
    matrix = np.array(raw.rgb_xyz_matrix[:3], dtype=np.float64)
    known = matrix if matrix.any() else _matrix_from_tags(path)
    return RawFrame(mosaic, offsets, black_dn, white, known, _neutral(raw.camera_whitebalance))


@contextlib.contextmanager
def _opened(path: Path) -> Iterator[Any]:
    """The file opened by LibRaw, its refusals turned into ours."""
    try:
        size = path.stat().st_size
        if not path.is_file() or not os.access(path, os.R_OK):
            raise PermissionError
    except OSError as error:
        raise FrameError(
            path, "unreadable", "cannot be opened.", "Check that it is still there and that you may read it."
        ) from error
    if size == 0:
        raise FrameError(path, "empty", "is empty.", "Copy it from the card again.")
    try:
        raw = rawpy.imread(str(path))
    except rawpy.LibRawError as error:
        # No header that LibRaw knows. A damaged raw file keeps its header and fails later, when decoded.
        raise FrameError(
            path, "not-raw", "is not a raw file, whatever its name says.", "Import the raw file of this shot instead."
        ) from error
    try:
        yield raw
    finally:
        raw.close()


def _layout(
    path: Path, pattern: NDArray[np.uint8] | None, colours: str, black: list[int]
) -> tuple[dict[str, tuple[int, int]], dict[str, float]]:
    """Channel sites and blacks; black levels come ordered by colour index, not by place in the tile."""
    if pattern is None or pattern.shape != (2, 2) or pattern.max() >= len(colours):
        raise FrameError(
            path, "cfa", "has a colour-filter layout other than a 2×2 mosaic.", "Use a body with a Bayer sensor."
        )
    tile = [[colours[pattern[row, column]] for column in (0, 1)] for row in (0, 1)]
    if sorted(tile[0] + tile[1]) != ["B", "G", "G", "R"]:
        raise FrameError(path, "cfa", f"has the colours {tile}, not red, two greens, blue.", "Use a Bayer raw file.")
    offsets: dict[str, tuple[int, int]] = {}
    black_dn: dict[str, float] = {}
    red_row = 0 if "R" in tile[0] else 1
    for row in (0, 1):
        for column in (0, 1):
            colour = tile[row][column]
            name = colour if colour != "G" else ("G1" if row == red_row else "G2")
            offsets[name] = (row, column)
            black_dn[name] = float(black[pattern[row, column]])
    return offsets, black_dn


def _neutral(multipliers: list[float]) -> NDArray[np.float64] | None:
    red, green, blue = multipliers[:3]
    if not (red > 0 and green > 0 and blue > 0):
        return None
    return np.array([green / red, 1.0, green / blue])


def _exif_tags(path: Path) -> dict[str, Any]:
    """Tags of the file, or none when the tag reader stumbles: metadata is a claim, never a reason to fail."""
    with path.open("rb") as file:
        try:
            return dict(exifread.process_file(file, details=False))
        except Exception:
            return {}


def _matrix_from_tags(path: Path) -> NDArray[np.float64] | None:
    tags = _exif_tags(path)
    tag = next((tags[name] for name in _COLOR_MATRIX_TAGS if name in tags), None)
    if tag is None or len(tag.values) != 9:
        return None
    matrix = np.array([float(value) for value in tag.values]).reshape(3, 3)
    return matrix if np.isfinite(matrix).all() and abs(np.linalg.det(matrix)) > 1e-6 else None


def _text(tags: dict[str, Any], name: str) -> str:
    return str(tags[name].values).strip().strip("\0") if name in tags else ""


def _number(tags: dict[str, Any], name: str) -> float | None:
    if name not in tags:
        return None
    values = tags[name].values
    first = values[0] if isinstance(values, list) and values else values
    try:
        return _positive(float(first))
    except (TypeError, ValueError, ZeroDivisionError):
        return None


def _positive(value: float) -> float | None:
    return float(value) if np.isfinite(value) and value > 0 else None


def _iso(tags: dict[str, Any], fallback: float) -> int | None:
    iso = _number(tags, "EXIF ISOSpeedRatings")
    if iso is None or iso == _ISO_OVERFLOW:
        iso = next((value for name in _ISO_TAGS if (value := _number(tags, name))), iso)
    iso = iso or _positive(fallback)
    return round(iso) if iso else None


def _moment(tags: dict[str, Any]) -> datetime | None:
    text = _text(tags, "EXIF DateTimeOriginal") or _text(tags, "Image DateTime")
    try:
        # The body's clock knows no time zone; adding one would be an invention.
        moment = datetime.strptime(text, "%Y:%m:%d %H:%M:%S")  # noqa: DTZ007
    except ValueError:
        return None
    hundredths = _text(tags, "EXIF SubSecTimeOriginal")
    if hundredths.isdigit():
        moment = moment.replace(microsecond=int(float(f"0.{hundredths}") * 1_000_000))
    return moment
