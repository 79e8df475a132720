"""Charts drawn in the sheet: their x axis is the columns themselves.

Values to pixels happens here; the template only draws. A missing value breaks the line.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.core.metrology.estimate import Quantity

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


class _Axis:
    """Values to pixels from the top, on a straight or a logarithmic scale."""

    def __init__(self, ends: Sequence[float], height: int, *, pad: int, linear: bool, top_pad: int = 0) -> None:
        self._linear, self._pad = linear, max(pad, top_pad)
        self._floor = max(ends) * _FLOOR_SHARE
        placed = [self._of(value) for value in ends if linear or value > 0]
        self._top = max(placed)
        self._scale = (height - pad - self._pad) / max(self._top - min(placed), 1e-6)
        self._bottom = min(placed)

    def _of(self, value: float) -> float:
        return value if self._linear else math.log2(max(value, self._floor))

    def at(self, value: float | None) -> float:
        """Pixels from the top; what lies under the scale stands at its end."""
        placed = self._bottom if value is None else max(self._of(value), self._bottom)
        return round(self._pad + (self._top - placed) * self._scale, 1)


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
    axis = _Axis(ends, height, pad=_PAD_PX, linear=linear)
    if any(axis.at(value) < _UNDER_NAME_PX for _, value in thresholds):
        # Threshold labels stand under the line's name, not in it.
        axis = _Axis(ends, height, pad=_PAD_PX, linear=linear, top_pad=_UNDER_NAME_PX)
    y = axis.at
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
    axis = _Axis(known, _SPARK_HEIGHT_PX, pad=_SPARK_PAD_PX, linear=min(known) <= 0)
    step = (_SPARK_WIDTH_PX - 2 * _SPARK_PAD_PX) / (len(values) - 1)
    runs: list[list[str]] = [[]]
    for n, quantity in enumerate(values):
        if quantity is None or quantity.value is None:
            runs.append([])
        else:
            runs[-1].append(f"{round(_SPARK_PAD_PX + n * step, 1)},{axis.at(quantity.value)}")
    return Spark(_SPARK_WIDTH_PX, _SPARK_HEIGHT_PX, [" ".join(run) for run in runs if len(run) > 1])
