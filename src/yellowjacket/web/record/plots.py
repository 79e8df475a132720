"""Plots of the report: a quantity along the rungs with its intervals."""

from __future__ import annotations

import math
from collections.abc import Sequence

from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.web.graphics.chart import Axis, Curve, Layout, Point, chart
from yellowjacket.web.graphics.drawing import Drawing, Text

# Points of print.
_LAYOUT = Layout(250, 112, left=30, right=8, top=16, foot=18, text=7.5, dot=1.8, line=1.2, axis_at=26)
_TITLE_Y = 9
_FEWEST, _MOST_LABELS = 2, 8


def plot_of(
    title: str, labels: Sequence[str], values: Sequence[Quantity | None], axis: Axis,
    thresholds: Sequence[tuple[str, float]] = (),
) -> Drawing | None:  # fmt: skip
    """A plot of a quantity, a column per rung; None where fewer than two rungs have it. The rest as for ``chart``."""
    column = (_LAYOUT.width - _LAYOUT.left - _LAYOUT.right) / len(values)
    points = [Point(_LAYOUT.left + (n + 0.5) * column, value) for n, value in enumerate(values)]
    if sum(point.drawn(axis) is not None for point in points) < _FEWEST:
        return None
    every = max(1, math.ceil(len(labels) / _MOST_LABELS))
    marks = [(point.x, label) for point, label in list(zip(points, labels, strict=True))[::every]]
    found = chart(title, [Curve(points)], _LAYOUT, axis=axis, thresholds=thresholds, marks=marks)
    if found is None:
        return None
    name = Text(_LAYOUT.left, _TITLE_Y, title, _LAYOUT.text, strong=True)
    return Drawing(title, found.width, found.height, [name, *found.drawing.shapes])
