"""Reading frames: the un-demosaiced mosaic, its levels and its metadata, as LibRaw decodes them.

The only module that opens raw files. LibRaw (through rawpy) decodes, ExifRead reads the tags that
LibRaw does not hand out. Black and white from the file are claims; darks overrule them elsewhere.
"""

from __future__ import annotations

import math
import os
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import exifread
import numpy as np
import rawpy
from numpy.typing import NDArray

from yellowjacket.core.raw.frame import BAYER, LARGE_TILE, LINEAR, MONOCHROME, FrameError, FrameMetadata, RawFrame, Site

# LibRaw's colour index for a sensor without filters.
_NO_FILTER = 6
_LARGE_TILE_PX = 6
# Exif writes this where the true ISO does not fit sixteen bits; the true one stands in another tag.
_ISO_OVERFLOW = 65535
_ISO_TAGS = ("EXIF RecommendedExposureIndex", "EXIF ISOSpeed", "EXIF StandardOutputSensitivity")
_COLOR_MATRIX_TAGS = ("Image ColorMatrix1", "Image Tag 0xC621")
_SERIAL_TAGS = ("EXIF BodySerialNumber", "Image CameraSerialNumber", "Image Tag 0xC62F")
_TEMPERATURE_TAGS = ("EXIF AmbientTemperature", "EXIF Tag 0x9400")
_COLDEST_C, _HOTTEST_C = -60.0, 100.0
_LEAST_ISO, _MOST_ISO = 1.0, 1e8
_LONGEST_S, _LARGEST_F = 1e6, 1e3


def read_frame(path: Path, *, any_layout: bool = False) -> RawFrame:
    """Decode a raw file. The mosaic keeps LibRaw's memory alive for as long as anything looks at it.

    ``any_layout``: also 6×6 mosaics, monochrome and three-sample linear raw.
    Raises FrameError for files that are empty, cut short, not raw, or of a layout that is not asked for.
    """
    return _frame(path, _opened(path), any_layout)


def read_with_metadata(path: Path, *, any_layout: bool = False) -> tuple[RawFrame, FrameMetadata]:
    """Decode a raw file once and read what it says about its capture. Raises FrameError like read_frame."""
    raw = _opened(path)
    frame = _frame(path, raw, any_layout)
    other = raw.other
    tags = _exif_tags(path)
    metadata = FrameMetadata(
        make=_text(tags, "Image Make"),
        model=_text(tags, "Image Model"),
        serial=next((text for name in _SERIAL_TAGS if (text := _text(tags, name))), ""),
        firmware=_text(tags, "Image Software"),
        iso=_iso(tags, other.iso_speed),
        # TIFF/EP files keep these in the first directory.
        exposure_s=_within(
            _first(tags, "EXIF ExposureTime", "Image ExposureTime") or _positive(other.shutter_speed), _LONGEST_S
        ),
        f_number=_within(_first(tags, "EXIF FNumber", "Image FNumber") or _positive(other.aperture), _LARGEST_F),
        captured_at=_moment(tags),
        temperature_c=_temperature(tags),
    )
    return frame, metadata


def _frame(path: Path, raw: Any, any_layout: bool) -> RawFrame:
    try:
        mosaic = np.asarray(_Kept(raw))
        if mosaic.dtype != np.uint16:
            mosaic = mosaic.astype(np.uint16)
    except (rawpy.LibRawError, AttributeError, TypeError, ValueError) as error:
        raise FrameError(
            path, "truncated", "is cut short or damaged and could not be decoded.", "Copy it from the card again."
        ) from error
    if mosaic.ndim not in (2, 3) or min(mosaic.shape[:2]) < 2:
        raise FrameError(path, "no-mosaic", "holds no sensor mosaic.", "Shoot uncompressed or lossless raw.")
    layout = _layout_of(path, mosaic, raw, any_layout)
    white = float(raw.white_level)
    if white <= max(layout.black_dn.values()):
        raise FrameError(
            path, "levels", f"says white {white:g} is not above black {max(layout.black_dn.values()):g}.",
            "Convert it to DNG with correct levels, or leave it out.",
        )  # fmt: skip
    matrix = np.array(raw.rgb_xyz_matrix[:3], dtype=np.float64)
    known = matrix if matrix.any() else _matrix_from_tags(path)
    if mosaic.ndim == 3:
        mosaic = np.ascontiguousarray(mosaic[:, :, :3]).reshape(mosaic.shape[0], -1)
    sizes = raw.sizes
    return RawFrame(
        mosaic, layout.offsets, layout.black_dn, white, known, _neutral(raw.camera_whitebalance), layout.sites,
        3 if layout.name == LINEAR else 1, (sizes.top_margin, sizes.left_margin), layout.name,
    )  # fmt: skip


class _Kept:
    """LibRaw's numbers as an array that keeps them: rawpy's own view dies with the file, and a copy of a mosaic costs
    as much memory again and a sixth of the decode."""

    def __init__(self, raw: Any) -> None:
        self._raw = raw
        self.__array_interface__ = raw.raw_image.__array_interface__


def _opened(path: Path) -> Any:
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
        return _decoder_of(path)
    except rawpy.LibRawError as error:
        # No header that LibRaw knows. A damaged raw file keeps its header and fails later, when decoded.
        raise FrameError(
            path, "not-raw", "is not a raw file, whatever its name says.", "Import the raw file of this shot instead."
        ) from error


def _decoder_of(path: Path) -> Any:
    try:
        str(path).encode()
    except UnicodeEncodeError:
        # LibRaw takes names as UTF-8 only; such a file is given to it as its bytes.
        with path.open("rb") as file:
            return rawpy.imread(file)
    return rawpy.imread(str(path))


