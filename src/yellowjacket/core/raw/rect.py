"""Rectangles in raw pixels."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from numpy.typing import NDArray

from yellowjacket.core.raw.clipping import Plane
from yellowjacket.core.raw.frame import RawFrame, cells_of


@dataclass(frozen=True, slots=True)
class Rect:
    """A rectangle in raw pixels; x, y of the top left, all even."""

    x: int
    y: int
    w: int
    h: int

    def of_cells(self, plane: NDArray[Any], cell: int) -> NDArray[Any]:
        """The part of a plane on the grid of cells that lies inside; ``cell``: raw pixels to a cell's side."""
        return plane[self.y // cell : (self.y + self.h) // cell, self.x // cell : (self.x + self.w) // cell]

    def cells(self, frame: RawFrame, channel: str) -> NDArray[Any]:
        """The part of a channel that lies inside, on the grid of cells. See RawFrame.cells."""
        layout = frame.layout
        if len(layout.sites(channel)) == 1:
            return self.of_cells(frame.cells(channel), layout.cell)
        # Only the part that is needed is averaged: from the tile the rectangle begins in.
        top, left = self.y // layout.step * layout.step, self.x // layout.step * layout.step
        part = frame.mosaic[top : self.y + self.h + layout.step, left : self.x + self.w + layout.step]
        inside = Rect(self.x - left, self.y - top, self.w, self.h)
        return inside.of_cells(cells_of(part, layout, channel), layout.cell)

    def parts(self, frame: RawFrame, channel: str) -> tuple[Plane, ...]:
        """The pixels of a channel that lie inside, one array for each of its sites in the tile."""
        layout = frame.layout
        rows, columns = self.h // layout.step, self.w // layout.step
        found = []
        for site in layout.sites(channel):
            top = self.y + (site.row - self.y) % layout.step
            left = layout.samples * self.x + (site.column - layout.samples * self.x) % site.column_step
            found.append(frame.mosaic[top :: site.row_step, left :: site.column_step][:rows, :columns])
        return tuple(found)

    def around(self, width: int, height: int, margin: int, step: int) -> tuple[Rect, Rect]:
        """With a margin around it where a frame of ``width`` × ``height`` has one, begun on a whole tile of ``step`` pixels: that
        area, and where in it this one lies."""
        left, top = max(self.x - margin, 0), max(self.y - margin, 0)
        left, top = left + -left % step, top + -top % step
        right, bottom = min(self.x + self.w + margin, width), min(self.y + self.h + margin, height)
        return Rect(left, top, right - left, bottom - top), Rect(self.x - left, self.y - top, self.w, self.h)

    def fits(self, width: int, height: int) -> bool:
        """Whether it lies wholly inside a frame of that size."""
        return (
            self.x >= 0
            and self.y >= 0
            and self.w >= 2
            and self.h >= 2
            and self.x + self.w <= width
            and self.y + self.h <= height
        )


def even_rect(x: float, y: float, w: float, h: float, width: int, height: int) -> Rect:
    """The nearest even rectangle inside a frame of ``width`` × ``height``, at least 16 px a side.

    Raises ValueError for numbers that are not finite.
    """
    if not all(math.isfinite(number) for number in (x, y, w, h)):
        raise ValueError(f"a patch needs finite numbers, got {x}, {y}, {w}, {h}")
    side = 16
    w_even = int(min(max(side, round(w / 2) * 2), width - width % 2))
    h_even = int(min(max(side, round(h / 2) * 2), height - height % 2))
    x_even = int(min(max(0, round(x / 2) * 2), (width - w_even) // 2 * 2))
    y_even = int(min(max(0, round(y / 2) * 2), (height - h_even) // 2 * 2))
    return Rect(x_even, y_even, w_even, h_even)


def clamped(frame_width: int, frame_height: int, centre: tuple[int, int], size: tuple[int, int]) -> Rect:
    """A crop of ``size`` around ``centre``, moved inside the frame; smaller frames give smaller crops."""
    w, h = min(size[0], frame_width), min(size[1], frame_height)
    x = min(max(0, centre[0] - w // 2), frame_width - w)
    y = min(max(0, centre[1] - h // 2), frame_height - h)
    return Rect(x, y, w, h)
