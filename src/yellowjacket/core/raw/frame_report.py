"""A first look at the pixels of a frame, and what two looks say about each other.

One pass over the green planes gives a report small enough to keep with the frame: how bright, how much of it
clipped or black, how sharp, and a thumbnail from which a nudge of the camera can be told. Comparing is then a
matter of two reports: exposure in stops, shift in pixels, sharpness as a ratio.
"""

from __future__ import annotations

import base64
import math
from dataclasses import asdict, dataclass
from datetime import datetime
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.raw.clipping import CLIP_SHARE
from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.raw.histograms import cell_sums

# Thumbnail cells along the longer side: a cell of a 24 MP frame is about 32 raw pixels.
_THUMB_LONG_SIDE = 192
_CODES = 65536
# Cells darker than this share of the range say little about light.
_FLOOR_SHARE = 0.002
# A shift found with a correlation peak below this is noise.
_PEAK_FLOOR = 0.08
# Thumbnail levels are kept in steps of 1/25.5 stop, from −10 stops to white.
_THUMB_STOPS, _THUMB_STEPS = 10, 25.5
# Cells that differ from the median by more than this moved or clipped.
_SAME_LIGHT_STOPS = 0.25
_FEWEST_CELLS = 50
# Cells within so many steps of the brightest count as one level; a well is full no lower than this under white. Where the
# reference has them apart by more than this, they were cut off; cells this near to it are cut off in part.
_PLATEAU_STEPS, _LOWEST_WELL_STOPS, _UNEVEN_STOPS, _NEAR_FULL_STOPS = 2.0, -2.0, 0.3, 0.15
# Cells brighter than this under white hold pixels that clip.
_CLIPS_AT_STOPS = -0.15
# A frame of which more than this is full tells no exposure; nor does a spot of which more than this is, how sharp it is.
_MOSTLY_FULL, _CUT_OFF = 0.5, 0.05
# Neighbouring second differences share pixels, so their mean scatters more than independent ones would: by 2.44
# at ISO 102400 of the simulated body, where noise is all there is (measured over 12 frames).
_FINE_SE_FACTOR = 2.5
_SIGNIFICANT_SE = 4.0
# Second differences are taken at these spacings in pixels of a green plane, on every fourth row.
_SPACINGS, _ROW_STEP = (1, 2, 4), 4
# Variance of 2a − b − c for independent pixels of variance one.
_SECOND_DIFFERENCE = 6
_TILES_LONG_SIDE, _SMALLEST_TILE = 32, 16
# Coarser structure must stand so many standard errors over noise before softness can be told.
_TELLING_SE = 8.0
# Share of fine in coarse structure below which a spot is soft: on the specimen drawer the middle tile has 0.7 sharp,
# 0.42 under a blur of 1.5 raw pixels (σ), 0.31 of 2 and 0.19 of 3, at ISO 100 and 3200 alike (measured).
SOFT_BELOW = 0.36
_FEWEST_TELLING = 3
# LENR shows from exposures of this length on; shorter lock-ups drown in handling.
_LENR_FROM_S = 4.0
# Without a shorter rung to tell handling by, only lock-ups of this length are believed.
_SURELY_FROM_S = 15.0
# A lock-up is at least this share of the exposure, less the rounding of stamps to whole seconds.
_LOCKUP_SHARE, _STAMP_S = 0.9, 1.0


@dataclass(frozen=True, slots=True)
class FrameReport:
    """What is kept of a look at a frame.

    ``level_dn``: mean of the first green above black over cells neither clipped nor black; None when there are none.
    ``clipped_share``: pixels of all channels above 99 % of white. ``dark_share``: cells at the floor.
    ``fine``: structure at the finest scale against a coarser one, free of noise, no unit,
    and its standard error from noise. ``cell_px``: raw pixels
    a thumbnail cell spans. ``thumb``: log2 of the cells against white, packed; ``shape`` its rows and columns.
    ``tiles``: structure at three scales for tiles of ``tile_px`` raw pixels, packed; see structure_at.
    """

    level_dn: float | None
    clipped_share: float
    dark_share: float
    fine: float | None
    fine_se: float
    cell_px: int
    thumb: str
    shape: tuple[int, int]
    tile_px: int = 0
    tiles: str = ""
    tile_shape: tuple[int, int] = (0, 0)

    def as_dict(self) -> dict[str, Any]:
        """Plain values for the database."""
        return asdict(self)


