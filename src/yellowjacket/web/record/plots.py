"""Plots of the report: a quantity along the rungs with its intervals, drawn as SVG for the page and as shapes for the PDF."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from django.utils.html import escape
from reportlab.graphics.shapes import Circle, Drawing, Line, PolyLine, String
from reportlab.lib.colors import HexColor

from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.web.templatetags.values import number

# Points of print; the strips left, right, over and under the field of the curve.
SIZE_PT = (250.0, 112.0)
_LEFT, _RIGHT, _TOP, _FOOT = 30.0, 8.0, 16.0, 18.0
_INK, _HAIR = "#161616", "#cfcfcc"
_TEXT_PT = 7.5
_FEWEST = 2
_TICKS = 3


@dataclass(frozen=True, slots=True)
class Plot:
    """A plot in points from the top left: polylines between measured neighbours, points with their intervals, labels."""

    title: str
    runs: Sequence[Sequence[tuple[float, float]]]
    points: Sequence[tuple[float, float, float, float]]
    columns: Sequence[tuple[float, str]]
    ticks: Sequence[tuple[float, str]]


def plot_of(title: str, labels: Sequence[str], values: Sequence[Quantity | None]) -> Plot | None:
    """A plot of a quantity, a column per rung; None where fewer than two rungs have it.

    Logarithmic where everything is above nothing, as most of these quantities follow stops.
    """
    known = [(n, q) for n, q in enumerate(values) if q is not None and q.value is not None and math.isfinite(q.value)]
    if len(known) < _FEWEST:
        return None
    logarithmic = all(min(q.value or 0, q.low if q.low is not None else q.value or 0) > 0 for _, q in known)

    def placed(value: float) -> float:
        return math.log2(value) if logarithmic else value

    ends = [placed(one) for _, q in known for one in (q.value, q.low, q.high) if one is not None]
    bottom, top = min(ends), max(ends)
    span = max(top - bottom, 1e-9)
    width = (SIZE_PT[0] - _LEFT - _RIGHT) / max(len(values), 1)

    def x(n: int) -> float:
        return _LEFT + (n + 0.5) * width

    def y(value: float) -> float:
        return _TOP + (top - placed(value)) / span * (SIZE_PT[1] - _TOP - _FOOT)

    def end(of: float | None, value: float) -> float:
        return y(value if of is None else of)

    points = [(x(n), y(q.value), end(q.low, q.value), end(q.high, q.value)) for n, q in known if q.value is not None]
    runs: list[list[tuple[float, float]]] = []
    for (n, _), point in zip(known, points, strict=True):
        if not runs or n - 1 not in [m for m, _ in known]:
            runs.append([])
        runs[-1].append((point[0], point[1]))
    steps = [bottom + span * n / (_TICKS - 1) for n in range(_TICKS)]
    values_at = [2.0**step if logarithmic else step for step in steps]
    every = max(1, math.ceil(len(labels) / 8))
    columns = [(x(n), label) for n, label in enumerate(labels) if n % every == 0]
    return Plot(title, runs, points, columns, [(y(value), number(value)) for value in values_at])


def as_svg(plot: Plot) -> str:
    """The plot as SVG in its own size."""
    w, h = SIZE_PT
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {w:g} {h:g}" role="img" aria-label="{escape(plot.title)}">',
        f'<text x="{_LEFT:g}" y="9" font-weight="700">{escape(plot.title)}</text>',
    ]
    for y, label in plot.ticks:
        parts.append(f'<line x1="{_LEFT:g}" x2="{w - _RIGHT:g}" y1="{y:.1f}" y2="{y:.1f}" stroke="{_HAIR}"/>')
        parts.append(f'<text x="{_LEFT - 4:g}" y="{y + 2.5:.1f}" text-anchor="end">{escape(label)}</text>')
    for x, label in plot.columns:
        parts.append(f'<text x="{x:.1f}" y="{h - 5:g}" text-anchor="middle">{escape(label)}</text>')
    for run in plot.runs:
        line = " ".join(f"{x:.1f},{y:.1f}" for x, y in run)
        parts.append(f'<polyline points="{line}" fill="none" stroke="{_INK}" stroke-width="1.2"/>')
    for x, y, low, high in plot.points:
        parts.append(f'<line x1="{x:.1f}" x2="{x:.1f}" y1="{low:.1f}" y2="{high:.1f}" stroke="{_INK}"/>')
        parts.append(f'<circle cx="{x:.1f}" cy="{y:.1f}" r="1.8" fill="{_INK}"/>')
    return "".join([*parts, "</svg>"])


def as_drawing(plot: Plot) -> Drawing:
    """The plot as shapes of a PDF, which count from the foot."""
    w, h = SIZE_PT
    ink, hair = HexColor(_INK), HexColor(_HAIR)
    drawing = Drawing(w, h)

    def text(x: float, y: float, words: str, anchor: str, *, strong: bool = False) -> None:
        font = "Helvetica-Bold" if strong else "Helvetica"
        drawing.add(String(x, h - y, latin(words), textAnchor=anchor, fontSize=_TEXT_PT, fontName=font, fillColor=ink))

    text(_LEFT, 9, plot.title, "start", strong=True)
    for y, label in plot.ticks:
        drawing.add(Line(_LEFT, h - y, w - _RIGHT, h - y, strokeColor=hair, strokeWidth=0.5))
        text(_LEFT - 4, y + 2.5, label, "end")
    for x, label in plot.columns:
        text(x, h - 5, label, "middle")
    for run in plot.runs:
        flat = [part for x, y in run for part in (x, h - y)]
        if len(run) > 1:
            drawing.add(PolyLine(flat, strokeColor=ink, strokeWidth=1.2))
    for x, y, low, high in plot.points:
        drawing.add(Line(x, h - low, x, h - high, strokeColor=ink, strokeWidth=0.8))
        drawing.add(Circle(x, h - y, 1.8, fillColor=ink, strokeColor=ink))
    return drawing


# Standard fonts of PDF know Latin 1 only.
_PLAIN = {"−": "-", "…": "...", "≥": ">=", "≤": "<=", "–": "-", "⁻": "-", "Δ": "d", "\u2009": " ", "’": "'", "“": '"',
          "”": '"'}  # fmt: skip


def latin(words: str) -> str:
    """The words with what the standard fonts of PDF cannot write put plainly."""
    for sign, plain in _PLAIN.items():
        words = words.replace(sign, plain)
    return words.encode("latin-1", "replace").decode("latin-1")
