"""Reading frames: the un-demosaiced mosaic, its levels and its metadata, as LibRaw decodes them.

The only module that opens raw files. LibRaw (through rawpy) decodes; what the file says about its capture comes from its
tags, and from LibRaw's own fields where it has none. Black and white from the file are claims; darks overrule them elsewhere.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import rawpy
from numpy.typing import NDArray

from yellowjacket.core.exposure.srgb import linear_of_srgb
from yellowjacket.core.metadata.capture import (
    FrameMetadata,
    color_matrix,
    filter_tile,
    interpret,
    plausible_f_number,
    plausible_iso,
    plausible_seconds,
    unsaid_levels,
    wanted,
)
from yellowjacket.core.metadata.tags import Tag, read_tags
from yellowjacket.core.raw.frame import (
    BAYER,
    LARGE_TILE,
    LINEAR,
    MONOCHROME,
    NOT_RAW,
    PICTURE,
    PICTURE_SUFFIXES,
    QUAD,
    FrameError,
    Layout,
    RawFrame,
)

# LibRaw's colour index for a sensor without filters.
_NO_FILTER = 6
_QUAD_SIDE, _LARGE_SIDE = 4, 6
# Source of a claim that LibRaw hands out itself.
LIBRAW = "LibRaw"
# Two readings of one capture further apart than this factor speak of two captures.
_CONTRADICTION = 1.9
_UNSET_YEAR = 1984


def read_frame(path: Path) -> RawFrame:
    """Decode a raw file. The mosaic keeps LibRaw's memory alive for as long as anything looks at it.

    Raises FrameError for files that are empty, cut short, not raw, or of colours that nothing here can sort.
    """
    try:
        return _frame(path, _opened(path), None)
    except FrameError as error:
        if error.code != NOT_RAW or path.suffix.lower() not in PICTURE_SUFFIXES:
            raise
    return read_picture_frame(path)


def is_raw(path: Path) -> bool:
    """Whether LibRaw knows the file as raw, whatever its name says."""
    try:
        return _opened(path) is not None
    except FrameError:
        return False


def read_picture_frame(path: Path) -> RawFrame:
    """A rendered picture as a frame: linear light of its codes in three samples, sixteen bits, white at the top.

    No number of it is one of the sensor; every code of eight bits has a number of its own. Raises FrameError.
    """
    from yellowjacket.core.raw.picture_file import read_rendered

    light = np.rint(linear_of_srgb(np.arange(256) / 255) * _PICTURE_WHITE).astype(np.uint16)
    picture = read_rendered(path)
    layout = Layout(PICTURE, (("R", "G", "B"),), 3)
    numbers = light[picture].reshape(picture.shape[0], -1)
    return RawFrame(numbers, layout, dict.fromkeys("RGB", 0.0), float(_PICTURE_WHITE), None, None)


_PICTURE_WHITE = 65535


def read_with_metadata(path: Path) -> tuple[RawFrame, FrameMetadata]:
    """Decode a raw file once and read what it says about its capture. Raises FrameError like read_frame."""
    raw = _opened(path)
    tags = read_tags(path, wanted)
    return _frame(path, raw, tags), _completed(interpret(tags), raw)


def read_claims(path: Path) -> FrameMetadata:
    """What the tags of a file say, raw or picture."""
    return interpret(read_tags(path, wanted))


def read_metadata(path: Path) -> FrameMetadata:
    """What a file says about its capture, whether or not its pixels can be decoded: its tags, and LibRaw where it opens it."""
    metadata = read_claims(path)
    try:
        return _completed(metadata, _opened(path))
    except FrameError:
        return metadata


def _completed(metadata: FrameMetadata, raw: Any) -> FrameMetadata:
    """With LibRaw's own reading of what the tags do not say, and a list of what the two say differently."""
    other = raw.other
    own = {
        "iso": plausible_iso(other.iso_speed), "exposure_s": plausible_seconds(other.shutter_speed),
        "f_number": plausible_f_number(other.aperture), "captured_at": _clock(other.timestamp),
    }  # fmt: skip
    missing: dict[str, Any] = {
        name: value
        for name, value in own.items()
        if value is not None and getattr(metadata, name) is None and name not in metadata.unsaid
    }
    contradicted = tuple(name for name in ("iso", "exposure_s") if _apart(getattr(metadata, name), own[name]))
    sources = metadata.sources | dict.fromkeys(missing, LIBRAW)
    return replace(metadata, contradicted=contradicted, sources=sources, **missing)


def _apart(one: float | None, other: Any) -> bool:
    return one is not None and other is not None and not 1 / _CONTRADICTION < one / other < _CONTRADICTION


def _clock(moment: datetime | None) -> datetime | None:
    """The body's clock as LibRaw has it; one that was never set is none."""
    return moment.replace(tzinfo=None) if moment is not None and moment.year > _UNSET_YEAR else None