def report_from(values: dict[str, Any]) -> FrameReport:
    """The report from plain values."""
    tile_shape = tuple(values.get("tile_shape", (0, 0)))
    return FrameReport(**{**values, "shape": tuple(values["shape"]), "tile_shape": tile_shape})


def look_at(frame: RawFrame) -> FrameReport:
    """Level, clipping, sharpness and thumbnail of a frame, from one pass over its first green channel."""
    greens = frame.layout.greens
    black = sum(frame.black_dn[name] for name in greens) / len(greens)
    span = frame.white_dn - black
    green, cell = frame.cells(greens[0]), frame.layout.cell
    cells, step = _cells(green, black)
    clipped = _clipped_share(frame)
    usable = (cells > _FLOOR_SHARE * span) & (cells < CLIP_SHARE * span)
    level = float(cells[usable].mean(dtype=np.float64)) if usable.any() else None
    packed = np.clip(np.log2(np.maximum(cells, _FLOOR_SHARE * span) / span), -_THUMB_STOPS, 0)
    thumb = base64.b64encode(np.rint((packed + _THUMB_STOPS) * _THUMB_STEPS).astype(np.uint8).tobytes()).decode()
    dark = float(np.mean(cells <= _FLOOR_SHARE * span))
    shape = (cells.shape[0], cells.shape[1])
    if not level:
        return FrameReport(level, clipped, dark, None, 0.0, cell * step, thumb, shape)
    fine, fine_se, side, tiles = _structure(green, level)
    packed_tiles = base64.b64encode(tiles.tobytes()).decode()
    return FrameReport(
        level, clipped, dark, fine, fine_se, cell * step, thumb, shape, cell * side, packed_tiles,
        (tiles.shape[1], tiles.shape[2]),
    )  # fmt: skip


def _cells(plane: NDArray[Any], black: float) -> tuple[NDArray[np.float32], int]:
    """Means of a green plane over square cells, above black, and the cells' side in pixels of the plane."""
    height, width = plane.shape
    step = max(1, math.ceil(max(height, width) / _THUMB_LONG_SIDE))
    if plane.dtype == np.uint16:
        total = cell_sums(plane, step).astype(np.float32)
    else:
        rows, columns = height // step, width // step
        summed = np.add.reduceat(plane[: rows * step, : columns * step], np.arange(0, rows * step, step), axis=0)
        total = np.add.reduceat(summed, np.arange(0, columns * step, step), axis=1).astype(np.float32)
    return total / np.float32(step * step) - np.float32(black), step


def _clipped_share(frame: RawFrame) -> float:
    black = max(frame.black_dn.values())
    limit = black + CLIP_SHARE * (frame.white_dn - black)
    # Whole numbers are over a limit where they are over its whole part, and are not made broken ones to be compared.
    over = np.uint16(limit) if frame.mosaic.dtype == np.uint16 and 0 <= limit < _CODES else limit
    return float(np.count_nonzero(frame.mosaic > over)) / frame.mosaic.size


