"""Charts drawn in the sheet: their x axis is the columns themselves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from django.urls import reverse

from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.web.graphics.chart import Axis, Chart, Curve, Layout, Point, chart
from yellowjacket.web.graphics.scale import Scale

_PAD_PX = 12
# The value axis stands in the cell of the line's name, under its words.
_AXIS_AT_PX, _UNDER_NAME_PX = 86, 44


@dataclass(frozen=True, slots=True)
class Tick:
    """A tick with its label."""

    at: float
    label: str


def in_columns(
    title: str, values: Sequence[Quantity | None], labels: Sequence[str], thresholds: Sequence[tuple[str, float]],
    *, axis: Axis, column_px: int, height: int, reading_ids: Sequence[int | None] = (),
) -> Chart | None:  # fmt: skip
    """A chart with one value per column; None when there is nothing to draw.

    ``thresholds``: (level, value) pairs. ``reading_ids``: what a point opens.
    """
    layout = Layout(
        column_px * len(values), height, left=0, right=0, top=_PAD_PX, foot=_PAD_PX, text=12, dot=3.6, line=2,
        axis_at=_AXIS_AT_PX, names="axis", words_from=_UNDER_NAME_PX,
    )  # fmt: skip
    points = [
        Point((n + 0.5) * column_px, value, label, _opens(reading_ids[n] if reading_ids else None))
        for n, (value, label) in enumerate(zip(values, labels, strict=True))
    ]
    return chart(title, [Curve(points)], layout, axis=axis, thresholds=thresholds)


def _opens(reading_id: int | None) -> dict[str, str]:
    if reading_id is None:
        return {}
    return {"hx-get": reverse("provenance", args=[reading_id]), "hx-target": "#foot", "hx-sync": "#foot:queue last"}


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
    foot = _SPARK_HEIGHT_PX - _SPARK_PAD_PX
    axis = Scale(min(known), max(known), foot, _SPARK_PAD_PX, logarithmic=min(known) > 0)
    step = (_SPARK_WIDTH_PX - 2 * _SPARK_PAD_PX) / (len(values) - 1)
    runs: list[list[str]] = [[]]
    for n, quantity in enumerate(values):
        if quantity is None or quantity.value is None:
            runs.append([])
        else:
            runs[-1].append(f"{round(_SPARK_PAD_PX + n * step, 1)},{axis.at(quantity.value)}")
    return Spark(_SPARK_WIDTH_PX, _SPARK_HEIGHT_PX, [" ".join(run) for run in runs if len(run) > 1])
