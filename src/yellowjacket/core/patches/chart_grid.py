"""A chart's grid of patches from its four corners, seen in whatever perspective the picture shows it."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.raw.rect import Rect

Point = tuple[float, float]
# Share of a cell left free on each side, clear of its borders.
INSET = 0.2
LEAST_SIDE_PX = 16
MOST_CELLS = 400
# Rounding of the arithmetic, in pixels.
_HAIR = 1e-6


def grid_cells(corners: Sequence[Point], rows: int, columns: int, *, inset: float = INSET) -> tuple[Rect, ...]:
    """The patches of a chart, row by row from the first corner.

    ``corners``: top left, top right, bottom right, bottom left as the chart is read, in raw pixels. Each patch is the
    largest upright rectangle inside its cell less ``inset`` of the cell on every side.
    Raises ValueError for fewer than four corners, corners that are no quadrangle, or cells too small to measure.
    """
    if len(corners) != 4:
        raise ValueError(f"a grid has four corners, not {len(corners)}")
    if not (rows >= 1 and columns >= 1 and rows * columns <= MOST_CELLS):
        raise ValueError(f"a grid has 1 to {MOST_CELLS} cells; asked for {rows} rows × {columns} columns")
    if not all(math.isfinite(number) for corner in corners for number in corner):
        raise ValueError("the corners need finite numbers")
    to_picture = _projection(corners)
    cells = []
    for row in range(rows):
        for column in range(columns):
            edges = [(row + part) / rows for part in (inset, 1 - inset)]
            sides = [(column + part) / columns for part in (inset, 1 - inset)]
            found = [_mapped(to_picture, (u, v)) for v in edges for u in sides]
            cells.append(_upright(found, row, column))
    return tuple(cells)


def _projection(corners: Sequence[Point]) -> NDArray[np.float64]:
    """The projective map of the unit square to a quadrangle, 3 × 3."""
    if not _convex(corners):
        raise ValueError("the four corners do not span a quadrangle: give them in order around the chart")
    equations, values = [], []
    for (u, v), (x, y) in zip(((0, 0), (1, 0), (1, 1), (0, 1)), corners, strict=True):
        equations += [[u, v, 1, 0, 0, 0, -u * x, -v * x], [0, 0, 0, u, v, 1, -u * y, -v * y]]
        values += [x, y]
    return np.append(np.linalg.solve(np.array(equations, float), np.array(values, float)), 1.0).reshape(3, 3)


def _convex(corners: Sequence[Point]) -> bool:
    """Whether the corners turn the same way all around, with some area."""
    turns = []
    for n in range(4):
        (ax, ay), (bx, by), (cx, cy) = (corners[(n + k) % 4] for k in range(3))
        turns.append((bx - ax) * (cy - by) - (by - ay) * (cx - bx))
    return all(turn > 1.0 for turn in turns) or all(turn < -1.0 for turn in turns)


def _mapped(projection: NDArray[np.float64], point: Point) -> Point:
    x, y, w = projection @ np.array([*point, 1.0])
    return float(x / w), float(y / w)


def _upright(points: Sequence[Point], row: int, column: int) -> Rect:
    """The upright rectangle between the two inner ones of four corners, each way, on even pixels."""
    xs, ys = (sorted(point[axis] for point in points) for axis in (0, 1))
    left, right = math.ceil(xs[1] / 2 - _HAIR) * 2, math.floor(xs[2] / 2 + _HAIR) * 2
    top, bottom = math.ceil(ys[1] / 2 - _HAIR) * 2, math.floor(ys[2] / 2 + _HAIR) * 2
    if right - left < LEAST_SIDE_PX or bottom - top < LEAST_SIDE_PX:
        raise ValueError(
            f"cell {column + 1} of row {row + 1} leaves less than {LEAST_SIDE_PX} px to measure: fewer cells, or a "
            "chart that stands straighter and fills more of the frame"
        )
    return Rect(left, top, right - left, bottom - top)
