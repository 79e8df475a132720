"""Patches: rectangles on the mosaic, and proposals for where to put them.

Coordinates are in the full raw frame: x right, y down, from 0; sides are kept even so that every
channel has the same share.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import reduce
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.colorimetry import rgb_of
from yellowjacket.core.exposure.iso12232 import MID_GREY_SHARE, SHADOW_STOPS_UNDER_GREY
from yellowjacket.core.raw.clipping import CLIP_SHARE, Plane
from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.raw.rect import Rect

# Side of a tile in pixels of one channel (twice that in the raw frame).
TILE_PX = 8
# … and no fewer than this of each site of a larger tile.
_FEWEST_A_SIDE = 3
# Window sides in tiles, from the most to the least wanted.
_WINDOW_TILES = (8, 6, 5, 4, 3)
# A tile is uniform when structure is below this share of its signal, beyond what its noise explains.
_STRUCTURE_SHARE = 0.02
# Tile means in a window may spread by this share beyond noise.
_LEVEL_SPREAD_SHARE = 0.02
_SE_ALLOWED = 3.0
MAX_FIELD_PATCHES = 60
# Usual noise is read at so many levels, from at least so many tiles each.
_NOISE_LEVELS, _TILES_PER_LEVEL = 40, 40
# How far from neutral (as-shot white balance) a patch may lie to be called grey, in stops per channel ratio.
_NEUTRAL_STOPS = 0.15
# Stops a patch may lie off its wanted level and still be proposed.
_GREY_REACH_STOPS = 1.5
_SHADOW_REACH_STOPS = 0.75
_BLACK_UNDER_GREY_STOPS = 5.0
_HIGHLIGHT_OVER_GREY_STOPS = 0.7


@dataclass(frozen=True, slots=True)
class Proposal:
    """A patch proposed for a role: grey, shadow, black, highlight, or field (one of many for the noise fit)."""

    role: str
    rect: Rect


@dataclass(frozen=True, slots=True)
class _Window:
    rect: Rect
    green: float
    neutral_stops: float
    area: int


def uniform_patches(first: RawFrame, second: RawFrame, most: int) -> tuple[Rect, ...]:
    """Uniform, unclipped areas of a scene from two frames of one rung, the largest first, whatever the layout.

    Raises ValueError when the frames differ in size.
    """
    if first.mosaic.shape != second.mosaic.shape:
        raise ValueError(f"frames differ in size: {first.mosaic.shape} and {second.mosaic.shape}")
    tiles = _tile_statistics(first, second)
    return tuple(window.rect for window in _uniform_windows(tiles, None)[:most])


def uniform_patches_of_one(frame: RawFrame, most: int) -> tuple[Rect, ...]:
    """Uniform areas from a single frame: its noise is told by neighbours of one channel, so fine texture may pass."""
    return tuple(window.rect for window in _uniform_windows(_tile_statistics(frame, None), None)[:most])


def propose_patches(first: RawFrame, second: RawFrame | None) -> tuple[Proposal, ...]:
    """Uniform areas of a scene from two frames of one rung: grey, shadow, black, highlight, and field patches.

    Structure is what both frames share inside a tile (their covariance), so noise does not count as
    structure and a fine texture does; of one frame alone noise is told by neighbours, and fine texture may pass.
    A role for which the scene has nothing is left out. Raises ValueError when the frames differ in size.
    """
    if second is not None and first.mosaic.shape != second.mosaic.shape:
        raise ValueError(f"frames differ in size: {first.mosaic.shape} and {second.mosaic.shape}")
    tiles = _tile_statistics(first, second)
    windows = _uniform_windows(tiles, _neutral_of(first))
    saturation = first.white_dn - max(first.black_dn.values())
    chosen = _roles(windows, saturation)
    taken = [p.rect for p in chosen]
    fields = [w for w in windows if not any(_overlap(w.rect, rect) for rect in taken)]
    return tuple(chosen) + tuple(Proposal("field", w.rect) for w in fields[:MAX_FIELD_PATCHES])


@dataclass(frozen=True, slots=True)
class _Tiles:
    """Per channel and tile: mean above black (DN) and its noise; structure shared by both frames (DN²) and its
    standard error; whether tiles are uniform and unclipped. ``tile_px``: a tile's side in raw pixels.
    """

    means: dict[str, NDArray[np.float64]]
    mean_se: dict[str, NDArray[np.float64]]
    structure: dict[str, NDArray[np.float64]]
    structure_se: dict[str, NDArray[np.float64]]
    usable: NDArray[np.bool_]
    tile_px: int


def _blocks(plane: NDArray[np.float32], side: int) -> NDArray[np.float32]:
    rows, columns = (length // side for length in plane.shape)
    return plane[: rows * side, : columns * side].reshape(rows, side, columns, side)


def _tile_statistics(first: RawFrame, second: RawFrame | None) -> _Tiles:
    means, mean_se, structure, structure_se = {}, {}, {}, {}
    usable: NDArray[np.bool_] | None = None
    # Sites of a larger tile are far apart: fewer of them make a tile of about the same size in the picture.
    step = first.layout.step
    # All sites of a channel tell a tile together, so that it is about as large in the picture whatever the layout.
    side = max(2 * TILE_PX // step, _FEWEST_A_SIDE)
    for channel in first.channels:
        planes = first.planes(channel)
        others = second.planes(channel) if second is not None else None
        means[channel], noise, structure[channel], good = _channel_tiles(first, channel, planes, others, side)
        pixels = side**2 * len(planes)
        mean_se[channel], structure_se[channel] = np.sqrt(noise / (2 * pixels)), noise / math.sqrt(2 * pixels)
        usable = good if usable is None else usable & good
    assert usable is not None  # noqa: S101 - there is always a channel
    tile_px = side * step
    _rule_out_margins(usable, first.margins, tile_px)
    return _Tiles(means, mean_se, structure, structure_se, usable, tile_px)


def _rule_out_margins(usable: NDArray[np.bool_], margins: tuple[int, int], tile_px: int) -> None:
    """Masked borders are uniform and dark; they are no part of the picture."""
    top, left = (math.ceil(margin / tile_px) for margin in margins)
    usable[:top] = False
    usable[:, :left] = False


def _usual_noise(mean: NDArray[np.float64], noise: NDArray[np.float64]) -> NDArray[np.float64]:
    """Temporal variance that tiles of such a level usually have: medians over levels, joined by lines.

    A tile's own variance would let those pass that scattered high, and the noise read from them would be too high.
    """
    levels, own = mean.ravel(), noise.ravel()
    if levels.size == 0:
        return noise
    order = np.argsort(levels)
    groups = np.array_split(order, max(1, min(_NOISE_LEVELS, levels.size // _TILES_PER_LEVEL)))
    at = np.array([np.median(levels[group]) for group in groups])
    usual = np.array([np.median(own[group]) for group in groups])
    return np.asarray(np.interp(levels, at, usual).reshape(mean.shape))


def _channel_tiles(
    frame: RawFrame, channel: str, planes: Sequence[Plane], others: Sequence[Plane] | None, side: int
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], NDArray[np.bool_]]:
    """Tile means, usual temporal variance, structure, and where a channel is uniform and unclipped."""
    pixels = side**2 * len(planes)
    black = np.float32(frame.black_dn[channel])
    first = [_blocks(plane.astype(np.float32) - black, side) for plane in planes]
    top = _over([a.max(axis=(1, 3)) for a in first], np.maximum)
    if others is None:
        mean = _mean(first)
        own = _over([((a[:, :, :, 1:] - a[:, :, :, :-1]) ** 2).mean(axis=(1, 3), dtype=np.float64) for a in first]) / 2
        noise = _usual_noise(mean, own / len(planes))
        structure = _mean([a * a for a in first]) - mean * mean - noise
        scatter = noise * math.sqrt(2 / pixels)
    else:
        second = [_blocks(plane.astype(np.float32) - black, side) for plane in others]
        pairs = list(zip(first, second, strict=True))
        top = np.maximum(top, _over([b.max(axis=(1, 3)) for b in second], np.maximum))
        mean = (_mean(first) + _mean(second)) / 2
        noise = _usual_noise(mean, _mean([(a - b) ** 2 for a, b in pairs]) / 2)
        # Structure is sought in A + B alone, which knows nothing of A − B: a choice by their covariance would prefer
        # patches whose noise happens to run against each other, and the noise read from those is too high.
        structure = _mean([(a + b) * (a + b) for a, b in pairs]) / 4 - mean * mean - noise / 2
        scatter = noise / math.sqrt(2 * pixels)
    good = structure < (_STRUCTURE_SHARE * mean) ** 2 + _SE_ALLOWED * scatter
    return mean, noise, structure, good & (top < CLIP_SHARE * (frame.white_dn - black))


def _over(values: Sequence[NDArray[Any]], join: Any = np.add) -> NDArray[Any]:
    """The sites of a channel joined, tile by tile."""
    return np.asarray(reduce(join, values))


def _mean(blocks: Sequence[NDArray[np.float32]]) -> NDArray[np.float64]:
    """Mean of every tile over all sites of a channel."""
    return _over([one.mean(axis=(1, 3), dtype=np.float64) for one in blocks]) / len(blocks)


def _neutral_of(frame: RawFrame) -> NDArray[np.float64]:
    return frame.neutral if frame.neutral is not None else np.ones(3)


def _uniform_windows(tiles: _Tiles, neutral: NDArray[np.float64] | None) -> list[_Window]:
    """Non-overlapping uniform windows, the largest first."""
    windows: list[_Window] = []
    free = tiles.usable.copy()
    for side in _WINDOW_TILES:
        if min(free.shape) < side:
            continue
        flatness, plain = _level_spread(tiles, side)
        fits = _all_inside(free, side) & (flatness < 1.0) & plain
        for row, column in _by_flatness(flatness, fits):
            if not free[row : row + side, column : column + side].all():
                continue
            free[row : row + side, column : column + side] = False
            windows.append(_window(tiles, neutral, row, column, side))
    return windows


def _all_inside(mask: NDArray[np.bool_], side: int) -> NDArray[np.bool_]:
    """True at the top left of every side × side window that lies wholly in the mask."""
    from scipy.ndimage import minimum_filter

    result = minimum_filter(mask, size=side, mode="constant", cval=False, origin=-(side // 2))
    return np.asarray(result)


def _level_spread(tiles: _Tiles, side: int) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Spread of tile means in each window over what is allowed, worst channel, and where structure is allowed.

    Indexed by top left. Structure only rules out: preferring windows with little of it would choose those whose
    pixels happen to respond alike, and the spread of response would read too low.
    """
    worst: NDArray[np.float64] | None = None
    plain: NDArray[np.bool_] | None = None
    for name, mean in tiles.means.items():
        average = _window_mean(mean, side)
        spread = np.maximum(_window_mean(mean**2, side) - average**2, 0.0)
        allowed = (_LEVEL_SPREAD_SHARE * average) ** 2 + _SE_ALLOWED * _window_mean(tiles.mean_se[name] ** 2, side)
        # Over a window structure shows far clearer than in a tile.
        bound = (_STRUCTURE_SHARE * average) ** 2 + _SE_ALLOWED * _window_mean(tiles.structure_se[name], side) / side
        fine = _window_mean(tiles.structure[name], side) < bound
        ratio = spread / np.maximum(allowed, 1e-12)
        worst = ratio if worst is None else np.maximum(worst, ratio)
        plain = fine if plain is None else plain & fine
    assert worst is not None  # noqa: S101 - there is always a plane
    assert plain is not None  # noqa: S101 - as above
    return worst, plain


