"""A drawing made once and rendered as SVG and as PDF: text, lines, dots and pictures from the top left."""

from __future__ import annotations

import base64
import io
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from django.utils.html import escape
from reportlab.lib.colors import HexColor
from reportlab.lib.units import mm
from reportlab.lib.utils import ImageReader
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable

INK, HAIR = "#161616", "#cfcfcc"
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


def pdf(pages: Sequence[Drawing]) -> bytes:
    """Drawings of one size as the pages of a PDF; the same drawings give the same bytes."""
    first, buffer = pages[0], io.BytesIO()
    scale = _points_of(first)
    canvas = Canvas(buffer, pagesize=(first.width * scale, first.height * scale), invariant=True)
    canvas.setTitle(latin(first.title))
    for page in pages:
        _draw(canvas, page)
        canvas.showPage()
    canvas.save()
    return buffer.getvalue()


class Placed(Flowable):
    """A drawing among the paragraphs of a document."""

    def __init__(self, drawing: Drawing) -> None:
        super().__init__()
        scale = _points_of(drawing)
        self._drawing, self.width, self.height = drawing, drawing.width * scale, drawing.height * scale

    def draw(self) -> None:
        """Draw it where the document has put it."""
        _draw(self.canv, self._drawing)


def _points_of(drawing: Drawing) -> float:
    return float(mm) if drawing.unit == "mm" else 1.0


def _draw(canvas: Canvas, drawing: Drawing) -> None:
    """The shapes on a canvas, which counts from the foot."""
    scale, height = _points_of(drawing), drawing.height
    for shape in drawing.shapes:
        match shape:
            case Text(x, y, words, size, anchor, strong, fixed):
                canvas.setFont(("Courier" if fixed else "Helvetica") + ("-Bold" if strong else ""), size * scale)
                canvas.setFillColor(HexColor(INK))
                place = {"start": canvas.drawString, "middle": canvas.drawCentredString, "end": canvas.drawRightString}
                place[anchor](x * scale, (height - y) * scale, latin(words))
            case Stroke(points, width, colour):
                path = canvas.beginPath()
                path.moveTo(points[0][0] * scale, (height - points[0][1]) * scale)
                for x, y in points[1:]:
                    path.lineTo(x * scale, (height - y) * scale)
                canvas.setStrokeColor(HexColor(colour))
                canvas.setLineWidth(width * scale)
                canvas.drawPath(path)
            case Dot(x, y, radius):
                canvas.setFillColor(HexColor(INK))
                canvas.circle(x * scale, (height - y) * scale, radius * scale, stroke=0, fill=1)
            case Picture(x, y, wide, high, png):
                image = ImageReader(io.BytesIO(png))
                canvas.drawImage(image, x * scale, (height - y - high) * scale, wide * scale, high * scale)


# Standard fonts of PDF know Latin 1 only.
_PLAIN = {"−": "-", "…": "...", "≥": ">=", "≤": "<=", "–": "-", "⁻": "-", "Δ": "d", "\u2009": " ", "’": "'", "“": '"',
          "”": '"'}  # fmt: skip


def latin(words: str) -> str:
    """The words with what the standard fonts of PDF cannot write put plainly."""
    for sign, plain in _PLAIN.items():
        words = words.replace(sign, plain)
    return words.encode("latin-1", "replace").decode("latin-1")
