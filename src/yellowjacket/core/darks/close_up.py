"""A dark looked at closely: a pixel among its neighbours, and what the repair of lone points leaves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.darks.hot_pixels import REPAIR_SPREADS
from yellowjacket.core.raw.frame import Layout

# Half the side of the neighbourhood that is shown around a point.
AROUND_PX = 5
# The look at what repair leaves: its side, and the excess that is white.
REPAIR_PX, _REPAIR_WHITE_SPREADS = 64, 40.0
_BLACK_LEVEL, _WHITE_LEVEL = 35, 220


@dataclass(frozen=True, slots=True)
class Neighbour:
    """A pixel of the neighbourhood: place in it, number in DN, brightness 0 to 1, whether it is the pixel asked for, and
    whether it has that one's colour."""

    x: int
    y: int
    value: int
    shade: float
    own: bool
    same: bool


@dataclass(frozen=True, slots=True)
class CloseUp:
    """A pixel among its neighbours: ``repeats`` are its numbers in every dark, in DN; ``side`` of the square in pixels."""

    channel: str
    repeats: tuple[int, ...]
    cells: tuple[tuple[Neighbour, ...], ...]
    side: int


def close_up(darks: Sequence[NDArray[np.uint16]], x: int, y: int, black_dn: float, layout: Layout) -> CloseUp:
    """The pixel at ``x``, ``y`` of darks of one time, shape (height, width), with what stands around it in the first.

    ``layout``: of one sample to a pixel. Raises ValueError outside the frame.
    """
    first = darks[0]
    height, width = first.shape
    if not (0 <= x < width and 0 <= y < height):
        raise ValueError(f"{x}, {y} lies outside a frame of {width} × {height} px")
    side = 2 * AROUND_PX + 1
    left, top = (max(0, min(v - AROUND_PX, length - side)) for v, length in ((x, width), (y, height)))
    area = first[top : top + side, left : left + side].astype(np.float64)
    shades = np.clip((area - black_dn) / max(float(area.max()) - black_dn, 1.0), 0.0, 1.0).round(3)
    cells = tuple(
        tuple(
            Neighbour(
                column, row, int(area[row, column]), float(shades[row, column]), (left + column, top + row) == (x, y),
                layout.at(left + column, top + row) == layout.at(x, y),
            )
            for column in range(area.shape[1])
        )
        for row in range(area.shape[0])
    )  # fmt: skip
    return CloseUp(layout.at(x, y), tuple(int(dark[y, x]) for dark in darks), cells, side)


def repair_shown(
    dark: NDArray[np.uint16], x: int, y: int, spread_dn: float, step: int, *, after: bool
) -> NDArray[np.uint8]:
    """A square of the dark around ``x``, ``y``, brightened, as it is or ``after`` the repair of lone points; grey, 0 to 255.

    ``spread_dn``: of ordinary pixels there. ``step``: pixels after which the layout of the filters repeats.
    Shape (height, width) in DN, (REPAIR_PX, REPAIR_PX) out.
    """
    height, width = dark.shape
    # On whole tiles, so that colours stay where they are.
    left, top = (
        max(0, min(v - REPAIR_PX // 2, length - REPAIR_PX)) // step * step for v, length in ((x, width), (y, height))
    )
    area = dark[top : top + REPAIR_PX, left : left + REPAIR_PX].astype(np.float32)
    shown = repaired(area, REPAIR_SPREADS * spread_dn, step) if after else area
    over = (shown - float(np.median(area))) / (_REPAIR_WHITE_SPREADS * spread_dn)
    return np.clip(over * _WHITE_LEVEL + _BLACK_LEVEL, 0, 255).astype(np.uint8)


def repaired(area: NDArray[np.floating] | NDArray[np.uint16], bar: float, step: int) -> NDArray[np.float32]:
    """A mosaic after the repair that converters make of lone points: what stands more than ``bar`` above all of its
    eight neighbours of one site in the tile, ``step`` pixels away, becomes their median. Same shape; edges repeat."""
    values = np.asarray(area, np.float32)
    result = values.copy()
    for row in range(step):
        for column in range(step):
            plane = values[row::step, column::step]
            padded = np.pad(plane, 1, mode="edge")
            around = np.stack([
                padded[1 + down : 1 + down + plane.shape[0], 1 + across : 1 + across + plane.shape[1]]
                for down in (-1, 0, 1) for across in (-1, 0, 1) if down or across
            ])  # fmt: skip
            lone = plane > around.max(axis=0) + bar
            result[row::step, column::step] = np.where(lone, np.median(around, axis=0), plane)
    return result
