"""Charts drawn in the sheet: their x axis is the columns themselves.

Values to pixels happens here; the template only draws. A missing value breaks the line.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.web.graphics.scale import Scale

_PAD_PX = 12
_UNDER_NAME_PX = 38


@dataclass(frozen=True, slots=True)
class ChartPoint:
    """One rung's value in pixels: centre, ends of the interval, and the words for it."""

    x: float
    y: float
    low_y: float
    high_y: float
    title: str
    reading_id: int | None = None


@dataclass(frozen=True, slots=True)
class Tick:
    """A tick with its label."""

    at: float
    label: str


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


# Below this share of the largest value a logarithmic axis shows only its floor.
_FLOOR_SHARE = 2.0**-14


def _axis(ends: Sequence[float], height: int, *, pad: int, linear: bool, top_pad: int = 0) -> Scale:
    """The axis of a chart from the foot up; a logarithmic one ends at a share of its largest value."""
    top = max(ends)
    floor = top * _FLOOR_SHARE
    bottom = min(value for value in ends if linear or value > 0)
    return Scale(bottom if linear else max(bottom, floor), top, height - pad, max(pad, top_pad), logarithmic=not linear)


def _drawn(quantity: Quantity | None, linear: bool) -> bool:
    return quantity is not None and quantity.value is not None and (linear or quantity.value > 0)


def chart_of(
    values: Sequence[Quantity | None], labels: Sequence[str], thresholds: Sequence[tuple[str, float]],
    *, column_px: int, height: int, title: str, linear: bool = False, reading_ids: Sequence[int | None] = (),
) -> Chart | None:  # fmt: skip
    """A chart with one value per column, its y axis logarithmic unless ``linear``; None when there is nothing to draw.

    ``thresholds``: (level, value) pairs. Intervals are drawn where they are larger than the marker. ``reading_ids``:
    what a point opens.
    """
    known = [q for q in values if q is not None and _drawn(q, linear)]
    if not known:
        return None
    ends = [v for q in known for v in (q.value, q.low, q.high) if v is not None] + [v for _, v in thresholds]
    axis = _axis(ends, height, pad=_PAD_PX, linear=linear)
    if any(axis.at(value) < _UNDER_NAME_PX for _, value in thresholds):
        # Threshold labels stand under the line's name, not in it.
        axis = _axis(ends, height, pad=_PAD_PX, linear=linear, top_pad=_UNDER_NAME_PX)

    def y(value: float | None) -> float:
        return axis.at(axis.first if value is None else value)

    points: list[ChartPoint] = []
    runs: list[list[str]] = [[]]
    for n, (quantity, label) in enumerate(zip(values, labels, strict=True)):
        if quantity is None or not _drawn(quantity, linear):
            runs.append([])
            continue
        x = (n + 0.5) * column_px
        runs[-1].append(f"{x},{y(quantity.value)}")
        points.append(
            ChartPoint(
                x, y(quantity.value), y(quantity.low), y(quantity.high), label, reading_ids[n] if reading_ids else None
            )
        )
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


@dataclass(frozen=True, slots=True)
class Spark:
    """The course of a line in a few pixels."""

    width: int
    height: int
    runs: Sequence[str]


_SPARK_WIDTH_PX, _SPARK_HEIGHT_PX, _SPARK_PAD_PX = 60, 16, 2


def spark_of(values: Sequence[Quantity | None]) -> Spark | None:
    """The course of values without axis or words; logarithmic where all are positive."""
    known = [float(q.value) for q in values if q is not None and q.value is not None]
    if len(known) < 2:
        return None
    axis = _axis(known, _SPARK_HEIGHT_PX, pad=_SPARK_PAD_PX, linear=min(known) <= 0)
    step = (_SPARK_WIDTH_PX - 2 * _SPARK_PAD_PX) / (len(values) - 1)
    runs: list[list[str]] = [[]]
    for n, quantity in enumerate(values):
        if quantity is None or quantity.value is None:
            runs.append([])
        else:
            runs[-1].append(f"{round(_SPARK_PAD_PX + n * step, 1)},{axis.at(quantity.value)}")
    return Spark(_SPARK_WIDTH_PX, _SPARK_HEIGHT_PX, [" ".join(run) for run in runs if len(run) > 1])