def _structure(plane: NDArray[Any], level: float) -> tuple[float, float, int, NDArray[np.float32]]:
    """Structure at the finest scale against coarser ones, noise taken out, over the frame and tile by tile.

    The second difference 2p₀ − p₋ − p₊ over six holds the noise variance once at any spacing, so the mean square
    at spacing two less that at spacing one is free of it. A soft picture loses it fast: a blur of one raw pixel
    (σ) leaves 0.73 of the specimen drawer's, 1.2 pixels 0.63, at ISO 100 and 3200 alike (measured).
    Returns fine, its standard error, the tile's side in pixels of the plane, and for each tile the mean squares
    at spacings one, two and four over the square of ``level``, float32 of shape 3 × rows × columns.
    """
    rows = plane[::_ROW_STEP].astype(np.float32)
    side = max(_SMALLEST_TILE, math.ceil(max(plane.shape) / _TILES_LONG_SIDE / _ROW_STEP) * _ROW_STEP)
    down, across = plane.shape[0] // side, plane.shape[1] // side
    per_tile = side // _ROW_STEP
    means, tiles = [], np.zeros((3, max(down, 0), max(across, 0)), np.float32)
    for n, spacing in enumerate(_SPACINGS):
        square = 2 * rows[:, spacing:-spacing] - rows[:, : -2 * spacing] - rows[:, 2 * spacing :]
        square *= square
        means.append(float(np.mean(square, dtype=np.float64)) / _SECOND_DIFFERENCE)
        if down and across:
            padded = square[: down * per_tile, : across * side]
            at = np.minimum(np.arange(0, across * side, side), padded.shape[1] - 1)
            summed = np.add.reduceat(
                np.add.reduceat(padded, np.arange(0, down * per_tile, per_tile), axis=0), at, axis=1
            )
            counted = per_tile * np.diff(np.append(at, padded.shape[1]))
            tiles[n] = summed / (counted * _SECOND_DIFFERENCE * level**2)
    se = _FINE_SE_FACTOR * means[0] * math.sqrt(2 / rows.size)
    return (means[1] - means[0]) / level**2, se / level**2, side, tiles


@lru_cache(maxsize=64)
def _tiles(report: FrameReport) -> NDArray[np.float64]:
    raw = np.frombuffer(base64.b64decode(report.tiles), np.float32).reshape(3, *report.tile_shape)
    return raw.astype(np.float64)


@dataclass(frozen=True, slots=True)
class SpotStructure:
    """Structure around a spot, noise free, no unit: ``fine`` (spacing two less one), ``coarse`` (four less two), and
    the standard error of either from noise."""

    fine: float
    coarse: float
    se: float

    @property
    def soft(self) -> bool | None:
        """Whether nothing finer than about four raw pixels stands there; None when there is too little to tell.

        Edges and natural texture have half as much between spacings one and two as between two and four, at any
        scale and contrast; what is out of focus has next to nothing.
        """
        if self.coarse < _TELLING_SE * self.se:
            return None
        return self.fine + _TELLING_SE / 2 * self.se < SOFT_BELOW * self.coarse


