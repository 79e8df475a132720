"""A drawing made once, for screen and paper: text, lines, dots and pictures from the top left; as SVG, and in pdf.py."""

from __future__ import annotations

import base64
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from django.utils.html import escape
from django.utils.safestring import SafeString, mark_safe

INK, HAIR = "#161616", "#cfcfcc"
# Around pictures that are judged.
SURROUND = "#727272"
Anchor = Literal["start", "middle", "end"]


@dataclass(frozen=True, slots=True)
class Text:
    """Words on a base line; ``size`` in the unit of the drawing. ``fixed``: every letter as wide as the others.

    ``role``, here and in other shapes: how a page's styles know it; paper has the colours given here.
    """

    x: float
    y: float
    words: str
    size: float
    anchor: Anchor = "start"
    strong: bool = False
    fixed: bool = False
    role: str = ""


@dataclass(frozen=True, slots=True)
class Stroke:
    """A line through points; ``dashes``: lengths drawn and left out in turn."""

    points: Sequence[tuple[float, float]]
    width: float
    colour: str = INK
    dashes: Sequence[float] = ()
    role: str = ""


@dataclass(frozen=True, slots=True)
class Dot:
    """A filled circle."""

    x: float
    y: float
    radius: float
    role: str = ""


@dataclass(frozen=True, slots=True)
class Picture:
    """A PNG in a rectangle."""

    x: float
    y: float
    width: float
    height: float
    png: bytes


@dataclass(frozen=True, slots=True)
class Group:
    """Shapes that belong together; ``title``: what a page tells of them, ``attributes``: what it does with them."""

    shapes: Sequence[Shape]
    title: str = ""
    role: str = ""
    attributes: Mapping[str, str] = field(default_factory=dict)


Shape = Text | Stroke | Dot | Picture | Group


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


def inside(shapes: Sequence[Shape]) -> SafeString:
    """The shapes alone, for an SVG that a template opens."""
    return mark_safe("".join(map(_svg_of, shapes)))  # noqa: S308 - made here, every text escaped


def _svg_of(shape: Shape) -> str:
    match shape:
        case Text(x, y, words, size, anchor, strong, fixed, role):
            how = f' text-anchor="{anchor}"' if anchor != "start" else ""
            how += ' font-weight="700"' if strong else ""
            how += ' font-family="monospace"' if fixed else ""
            return f'<text x="{x:.2f}" y="{y:.2f}" font-size="{size:g}"{how}{_class(role)}>{escape(words)}</text>'
        case Stroke(points, width, colour, dashes, role):
            line = " ".join(f"{x:.2f},{y:.2f}" for x, y in points)
            dashed = f' stroke-dasharray="{" ".join(f"{one:g}" for one in dashes)}"' if dashes else ""
            how = f'fill="none" stroke="{colour}" stroke-width="{width:g}"{dashed}{_class(role)}'
            return f'<polyline points="{line}" {how}/>'
        case Dot(x, y, radius, role):
            return f'<circle cx="{x:.2f}" cy="{y:.2f}" r="{radius:g}" fill="{INK}"{_class(role)}/>'
        case Picture(x, y, width, height, png):
            data = base64.b64encode(png).decode()
            place = f'x="{x:.3f}" y="{y:.3f}" width="{width:.3f}" height="{height:.3f}"'
            return f'<image {place} href="data:image/png;base64,{data}"/>'
        case Group(shapes, title, role, attributes):
            said = f"<title>{escape(title)}</title>" if title else ""
            more = "".join(f' {name}="{escape(value)}"' for name, value in attributes.items())
            return f"<g{_class(role)}{more}>{said}{''.join(map(_svg_of, shapes))}</g>"


def _class(role: str) -> str:
    return f' class="{role}"' if role else ""
