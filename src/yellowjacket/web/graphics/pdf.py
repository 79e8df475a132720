"""Drawings as pages and parts of PDF documents. Imported where one is made: it takes its time to load."""

from __future__ import annotations

import io
from collections.abc import Sequence

from reportlab.lib.colors import HexColor
from reportlab.lib.units import mm
from reportlab.lib.utils import ImageReader
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable

from yellowjacket.web.graphics import typeface
from yellowjacket.web.graphics.drawing import INK, Dot, Drawing, Group, Picture, Shape, Stroke, Text


def pdf(pages: Sequence[Drawing]) -> bytes:
    """Drawings of one size as the pages of a PDF; the same drawings give the same bytes."""
    first, buffer = pages[0], io.BytesIO()
    scale = _points_of(first)
    canvas = Canvas(buffer, pagesize=(first.width * scale, first.height * scale), invariant=True)
    canvas.setTitle(first.title)
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
    _draw_shapes(canvas, drawing.shapes, _points_of(drawing), drawing.height)


def _draw_shapes(canvas: Canvas, shapes: Sequence[Shape], scale: float, height: float) -> None:
    for shape in shapes:
        match shape:
            case Text(x, y, words, size, anchor, strong, fixed):
                canvas.setFillColor(HexColor(INK))
                font = typeface.MONO if fixed else typeface.BOLD if strong else typeface.SANS
                typeface.draw(canvas, words, x * scale, (height - y) * scale, font, size * scale, anchor)
            case Stroke(points, width, colour, dashes):
                path = canvas.beginPath()
                path.moveTo(points[0][0] * scale, (height - points[0][1]) * scale)
                for x, y in points[1:]:
                    path.lineTo(x * scale, (height - y) * scale)
                canvas.setStrokeColor(HexColor(colour))
                canvas.setLineWidth(width * scale)
                canvas.setDash([one * scale for one in dashes])
                canvas.drawPath(path)
            case Dot(x, y, radius):
                canvas.setFillColor(HexColor(INK))
                canvas.circle(x * scale, (height - y) * scale, radius * scale, stroke=0, fill=1)
            case Picture(x, y, wide, high, png):
                image = ImageReader(io.BytesIO(png))
                canvas.drawImage(image, x * scale, (height - y - high) * scale, wide * scale, high * scale)
            case Group(inner):
                _draw_shapes(canvas, inner, scale, height)