@dataclass(frozen=True, slots=True)
class _Layout:
    name: str
    offsets: dict[str, tuple[int, int]]
    sites: dict[str, tuple[Site, ...]]
    black_dn: dict[str, float]


def _layout_of(path: Path, mosaic: NDArray[np.uint16], raw: Any, any_layout: bool) -> _Layout:
    """Channel sites and blacks; black levels come ordered by colour index, not by place in the tile."""
    black = [float(level) for level in raw.black_level_per_channel]
    if mosaic.ndim == 3 and mosaic.shape[2] >= 3 and any_layout:
        sites: dict[str, tuple[Site, ...]] = {name: (Site(0, n, 1, 3),) for n, name in enumerate("RGB")}
        return _Layout(LINEAR, {}, sites, dict(zip("RGB", black, strict=False)))
    pattern = raw.raw_pattern if mosaic.ndim == 2 else None
    colours = raw.color_desc.decode()
    if pattern is not None and any_layout and pattern.size == 1 and int(pattern[0, 0]) == _NO_FILTER:
        return _Layout(MONOCHROME, {}, {"M": (Site(0, 0, 1, 1),)}, {"M": black[0]})
    if pattern is not None and any_layout and pattern.shape == (_LARGE_TILE_PX, _LARGE_TILE_PX):
        return _large_tile(path, _tile(raw, _LARGE_TILE_PX, colours), black)
    if pattern is None or pattern.shape != (2, 2) or pattern.max() >= len(colours):
        raise FrameError(
            path, "cfa", "has a colour-filter layout other than a 2×2 mosaic.",
            "Sittings take bodies with a 2×2 mosaic; the command line measures other layouts too.",
        )  # fmt: skip
    return _bayer(path, pattern, colours, black)


def _tile(raw: Any, side: int, colours: str) -> list[list[str]]:
    """Colours of the tile as it lies in the full raw area."""
    return [[colours[raw.raw_color(row, column)] for column in range(side)] for row in range(side)]


def _large_tile(path: Path, tile: list[list[str]], black: list[float]) -> _Layout:
    side = len(tile)
    found: dict[str, list[Site]] = {"R": [], "G": [], "B": []}
    for row in range(side):
        for column in range(side):
            if tile[row][column] not in found:
                raise FrameError(path, "cfa", f"has a {tile[row][column]} filter.", "Use red, green and blue filters.")
            found[tile[row][column]].append(Site(row, column, side, side))
    sites = {name: tuple(places) for name, places in found.items()}
    return _Layout(LARGE_TILE, {}, sites, dict(zip("RGB", black, strict=False)))


def _bayer(path: Path, pattern: NDArray[np.uint8], colours: str, black: list[float]) -> _Layout:
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
            black_dn[name] = black[pattern[row, column]]
    return _Layout(BAYER, offsets, {}, black_dn)


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
    if tag is None or not isinstance(tag.values, (list, tuple)) or len(tag.values) != 9:
        return None
    try:
        matrix = np.array([float(value) for value in tag.values]).reshape(3, 3)
    except (TypeError, ValueError, ZeroDivisionError, OverflowError):
        # 0/0, or no numbers at all: the file does not know its colours.
        return None
    return matrix if np.isfinite(matrix).all() and abs(np.linalg.det(matrix)) > 1e-6 else None


def _text(tags: dict[str, Any], name: str) -> str:
    # NUL ends a text in some files and pads it in others; a database takes none.
    return str(tags[name].values).replace("\0", " ").strip() if name in tags else ""


def _number(tags: dict[str, Any], name: str) -> float | None:
    if name not in tags:
        return None
    values = tags[name].values
    first = values[0] if isinstance(values, list) and values else values
    try:
        return _positive(float(first))
    except (TypeError, ValueError, ZeroDivisionError):
        return None


def _temperature(tags: dict[str, Any]) -> float | None:
    """°C as the file says it; senseless values are none."""
    for name in _TEMPERATURE_TAGS:
        values = getattr(tags.get(name), "values", None)
        try:
            celsius = float(values[0]) if values else math.nan
        except (TypeError, ValueError, ZeroDivisionError, IndexError):
            continue
        if _COLDEST_C <= celsius <= _HOTTEST_C:
            return celsius
    return None


def _first(tags: dict[str, Any], *names: str) -> float | None:
    return next((value for name in names if (value := _number(tags, name)) is not None), None)


def _positive(value: float) -> float | None:
    return float(value) if np.isfinite(value) and value > 0 else None


def _within(value: float | None, most: float) -> float | None:
    """A claim that can be; times of years and apertures of pinholes far beyond any are none."""
    return value if value is not None and 1e-7 <= value <= most else None


def _iso(tags: dict[str, Any], fallback: float) -> int | None:
    iso = _first(tags, "EXIF ISOSpeedRatings", "Image ISOSpeedRatings")
    if iso is None or iso == _ISO_OVERFLOW:
        iso = next((value for name in _ISO_TAGS if (value := _number(tags, name))), iso)
    iso = iso or _positive(fallback)
    # ISO below one is no setting of any body.
    return round(iso) if iso and _LEAST_ISO <= iso <= _MOST_ISO else None


def _moment(tags: dict[str, Any]) -> datetime | None:
    text = _text(tags, "EXIF DateTimeOriginal") or _text(tags, "Image DateTime")
    try:
        # The body's clock knows no time zone; adding one would be an invention.
        moment = datetime.strptime(text, "%Y:%m:%d %H:%M:%S")  # noqa: DTZ007
    except ValueError:
        return None
    hundredths = _text(tags, "EXIF SubSecTimeOriginal")
    if hundredths.isdecimal():
        moment = moment.replace(microsecond=int(float(f"0.{hundredths}") * 1_000_000))
    return moment
