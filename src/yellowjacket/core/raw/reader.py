"""Reading frames: the un-demosaiced mosaic, its levels and its metadata, as LibRaw decodes them.

The only module that opens raw files. LibRaw (through rawpy) decodes; what the file says about its capture comes from its
tags, and from LibRaw's own fields where it has none. Black and white from the file are claims; darks overrule them elsewhere.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import rawpy
from numpy.typing import NDArray

from yellowjacket.core.metadata.capture import (
    FrameMetadata,
    color_matrix,
    interpret,
    plausible_f_number,
    plausible_iso,
    plausible_seconds,
    wanted,
)
from yellowjacket.core.metadata.tags import Tag, read_tags
from yellowjacket.core.raw.frame import BAYER, LARGE_TILE, LINEAR, MONOCHROME, FrameError, RawFrame, Site

# LibRaw's colour index for a sensor without filters.
_NO_FILTER = 6
_LARGE_TILE_PX = 6
# Source of a claim that LibRaw hands out itself.
LIBRAW = "LibRaw"
# Two readings of one capture further apart than this factor speak of two captures.
_CONTRADICTION = 1.9
_UNSET_YEAR = 1984


def read_frame(path: Path, *, any_layout: bool = False) -> RawFrame:
    """Decode a raw file. The mosaic keeps LibRaw's memory alive for as long as anything looks at it.

    ``any_layout``: also 6×6 mosaics, monochrome and three-sample linear raw.
    Raises FrameError for files that are empty, cut short, not raw, or of a layout that is not asked for.
    """
    return _frame(path, _opened(path), any_layout, None)


def read_with_metadata(path: Path, *, any_layout: bool = False) -> tuple[RawFrame, FrameMetadata]:
    """Decode a raw file once and read what it says about its capture. Raises FrameError like read_frame."""
    raw = _opened(path)
    tags = read_tags(path, wanted)
    return _frame(path, raw, any_layout, tags), _completed(interpret(tags), raw)


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
        name: value for name, value in own.items() if value is not None and getattr(metadata, name) is None
    }
    contradicted = tuple(name for name in ("iso", "exposure_s") if _apart(getattr(metadata, name), own[name]))
    sources = metadata.sources | dict.fromkeys(missing, LIBRAW)
    return replace(metadata, contradicted=contradicted, sources=sources, **missing)


def _apart(one: float | None, other: Any) -> bool:
    return one is not None and other is not None and not 1 / _CONTRADICTION < one / other < _CONTRADICTION


def _clock(moment: datetime | None) -> datetime | None:
    """The body's clock as LibRaw has it; one that was never set is none."""
    return moment.replace(tzinfo=None) if moment is not None and moment.year > _UNSET_YEAR else None


def _frame(path: Path, raw: Any, any_layout: bool, tags: Sequence[Tag] | None) -> RawFrame:
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
    known = matrix if matrix.any() else color_matrix(read_tags(path, wanted) if tags is None else tags)
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
            path,
            "not-raw",
            "is no raw file that can be decoded here, whatever its name says.",
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