def _window_mean(values: NDArray[np.float64], side: int) -> NDArray[np.float64]:
    """Mean over each side × side window, indexed by its top left."""
    from scipy.ndimage import uniform_filter

    return np.asarray(uniform_filter(values, size=side, mode="nearest", origin=-(side // 2)))


def _by_flatness(flatness: NDArray[np.float64], fits: NDArray[np.bool_]) -> list[tuple[int, int]]:
    rows, columns = np.nonzero(fits)
    order = np.argsort(flatness[rows, columns], kind="stable")
    return [(int(rows[i]), int(columns[i])) for i in order]


def _window(tiles: _Tiles, neutral: NDArray[np.float64] | None, row: int, column: int, side: int) -> _Window:
    raw_px = tiles.tile_px
    rect = Rect(column * raw_px, row * raw_px, side * raw_px, side * raw_px)
    if neutral is None:
        return _Window(rect, 0.0, math.inf, side * side)
    area = np.s_[row : row + side, column : column + side]
    level = rgb_of({channel: float(means[area].mean()) for channel, means in tiles.means.items()})
    return _Window(rect, level[1], _off_neutral(level, neutral) if len(tiles.means) > 1 else 0.0, side * side)


def _off_neutral(level: tuple[float, float, float], neutral: NDArray[np.float64]) -> float:
    """The larger distance of R/G and B/G from the assumed neutral, in stops; infinite in the dark."""
    red, green, blue = level
    if min(level) <= 0:
        return math.inf
    return max(abs(math.log2(red / green / neutral[0])), abs(math.log2(blue / green / neutral[2])))


def _roles(windows: Sequence[_Window], saturation: float) -> list[Proposal]:
    grey = _nearest_level(windows, MID_GREY_SHARE * saturation, _GREY_REACH_STOPS)
    if grey is None:
        return []
    chosen = [Proposal("grey", grey.rect)]
    shadow = _nearest_level(windows, grey.green / 2**SHADOW_STOPS_UNDER_GREY, _SHADOW_REACH_STOPS)
    if shadow is not None:
        chosen.append(Proposal("shadow", shadow.rect))
    light = [
        w
        for w in windows
        if w.green > grey.green * 2.0**_HIGHLIGHT_OVER_GREY_STOPS and w.neutral_stops < _NEUTRAL_STOPS
    ]
    if light:
        chosen.append(Proposal("highlight", max(light, key=lambda w: (w.green, w.area)).rect))
    dark = [w for w in windows if w.green < grey.green / 2**_BLACK_UNDER_GREY_STOPS]
    if dark:
        chosen.append(Proposal("black", max(dark, key=lambda w: (w.area, -w.green)).rect))
    return chosen


def _nearest_level(windows: Sequence[_Window], wanted: float, reach: float) -> _Window | None:
    """The neutral window nearest in stops to a level; a larger one may lie a little further off."""
    scored = [
        (abs(math.log2(w.green / wanted)) - 0.1 * math.log2(w.area), n, w)
        for n, w in enumerate(windows)
        if w.green > 0 and w.neutral_stops < _NEUTRAL_STOPS and abs(math.log2(w.green / wanted)) < reach
    ]
    return min(scored)[2] if scored else None


def _overlap(one: Rect, other: Rect) -> bool:
    return (
        one.x < other.x + other.w and other.x < one.x + one.w and one.y < other.y + other.h and other.y < one.y + one.h
    )
