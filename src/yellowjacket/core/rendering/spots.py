"""Spots worth looking at, found in a frame: where noise and colour go first, and where highlights do."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.colorimetry import camera_to_srgb, lab_of_linear_srgb, rgb_of
from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.rendering.develop import Development

# Side of a tile in raw pixels: about what a crop shows around its middle.
_TILE_PX = 48
_HALVES = 2
# Bounds in L*: a mid-tone, and what is neither black nor burnt when colour is judged.
_MID_TONE = (40.0, 65.0)
_COLOURED = (20.0, 90.0)
# A reflection: this share of a tile's cells at least stands at the clip level.
_SPECULAR_SHARE = 0.002
_LEAST_CHROMA = 15.0


@dataclass(frozen=True, slots=True)
class Spot:
    """A spot by name, centre in raw pixels."""

    name: str
    x: int
    y: int


@dataclass(frozen=True, slots=True, eq=False)
class _Tiles:
    """Of every tile: mean CIELAB, how much its parts differ, its finest contrast, and its share of clipped cells."""

    lab: NDArray[np.float64]
    uneven: NDArray[np.float64]
    fine: NDArray[np.float64]
    clipped: NDArray[np.float64]
    tile_px: int


def spots_worth_looking_at(frame: RawFrame, how: Development) -> tuple[Spot, ...]:
    """Deepest shadow, flat mid-tone, finest texture, strongest red and blue, specular highlight: those that are there.

    ``how``: balances and brightens the frame. A frame smaller than a few tiles has none.
    """
    tiles = _tiles_of(frame, how)
    if tiles is None:
        return ()
    lightness, a, b = tiles.lab[..., 0], tiles.lab[..., 1], tiles.lab[..., 2]
    inside = np.zeros(lightness.shape, np.bool_)
    inside[1:-1, 1:-1] = True
    whole = inside & (tiles.clipped == 0)
    coloured = whole & (lightness > _COLOURED[0]) & (lightness < _COLOURED[1])
    mid = whole & (lightness > _MID_TONE[0]) & (lightness < _MID_TONE[1]) & (np.hypot(a, b) < _LEAST_CHROMA)
    flat = whole & (tiles.uneven <= np.percentile(tiles.uneven[whole], 60)) if whole.any() else whole
    red = np.where(coloured & (b > -_LEAST_CHROMA), a, -np.inf)
    candidates: Mapping[str, tuple[NDArray[np.float64], float]] = {
        "deepest shadow": (np.where(flat, -lightness, -np.inf), -_MID_TONE[0]),
        "flat mid-tone": (np.where(mid, -tiles.uneven, -np.inf), -np.inf),
        "finest texture": (np.where(coloured, tiles.fine, -np.inf), 0.0),
        "strongest red": (red, _LEAST_CHROMA),
        "strongest blue": (np.where(coloured, -b, -np.inf), _LEAST_CHROMA),
        "specular highlight": (np.where(inside, tiles.clipped, -np.inf), _SPECULAR_SHARE),
    }
    found = []
    for name, (worth, least) in candidates.items():
        row, column = np.unravel_index(int(np.argmax(worth)), worth.shape)
        if np.isfinite(worth[row, column]) and worth[row, column] > least:
            centre = [int(n) * tiles.tile_px + tiles.tile_px // 2 for n in (column, row)]
            found.append(Spot(name, centre[0], centre[1]))
    return tuple(found)


def _tiles_of(frame: RawFrame, how: Development) -> _Tiles | None:
    cell = frame.layout.cell
    # Cells to a tile, a whole number of each part that is looked at.
    side = _TILE_PX // cell // (2 * _HALVES) * 2 * _HALVES
    tile_px = side * cell
    width, height = frame.size
    rows, columns = height // tile_px, width // tile_px
    if rows < 3 or columns < 3:
        return None
    cells = np.empty((rows * side, columns * side, 3), np.float64)
    clipped = np.zeros((rows * side, columns * side), np.bool_)
    levels: dict[str, NDArray[np.float64]] = {}
    for name in frame.channels:
        plane = frame.cells(name)[: rows * side, : columns * side].astype(np.float64)
        clipped |= plane >= 0.99 * frame.white_dn
        levels[name] = plane - frame.black_dn[name]
    for index, plane in enumerate(rgb_of(levels)):
        cells[..., index] = plane * how.gains[index]
    by_tile = cells.reshape(rows, side, columns, side, 3)
    half = side // _HALVES
    quarters = by_tile.reshape(rows, _HALVES, half, columns, _HALVES, half, 3).mean(axis=(2, 5))
    green = by_tile[..., 1]
    mean = green.mean(axis=(1, 3))
    # Pairs of cells averaged: noise falls, detail two cells wide stays. Over the root of the level photon noise weighs the
    # same in lights and shadows.
    fine = _roughness(green, 2) / np.sqrt(np.maximum(mean, 1e-4))
    lab = lab_of_linear_srgb(np.maximum(by_tile.mean(axis=(1, 3)), 0) @ camera_to_srgb(how.xyz_to_camera).T)
    level = np.maximum(mean, 1e-4)
    uneven = np.ptp(quarters[..., 1].transpose(0, 2, 1, 3).reshape(rows, columns, _HALVES**2), axis=2) / level
    share = clipped.reshape(rows, side, columns, side).mean(axis=(1, 3))
    return _Tiles(lab, uneven, fine, share, tile_px)


def _roughness(green: NDArray[np.float64], cells: int) -> NDArray[np.float64]:
    """Median second difference, both ways, of ``cells`` × ``cells`` averages within tiles: slopes and lone edges drop out."""
    rows, side, columns, _ = green.shape
    small = green.reshape(rows, side // cells, cells, columns, side // cells, cells).mean(axis=(2, 5))
    both = [np.median(np.abs(np.diff(small, n=2, axis=axis)), axis=(1, 3)) for axis in (1, 3)]
    return np.asarray(both[0] + both[1])
