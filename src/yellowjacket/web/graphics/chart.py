"""A quantity along rungs or ISO, laid out once: in the sheet, in Compare, and in the report on screen and on paper."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Described
from yellowjacket.web.graphics.drawing import HAIR, Dot, Drawing, Group, Shape, Stroke, Text
from yellowjacket.web.graphics.scale import Scale, thresholds_near

# Below this share of the largest value a logarithmic axis shows only its floor.
_FLOOR_SHARE = 2.0**-14
# Room in lines of text: for a tick, and for anything that is written under something else.
_LINES_A_TICK, _A_LINE = 1.8, 1.25
_FEWEST_TICKS, _MOST_TICKS = 2, 6
_DASHES = {"clean": (), "usable": (5.0, 3.0), "emergency": (1.5, 3.0)}


@dataclass(frozen=True, slots=True)
class Axis:
    """Straight or logarithmic, how much it spans at least, in the unit of the values, and what is on it in any case."""

    straight: bool = False
    least_span: float = 0.0
    includes: Sequence[float] = ()


RATIOS, DIFFERENCES = Axis(), Axis(straight=True)
# Stops are a logarithm already; a course of less than one, stretched over the height of a chart, would be noise.
STOPS = Axis(straight=True, least_span=1.0)


def axis_of(described: Described) -> Axis:
    """The axis on which a quantity stands, on every page and in print."""
    return axis_in(described.unit, straight=described.linear)


def axis_in(unit: str, *, straight: bool = False) -> Axis:
    """The axis for values in a unit."""
    if unit == "stops":
        return STOPS
    return DIFFERENCES if straight else RATIOS


@dataclass(frozen=True, slots=True)
class Point:
    """A value at a place along the chart; ``attributes``: what the page does with it."""

    x: float
    value: Quantity | None
    title: str = ""
    attributes: Mapping[str, str] = field(default_factory=dict)

    def drawn(self, axis: Axis) -> float | None:
        """What is drawn of it: nothing that is not known, and on a logarithmic axis nothing that is not above 0."""
        value = None if self.value is None else self.value.value
        return value if value is not None and math.isfinite(value) and (axis.straight or value > 0) else None


@dataclass(frozen=True, slots=True)
class Curve:
    """Points from left to right, and the role that tells curves of one chart apart. A point without a value breaks the line."""

    points: Sequence[Point]
    role: str = ""


@dataclass(frozen=True, slots=True)
class Layout:
    """Where curves lie, in the unit of the drawing: its size, the strips around them, and how large text and points are.

    Words of the value axis end at ``axis_at``; ``names``: whether thresholds are named in the field or on the axis.
    ``words_from``: nothing is written on the axis above it.
    """

    width: float
    height: float
    left: float
    right: float
    top: float
    foot: float
    text: float
    dot: float
    line: float
    axis_at: float
    names: Literal["field", "axis"] = "field"
    words_from: float = 0.0
    marks_at: float = 5.0


@dataclass(frozen=True, slots=True)
class Chart:
    """A chart: its value axis and its field, which the sheet shows in cells of their own."""

    title: str
    width: float
    height: float
    axis: Sequence[Shape]
    shapes: Sequence[Shape]

    @property
    def drawing(self) -> Drawing:
        """Both in one."""
        return Drawing(self.title, self.width, self.height, [*self.axis, *self.shapes])


def chart(
    title: str, curves: Sequence[Curve], layout: Layout,
    *, axis: Axis, thresholds: Sequence[tuple[str, float]] = (), marks: Sequence[tuple[float, str]] = (),
) -> Chart | None:  # fmt: skip
    """The chart of curves with their 95 % intervals; None when there is nothing to draw.

    ``thresholds``: (level, value), shown where they lie among the values; ``marks``: what stands along the foot, with their
    places.
    """
    ends = [end for curve in curves for point in curve.points for end in _ends(point, axis)]
    if not ends:
        return None
    near = thresholds_near(ends, thresholds)
    scale = _scale([*ends, *(bar for _, bar in near)], layout, axis)
    field_end = layout.width - layout.right
    shapes: list[Shape] = []
    for x, mark in marks:
        shapes.append(Stroke([(x, layout.top), (x, layout.height - layout.foot)], 0.5, HAIR, role="grid"))
        shapes.append(Text(x, layout.height - layout.marks_at, mark, layout.text, "middle"))
    named = _apart([(scale.at(bar), f"{level} {bar:g}") for level, bar in near], layout)
    ticks = _ticks(scale, named if layout.names == "axis" else (), layout)
    for at, _ in ticks:
        shapes.append(Stroke([(layout.left, at), (field_end, at)], 0.5, HAIR, role="grid"))
    for level, bar in near:
        line = [(layout.left, scale.at(bar)), (field_end, scale.at(bar))]
        shapes.append(Stroke(line, 0.7, dashes=_DASHES.get(level, (4.0, 3.0)), role=f"threshold {level}"))
    drop, written = 0.35 * layout.text, layout.axis_at
    words: list[Shape] = [Text(written, y + drop, said, layout.text, "end", role="tick") for y, said in ticks]
    if layout.names == "axis":
        words += [Text(written, y + drop, said, layout.text, "end") for y, said in named]
    else:
        # Curves rise or fall from the left, where a threshold within their range is clear of them.
        x = layout.left + 3
        for y, said in named:
            # A line at the very top is named under it: over it stands the title.
            base = y - 0.3 * layout.text if y - layout.text >= layout.top else y + 0.95 * layout.text
            shapes.append(Text(x, base, said, layout.text - 1, role="threshold-name"))
    for curve in curves:
        shapes.append(Group(_curve(curve, scale, layout, axis), role=curve.role))
    return Chart(title, layout.width, layout.height, words, shapes)


def _ends(point: Point, axis: Axis) -> list[float]:
    value = point.drawn(axis)
    if value is None or point.value is None:
        return []
    return [
        value,
        *(end for end in (point.value.low, point.value.high) if end is not None and (axis.straight or end > 0)),
    ]


def _scale(ends: Sequence[float], layout: Layout, axis: Axis) -> Scale:
    """From the foot up; a logarithmic one ends at a share of its largest value."""
    low, high = min(*ends, *axis.includes), max(*ends, *axis.includes)
    if high - low < axis.least_span:
        low, high = ((low + high - axis.least_span) / 2, (low + high + axis.least_span) / 2)
    if not axis.straight:
        low = max(low, high * _FLOOR_SHARE)
    return Scale(
        low, high, layout.height - layout.foot, max(layout.top, layout.words_from), logarithmic=not axis.straight
    )


def _apart(lines: Sequence[tuple[float, str]], layout: Layout) -> list[tuple[float, str]]:
    """Names at their heights, moved down where two would stand in each other."""
    placed: list[tuple[float, str]] = []
    above = -math.inf
    for y, said in sorted(lines):
        above = max(y, above + _A_LINE * layout.text)
        placed.append((above, said))
    return placed


def _ticks(scale: Scale, named: Sequence[tuple[float, str]], layout: Layout) -> list[tuple[float, str]]:
    """Round values that fit and stand clear of what is named on the axis: their heights and how they are written."""
    room = layout.height - layout.foot - max(layout.top, layout.words_from)
    most = min(_MOST_TICKS, max(_FEWEST_TICKS, int(room / (_LINES_A_TICK * layout.text))))
    return [
        (at, f"{value:g}".replace("-", "−"))
        for value, at in scale.round_ticks(most)
        if all(abs(at - other) >= _A_LINE * layout.text for other, _ in named)
    ]


def _curve(curve: Curve, scale: Scale, layout: Layout, axis: Axis) -> list[Shape]:
    """Lines between neighbours that are known, then the points on their intervals."""
    runs: list[list[tuple[float, float]]] = [[]]
    groups: list[Shape] = []
    for point in curve.points:
        value = point.drawn(axis)
        if value is None or point.value is None:
            runs.append([])
            continue
        y = scale.at(value)
        runs[-1].append((point.x, y))
        low, high = (value if end is None else end for end in (point.value.low, point.value.high))
        shapes: list[Shape] = [
            Stroke([(point.x, scale.at(high)), (point.x, scale.at(low))], layout.line * 0.7, role="interval"),
            Dot(point.x, y, layout.dot, role="point"),
        ]
        groups.append(Group(shapes, point.title, "opens" if point.attributes else "", point.attributes))
    return [Stroke(run, layout.line, role="series") for run in runs if len(run) > 1] + groups
