"""A drawing made once, for screen and paper: text, lines, dots and pictures from the top left; as SVG, and in pdf.py."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from django.utils.html import escape
from django.utils.safestring import SafeString, mark_safe

INK, HAIR = "#161616", "#cfcfcc"
# Around pictures that are judged.
SURROUND = "#727272"
Anchor = Literal["start", "middle", "end"]


@dataclass(frozen=True, slots=True)
class Text:
    """Words on a base line; ``size`` in the unit of the drawing. ``fixed``: every letter as wide as the others."""

    x: float
    y: float
    words: str
    size: float
    anchor: Anchor = "start"
    strong: bool = False
    fixed: bool = False


@dataclass(frozen=True, slots=True)
class Stroke:
    """A line through points."""

    points: Sequence[tuple[float, float]]
    width: float
    colour: str = INK


@dataclass(frozen=True, slots=True)
class Dot:
    """A filled circle."""

    x: float
    y: float
    radius: float


@dataclass(frozen=True, slots=True)
class Picture:
    """A PNG in a rectangle."""

    x: float
    y: float
    width: float
    height: float
    png: bytes


Shape = Text | Stroke | Dot | Picture


@dataclass(frozen=True, slots=True)
class Drawing:
    """Shapes in their order on a field of ``width`` × ``height``, in points or millimetres."""

    title: str
    width: float
    height: float
    shapes: Sequence[Shape]
    unit: Literal["pt", "mm"] = "pt"


def svg(drawing: Drawing) -> str:
    """The drawing as SVG in its own size."""
    size = f' width="{drawing.width:g}mm" height="{drawing.height:g}mm"' if drawing.unit == "mm" else ""
    head = (
        f'<svg xmlns="http://www.w3.org/2000/svg"{size} viewBox="0 0 {drawing.width:g} {drawing.height:g}" role="img" '
        f'aria-label="{escape(drawing.title)}" font-family="Archivo, sans-serif">'
    )
    return "".join([head, *map(_svg_of, drawing.shapes), "</svg>"])


def on_page(drawing: Drawing) -> SafeString:
    """The drawing as SVG for a template."""
    return mark_safe(svg(drawing))  # noqa: S308 - made here, every text escaped


def _svg_of(shape: Shape) -> str:
    match shape:
        case Text(x, y, words, size, anchor, strong, fixed):
            how = f' text-anchor="{anchor}"' if anchor != "start" else ""
            how += ' font-weight="700"' if strong else ""
            how += ' font-family="monospace"' if fixed else ""
            return f'<text x="{x:.2f}" y="{y:.2f}" font-size="{size:g}"{how}>{escape(words)}</text>'
        case Stroke(points, width, colour):
            line = " ".join(f"{x:.2f},{y:.2f}" for x, y in points)
            return f'<polyline points="{line}" fill="none" stroke="{colour}" stroke-width="{width:g}"/>'
        case Dot(x, y, radius):
            return f'<circle cx="{x:.2f}" cy="{y:.2f}" r="{radius:g}" fill="{INK}"/>'
        case Picture(x, y, width, height, png):
            data = base64.b64encode(png).decode()
            place = f'x="{x:.3f}" y="{y:.3f}" width="{width:.3f}" height="{height:.3f}"'
            return f'<image {place} href="data:image/png;base64,{data}"/>'
