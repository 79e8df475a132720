"""Charts drawn in the sheet: their x axis is the columns themselves.

Values to pixels happens here; the template only draws. A missing value breaks the line.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.core.quantity import Quantity

_PAD_PX = 12


@dataclass(frozen=True, slots=True)
class ChartPoint:
    """One rung's value in pixels: centre, ends of the interval, and the words for it."""

    x: float
    y: float
    low_y: float
    high_y: float
    title: str


@dataclass(frozen=True, slots=True)
class Threshold:
    """A horizontal line with its label."""

    y: float
    label: str
    level: str
    label_y: float


@dataclass(frozen=True, slots=True)
class Chart:
    """What the template draws. ``runs``: polylines between measured neighbours, as SVG point lists."""

    width: int
    height: int
    runs: Sequence[str]
    points: Sequence[ChartPoint]
    thresholds: Sequence[Threshold]
    title: str


def log_chart(
    values: Sequence[Quantity | None], labels: Sequence[str], thresholds: Sequence[tuple[str, float]],
    *, column_px: int, height: int, title: str,
) -> Chart | None:  # fmt: skip
    """A chart on a logarithmic y axis, one value per column; None when there is nothing to draw.

    ``thresholds``: (level, value) pairs. Intervals are drawn where they are larger than the marker.
    """
    known = [q for q in values if q is not None and q.value is not None and q.value > 0]
    if not known:
        return None
    ends = [q.value for q in known] + [q.low for q in known] + [q.high for q in known] + [v for _, v in thresholds]
    logs = [math.log2(v) for v in ends if v is not None and v > 0]
    top, bottom = max(logs), min(logs)
    scale = (height - 2 * _PAD_PX) / max(top - bottom, 1e-6)

    def y(value: float | None) -> float:
        return round(_PAD_PX + (top - math.log2(max(value or 0.0, 2.0**bottom))) * scale, 1)

    points: list[ChartPoint] = []
    runs: list[list[str]] = [[]]
    for n, (quantity, label) in enumerate(zip(values, labels, strict=True)):
        if quantity is None or quantity.value is None or quantity.value <= 0:
            runs.append([])
            continue
        x = (n + 0.5) * column_px
        runs[-1].append(f"{x},{y(quantity.value)}")
        points.append(ChartPoint(x, y(quantity.value), y(quantity.low), y(quantity.high), label))
    return Chart(
        column_px * len(values), height, [" ".join(run) for run in runs if len(run) > 1], points,
        _spread_labels([(y(value), f"{level} {value:g}", level) for level, value in thresholds]), title,
    )  # fmt: skip


_LABEL_PX = 15


def _spread_labels(lines: list[tuple[float, str, str]]) -> list[Threshold]:
    """Thresholds with their labels kept a line of text apart."""
    placed: list[Threshold] = []
    floor = -math.inf
    for y, label, level in sorted(lines):
        label_y = max(y + 4, floor + _LABEL_PX)
        floor = label_y
        placed.append(Threshold(y, label, level, round(label_y, 1)))
    return placed