def _frame(path: Path, raw: Any, tags: Sequence[Tag] | None) -> RawFrame:
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
    layout, black_dn = _layout_of(path, mosaic, raw, tags)
    white = float(raw.white_level)
    if white <= max(black_dn.values()):
        raise FrameError(
            path, "levels", f"says white {white:g} is not above black {max(black_dn.values()):g}.",
            "Convert it to DNG with correct levels, or leave it out.",
        )  # fmt: skip
    tags = read_tags(path, wanted) if tags is None else tags
    matrix = np.array(raw.rgb_xyz_matrix[:3], dtype=np.float64)
    known = matrix if matrix.any() and np.isfinite(matrix).all() else color_matrix(tags)
    if mosaic.ndim == 3:
        mosaic = np.ascontiguousarray(mosaic[:, :, :3]).reshape(mosaic.shape[0], -1)
    sizes = raw.sizes
    return RawFrame(
        mosaic, layout, black_dn, white, known, _neutral(raw.camera_whitebalance), (sizes.top_margin, sizes.left_margin),
        unsaid_levels(tags),
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
            path,
            NOT_RAW,
            "is not a raw file that can be read here.",
            "Import the raw file of this shot, or convert it to DNG without changing its numbers.",
        ) from error


def _decoder_of(path: Path) -> Any:
    try:
        str(path).encode()
    except UnicodeEncodeError:
        # LibRaw takes names as UTF-8 only; such a file is given to it as its bytes.
        with path.open("rb") as file:
            return rawpy.imread(file)
    return rawpy.imread(str(path))


def _layout_of(
    path: Path, mosaic: NDArray[np.uint16], raw: Any, tags: Sequence[Tag] | None
) -> tuple[Layout, dict[str, float]]:
    """Layout and black by channel; black levels come ordered by colour index, not by place in the tile."""
    black = [float(level) for level in raw.black_level_per_channel]
    if mosaic.ndim == 3 and mosaic.shape[2] >= 3:
        return Layout(LINEAR, (("R", "G", "B"),), 3), dict(zip("RGB", black, strict=False))
    pattern = raw.raw_pattern if mosaic.ndim == 2 else None
    colours = raw.color_desc.decode()
    if pattern is not None and pattern.size == 1 and int(pattern[0, 0]) == _NO_FILTER:
        return Layout(MONOCHROME, (("M",),)), {"M": black[0]}
    if (
        pattern is None
        or pattern.shape not in ((2, 2), (_LARGE_SIDE, _LARGE_SIDE))
        or (pattern.shape == (2, 2) and pattern.max() >= len(colours))
    ):
        raise FrameError(
            path, "cfa", "has colour filters in an order that is not known here.",
            "Convert it to DNG without changing its numbers, or leave it out.",
        )  # fmt: skip
    # As the tile lies in the full raw area, masked borders included.
    if pattern.shape == (_LARGE_SIDE, _LARGE_SIDE):
        tile = [[colours[raw.raw_color(y, x)] for x in range(_LARGE_SIDE)] for y in range(_LARGE_SIDE)]
        return _large_tile(path, LARGE_TILE, tile, black)
    tile = [[colours[index] for index in row] for row in pattern]
    if not _is_bayer(tile):
        # LibRaw knows no tiles of four: what the file writes down counts.
        said = filter_tile(read_tags(path, wanted) if tags is None else tags)
        if said is not None and len(said) == len(said[0]) == _QUAD_SIDE:
            top, left = raw.sizes.top_margin, raw.sizes.left_margin
            turned = [
                [said[(y - top) % _QUAD_SIDE][(x - left) % _QUAD_SIDE] for x in range(_QUAD_SIDE)]
                for y in range(_QUAD_SIDE)
            ]
            return _large_tile(path, QUAD, turned, black)
    return _bayer(path, tile, [[black[index] for index in row] for row in pattern])


def _is_bayer(tile: list[list[str]]) -> bool:
    """Red, blue, and two greens that touch at a corner."""
    return sorted(tile[0] + tile[1]) == ["B", "G", "G", "R"] and "G" in tile[0] and "G" in tile[1]


def _large_tile(path: Path, name: str, tile: list[list[str]], black: list[float]) -> tuple[Layout, dict[str, float]]:
    strange = {colour for row in tile for colour in row} - set("RGB")
    if strange:
        raise FrameError(path, "cfa", f"has a {min(strange)} filter.", "Use red, green and blue filters.")
    return Layout(name, tuple(tuple(row) for row in tile)), dict(zip("RGB", black, strict=False))


def _bayer(path: Path, tile: list[list[str]], black: list[list[float]]) -> tuple[Layout, dict[str, float]]:
    if not _is_bayer(tile):
        raise FrameError(path, "cfa", f"has the colours {tile}, not red, two greens, blue.", "Use a Bayer raw file.")
    red_row = 0 if "R" in tile[0] else 1
    names = [[c if c != "G" else ("G1" if y == red_row else "G2") for c in row] for y, row in enumerate(tile)]
    layout = Layout(BAYER, (tuple(names[0]), tuple(names[1])))
    return layout, {names[y][x]: black[y][x] for y in (0, 1) for x in (0, 1)}


def _neutral(multipliers: list[float]) -> NDArray[np.float64] | None:
    red, green, blue = multipliers[:3]
    if not (red > 0 and green > 0 and blue > 0):
        return None
    return np.array([green / red, 1.0, green / blue])
