"""Limits along ISO as marks on a stop axis: a row for every use, with the 95 % intervals behind them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.web.graphics.drawing import HAIR, INK, Drawing, Shape, Stroke, Text
from yellowjacket.web.graphics.scale import Scale

# Points: the names to the left, the axis to the right of them.
WIDTH_PT = 500.0
_NAME, _RIGHT, _HEAD, _ROW, _FOOT = 112.0, 22.0, 20.0, 38.0, 2.0
_TEXT, _SMALL = 8.0, 7.0
# The further a level reaches the thinner its bar, so that all three are seen in one.
_BAR_PT = {"clean": 9.0, "usable": 4.0, "emergency": 1.4}
_BAR_Y, _WORDS_Y, _INTERVAL_Y, _CAP = 13.0, 25.0, 5.0, 1.8
_CLOSE_PT = 26.0


@dataclass(frozen=True, slots=True)
class LimitMark:
    """How far a level reaches: its mark, the 95 % interval of the crossing where there is one, and whether the ladder ended
    first."""

    level: str
    iso: int
    low: float | None = None
    high: float | None = None
    at_least: bool = False


@dataclass(frozen=True, slots=True)
class LimitRow:
    """A use and what is known of it; without marks it says ``otherwise``."""

    name: str
    marks: Sequence[LimitMark]
    otherwise: str = ""


def limit_chart(title: str, rows: Sequence[LimitRow], isos: Sequence[int]) -> Drawing | None:
    """The chart over the ISO settings of a ladder; None where no row has a mark or there are fewer than two settings."""
    ends = [float(iso) for iso in isos] + [float(mark.iso) for row in rows for mark in row.marks]
    if len(isos) < 2 or not any(row.marks for row in rows):
        return None
    axis = Scale(min(ends), max(ends), _NAME, WIDTH_PT - _RIGHT, logarithmic=True)
    foot = _HEAD + _ROW * len(rows)
    shapes: list[Shape] = [Text(0, _HEAD - 8, "ISO", _SMALL, strong=True)]
    for value, words in _stops(min(ends), max(ends)):
        x = axis.at(value)
        shapes += [Stroke([(x, _HEAD - 4), (x, foot)], 0.5, HAIR), Text(x, _HEAD - 8, words, _SMALL, "middle")]
    for n, row in enumerate(rows):
        shapes += _row(row, axis, _HEAD + _ROW * n)
    return Drawing(title, WIDTH_PT, foot + _FOOT, shapes)


def _stops(first: float, last: float) -> list[tuple[float, str]]:
    """Full stops of the dial from 100 up and down, each as it is written."""
    low, high = math.ceil(math.log2(first / 100) - 0.01), math.floor(math.log2(last / 100) + 0.01)
    every = 1 if high - low <= 10 else 2
    marks = [100.0 * 2.0**stop for stop in range(low, high + 1, every)]
    return [(mark, f"{mark:.0f}") for mark in marks]


def _row(row: LimitRow, axis: Scale, top: float) -> list[Shape]:
    y = top + _BAR_Y
    shapes: list[Shape] = [Text(0, y + 3, row.name, _TEXT, strong=True)]
    if not row.marks:
        return [*shapes, Text(axis.begin + 4, y + 3, row.otherwise, _TEXT)]
    written: list[float] = []
    for mark in sorted(row.marks, key=lambda one: -one.iso):
        x = axis.at(mark.iso)
        # A bar that ends at the first setting still has a length to see.
        shapes.append(Stroke([(axis.begin - 3, y), (x, y)], _BAR_PT[mark.level], INK))
        if mark.low is not None and mark.high is not None:
            shapes += _interval(axis.at(mark.low), axis.at(mark.high), top + _INTERVAL_Y)
        if all(abs(x - other) >= _CLOSE_PT for other in written):
            levels = [one.level for one in row.marks if abs(axis.at(one.iso) - x) < _CLOSE_PT]
            words = f"{'≥ ' if mark.at_least else ''}{mark.iso}"
            shapes.append(Text(x, top + _WORDS_Y, words, _SMALL, "middle", strong=True))
            shapes.append(Text(x, top + _WORDS_Y + 7, _named(levels), _SMALL - 1, "middle"))
            written.append(x)
    return shapes


def _named(levels: Sequence[str]) -> str:
    return levels[0] if len(levels) == 1 else ", ".join(levels)


def _interval(low: float, high: float, y: float) -> list[Shape]:
    ends = [Stroke([(x, y - _CAP), (x, y + _CAP)], 0.8) for x in (low, high)]
    return [Stroke([(low, y), (high, y)], 0.8), *ends]
