"""Plots of the report: a quantity along the rungs with its intervals."""

from __future__ import annotations

import math
from collections.abc import Sequence

from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.web.graphics.drawing import HAIR, Dot, Drawing, Shape, Stroke, Text
from yellowjacket.web.graphics.scale import Scale, thresholds_near

# Points of print; the strips left, right, over and under the field of the curve.
SIZE_PT = (250.0, 112.0)
_LEFT, _RIGHT, _TOP, _FOOT = 30.0, 8.0, 16.0, 18.0
_TEXT_PT = 7.5
_FEWEST, _MOST_LABELS = 2, 8
_TICKS = 4


def plot_of(
    title: str, labels: Sequence[str], values: Sequence[Quantity | None], thresholds: Sequence[tuple[str, float]] = ()
) -> Drawing | None:
    """A plot of a quantity, a column per rung; None where fewer than two rungs have it. ``thresholds``: (level, value), shown
    where they lie among the values.

    Logarithmic where everything is above nothing, as most of these quantities follow stops. A rung without a value breaks
    the line.
    """
    known = {n: q for n, q in enumerate(values) if q is not None and q.value is not None and math.isfinite(q.value)}
    if len(known) < _FEWEST:
        return None
    ends = [one for q in known.values() for one in (q.value, q.low, q.high) if one is not None]
    near = thresholds_near(ends, thresholds)
    ends += [bar for _, bar in near]
    bottom, top = min(ends), max(ends)
    y = Scale(bottom, top, SIZE_PT[1] - _FOOT, _TOP, logarithmic=bottom > 0)
    column = (SIZE_PT[0] - _LEFT - _RIGHT) / len(values)
    x = [_LEFT + (n + 0.5) * column for n in range(len(values))]
    shapes: list[Shape] = [Text(_LEFT, 9, title, _TEXT_PT, strong=True)]
    for value, at in y.round_ticks(_TICKS):
        shapes += [
            Stroke([(_LEFT, at), (SIZE_PT[0] - _RIGHT, at)], 0.5, HAIR),
            Text(_LEFT - 4, at + 2.5, f"{value:g}", _TEXT_PT, "end"),
        ]
    every = max(1, math.ceil(len(labels) / _MOST_LABELS))
    shapes += [
        Text(x[n], SIZE_PT[1] - 5, label, _TEXT_PT, "middle") for n, label in enumerate(labels) if n % every == 0
    ]
    for level, bar in near:
        at = y.at(bar)
        right = SIZE_PT[0] - _RIGHT
        dashes = [Stroke([(x0, at), (min(x0 + 4, right), at)], 0.7) for x0 in range(int(_LEFT), int(right), 7)]
        # Curves rise or fall from the left, where a threshold within their range is clear of them.
        shapes += [*dashes, Text(_LEFT + 3, at - 2, f"{level} {bar:g}", _TEXT_PT - 1)]
    for n, q in known.items():
        value = q.value or 0.0
        if n - 1 in known:
            shapes.append(Stroke([(x[n - 1], y.at(known[n - 1].value or 0.0)), (x[n], y.at(value))], 1.2))
        low, high = (value if end is None else end for end in (q.low, q.high))
        shapes += [Stroke([(x[n], y.at(low)), (x[n], y.at(high))], 0.8), Dot(x[n], y.at(value), 1.8)]
    return Drawing(title, *SIZE_PT, shapes)