def structure_at(report: FrameReport, x: float, y: float) -> SpotStructure | None:
    """Structure in the 3 × 3 tiles around a spot given in raw pixels; None when the report has none there."""
    if not report.tiles:
        return None
    column, row = int(x // report.tile_px), int(y // report.tile_px)
    around = _tiles(report)[:, max(row - 1, 0) : row + 2, max(column - 1, 0) : column + 2]
    if around.size == 0:
        return None
    one, two, four = (float(around[n].mean()) for n in range(3))
    samples = around[0].size * report.tile_px * report.tile_px / 4 / _ROW_STEP
    return SpotStructure(two - one, four - two, _FINE_SE_FACTOR * one * math.sqrt(2 / samples))


def spot_sharpness(report: FrameReport, reference: FrameReport, x: float, y: float) -> tuple[float, float] | None:
    """Fine structure at a spot as a share of the reference's, and its standard error; None where there is none, or where the
    spot is cut off in this frame: what stands at one level holds no structure, however sharp the picture is."""
    one, other = structure_at(report, x, y), structure_at(reference, x, y)
    if one is None or other is None or other.fine < _SIGNIFICANT_SE * other.se or _cut_off_at(report, reference, x, y):
        return None
    ratio = one.fine / other.fine
    return ratio, math.hypot(one.se, ratio * other.se) / other.fine


def _cut_off_at(report: FrameReport, reference: FrameReport, x: float, y: float) -> bool:
    """Whether the 3 × 3 tiles around a spot are full where the reference's are not, on more than _CUT_OFF of them."""
    if report.shape != reference.shape:
        return False
    one, other = _thumb(report), _thumb(reference)
    rows, columns = (
        slice(max(int(at // report.tile_px) - 1, 0) * report.tile_px // report.cell_px,
              (int(at // report.tile_px) + 2) * report.tile_px // report.cell_px)
        for at in (y, x)
    )  # fmt: skip
    full = one >= min(_full_from(one, other), _CLIPS_AT_STOPS)
    cut_off = (full & (other < _CLIPS_AT_STOPS))[rows, columns]
    return bool(np.count_nonzero(cut_off) > _CUT_OFF * cut_off.size)


def frame_is_soft(report: FrameReport) -> bool | None:
    """Whether the middle of all telling parts of the frame is soft; None when too little in it can tell."""
    if not report.tiles:
        return None
    parts = (
        structure_at(report, (column + 0.5) * report.tile_px, (row + 0.5) * report.tile_px)
        for row in range(1, report.tile_shape[0], 3)
        for column in range(1, report.tile_shape[1], 3)
    )
    found = [part.soft for part in parts if part is not None and part.soft is not None]
    return sum(found) > len(found) / 2 if len(found) >= _FEWEST_TELLING else None


# One reference is held against every frame of a ladder: unpacking and transforming it once saves most of the time.
@lru_cache(maxsize=64)
def _thumb(report: FrameReport) -> NDArray[np.float64]:
    raw = np.frombuffer(base64.b64decode(report.thumb), np.uint8).reshape(report.shape)
    return raw.astype(np.float64) / _THUMB_STEPS - _THUMB_STOPS


# Pages ask the same of the same frames again and again; what a report says never changes.
@lru_cache(maxsize=256)
def exposure_stops(report: FrameReport, reference: FrameReport) -> float | None:
    """Light of a frame against the reference in stops, over cells usable in both; None when there are none, or most are full.

    Over the bulk of the cells' differences: things that moved or clipped do not pull it.
    """
    if report.shape != reference.shape or report.level_dn is None or reference.level_dn is None:
        return None
    one, other = _thumb(report), _thumb(reference)
    full = _full_from(one, other)
    if np.mean(one >= min(full, _CLIPS_AT_STOPS)) > _MOSTLY_FULL:
        # What is left lies beside what is cut off, and is cut off in part itself.
        return None
    top = min(_CLIPS_AT_STOPS, full)
    bright = (one > -7) & (other > -7) & (one < top) & (other < _CLIPS_AT_STOPS)
    difference = (one - other)[bright]
    if difference.size < _FEWEST_CELLS:
        return None
    # The median finds the bulk, the mean of the bulk is finer than the steps the levels are kept in.
    bulk = np.abs(difference - np.median(difference)) < _SAME_LIGHT_STOPS
    return float(difference[bulk].mean())


def full_share(report: FrameReport, reference: FrameReport) -> float:
    """Share of cells that stand at one level though the reference has them at many: their wells are full, below the top
    code or at it. 0 where nothing shows it."""
    if report.shape != reference.shape:
        return 0.0
    one = _thumb(report)
    return float(np.mean(one >= _full_from(one, _thumb(reference))))


def _full_from(one: NDArray[np.float64], other: NDArray[np.float64]) -> float:
    """The level, in stops below white, from which cells of a frame are full; above all where none are."""
    top = float(one.max())
    flat = one >= top - _PLATEAU_STEPS / _THUMB_STEPS
    if top < _LOWEST_WELL_STOPS or flat.sum() < _FEWEST_CELLS:
        return np.inf
    first, last = np.percentile(other[flat], (10, 90))
    # What is even in both is a white wall; what only this frame has even was cut off.
    return top - _NEAR_FULL_STOPS if last - first > _UNEVEN_STOPS else np.inf


@lru_cache(maxsize=256)
def shift_px(report: FrameReport, reference: FrameReport) -> tuple[float, float] | None:
    """How far the picture moved (x, y) in raw pixels, by phase correlation of the thumbnails; None when unclear."""
    if report.shape != reference.shape:
        return None
    spectrum = _spectrum(report) * np.conj(_spectrum(reference))
    size = np.abs(spectrum)
    correlation = np.fft.irfft2(spectrum / np.maximum(size, 1e-9 * size.max() + 1e-12), s=report.shape)
    peak = np.unravel_index(int(np.argmax(correlation)), correlation.shape)
    if correlation[peak] < _PEAK_FLOOR:
        return None
    y, x = (_subcell(correlation, peak, axis) for axis in (0, 1))
    return x * report.cell_px, y * report.cell_px


@lru_cache(maxsize=64)
def _spectrum(report: FrameReport) -> NDArray[np.complex128]:
    cells = _thumb(report)
    window = np.hanning(cells.shape[0])[:, None] * np.hanning(cells.shape[1])[None, :]
    return np.asarray(np.fft.rfft2((cells - cells.mean()) * window))


def _subcell(correlation: NDArray[np.float64], peak: tuple[Any, ...], axis: int) -> float:
    """Peak position along an axis, between cells by the two largest neighbours, wrapped to ± half."""
    length = correlation.shape[axis]
    at = [(int(peak[0]), int(peak[1]))]
    for step in (-1, 1):
        place = [int(peak[0]), int(peak[1])]
        place[axis] = (place[axis] + step) % length
        at.append((place[0], place[1]))
    centre, before, after = (max(float(correlation[place]), 0.0) for place in at)
    side, step = (after, 1) if after > before else (before, -1)
    # For a pure shift the peak of a phase correlation is a sinc: neighbours share it in the ratio of distances.
    fraction = step * side / (side + centre) if side + centre > 0 else 0.0
    whole = int(peak[axis])
    return (whole if whole <= length / 2 else whole - length) + fraction


def sharpness_ratio(report: FrameReport, reference: FrameReport) -> float | None:
    """Fine structure of a frame against the reference; 1 is as sharp, None when one has none to speak of."""
    if report.fine is None or reference.fine is None or reference.fine <= 0:
        return None
    return report.fine / reference.fine


def is_softer(report: FrameReport, reference: FrameReport, share: float) -> bool:
    """Whether fine structure is below ``share`` of the reference's by more than noise explains (4 SE)."""
    ratio = sharpness_ratio(report, reference)
    if ratio is None or report.fine is None or reference.fine is None or ratio >= share:
        return False
    return reference.fine - report.fine > _SIGNIFICANT_SE * math.hypot(report.fine_se, reference.fine_se)


def lockup_gap_s(before: datetime, after: datetime, exposure_s: float) -> float:
    """Time between two releases beyond the exposure itself: LENR shows as another exposure's length.

    Files are stamped at the release, in whole seconds on many bodies.
    """
    return (after - before).total_seconds() - exposure_s


def locked_up(exposure_s: float, gap_s: float, shortest: tuple[float, float]) -> bool | None:
    """Whether the body was busy for another exposure's length after one; None when too short to tell.

    ``gap_s``: time to the next release beyond the exposure. ``shortest``: exposure and gap of the shortest rung,
    which tells the tester's own handling: a lock-up grows with the exposure, handling does not.
    """
    longer = exposure_s - shortest[0]
    if longer >= _LENR_FROM_S:
        return gap_s - shortest[1] >= _LOCKUP_SHARE * longer - _STAMP_S
    if longer == 0 and exposure_s >= _SURELY_FROM_S:
        return gap_s >= _LOCKUP_SHARE * exposure_s
    return None
