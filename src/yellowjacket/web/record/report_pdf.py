"""The report of a sitting as PDF: the same contents as the page, set for A4."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from typing import assert_never

from reportlab.lib.colors import HexColor, white
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import CondPageBreak, Flowable, Image, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from yellowjacket.bench.models import Sitting
from yellowjacket.web.graphics import typeface
from yellowjacket.web.graphics.drawing import HAIR, INK, SURROUND
from yellowjacket.web.graphics.pdf import Placed
from yellowjacket.web.record.blocks import Block, Drawings, Heading, Pictures, Rows, Shown, Words
from yellowjacket.web.record.reports import contents, title

_MARGIN = 14 * mm
# The frame of a page keeps six points inside its margins.
_ROOM = A4[0] - 2 * _MARGIN - 12
# A part that finds less than this at the foot of a page begins on the next one.
_ROOM_FOR_A_PART = 60 * mm
_HAIR, _GROUND, _QUIET = HexColor(HAIR), HexColor(SURROUND), HexColor("#555555")
_BODY = ParagraphStyle("body", fontName=typeface.SANS, fontSize=9, leading=12, spaceAfter=3)
_SMALL = ParagraphStyle("small", parent=_BODY, fontSize=7.5, leading=9.5, textColor=_QUIET)
_WORDS = {
    "lead": ParagraphStyle("lead", parent=_BODY, fontSize=13, leading=17, spaceBefore=2, spaceAfter=4),
    "body": _BODY, "small": _SMALL,
}  # fmt: skip
_HEADS = {
    1: ParagraphStyle("title", parent=_BODY, fontName=typeface.BOLD, fontSize=18, leading=22),
    2: ParagraphStyle(
        "head", parent=_BODY, fontName=typeface.BOLD, fontSize=13, leading=17, spaceBefore=12, keepWithNext=1
    ),
    3: ParagraphStyle("sub", parent=_BODY, fontName=typeface.BOLD, fontSize=9.5, spaceBefore=7, keepWithNext=1),
}
_CELL = ParagraphStyle("cell", parent=_BODY, spaceAfter=0)
_SMALL_CELL = ParagraphStyle("small cell", parent=_SMALL, textColor=HexColor(INK), spaceAfter=0)
_FIXED_CELL = ParagraphStyle("fixed cell", parent=_SMALL_CELL, fontName=typeface.MONO, fontSize=6.2, leading=8.2)
_CAPTION = ParagraphStyle("caption", parent=_SMALL, textColor=white, spaceAfter=0)
_GRID = TableStyle([
    ("VALIGN", (0, 0), (-1, -1), "TOP"), ("LEFTPADDING", (0, 0), (-1, -1), 0), ("TOPPADDING", (0, 0), (-1, -1), 2),
    ("BOTTOMPADDING", (0, 0), (-1, -1), 2), ("LINEBELOW", (0, 0), (-1, -1), 0.4, _HAIR),
])  # fmt: skip
_PLAIN = TableStyle([("VALIGN", (0, 0), (-1, -1), "TOP"), ("LEFTPADDING", (0, 0), (-1, -1), 0)])
_ON_GROUND = TableStyle([
    ("VALIGN", (0, 0), (-1, -1), "TOP"), ("BACKGROUND", (0, 0), (-1, -1), _GROUND), ("LEFTPADDING", (0, 0), (-1, -1), 4),
    ("RIGHTPADDING", (0, 0), (-1, -1), 4), ("TOPPADDING", (0, 0), (-1, -1), 5), ("BOTTOMPADDING", (0, 0), (-1, -1), 4),
])  # fmt: skip


def report_pdf(sitting: Sitting) -> bytes:
    """The whole sitting on A4."""
    typeface.be_ready()
    buffer = io.BytesIO()
    document = SimpleDocTemplate(
        buffer, pagesize=A4, leftMargin=_MARGIN, rightMargin=_MARGIN, topMargin=_MARGIN, bottomMargin=_MARGIN,
        title=title(sitting), invariant=True,
    )  # fmt: skip
    story = [flowable for block in contents(sitting) for flowable in _set(block)]
    document.build(story, onFirstPage=_footed, onLaterPages=_footed)
    return buffer.getvalue()


def _footed(canvas: Canvas, document: SimpleDocTemplate) -> None:
    words = f"{document.title}, page {canvas.getPageNumber()}"
    typeface.draw(canvas, words, A4[0] - _MARGIN - 6, 8 * mm, typeface.SANS, 7, "end")


def _text(words: str, style: ParagraphStyle, strong: str = "") -> Paragraph:
    begun = f"<b>{typeface.marked_up(strong, typeface.BOLD)}</b> " if strong else ""
    return Paragraph(begun + typeface.marked_up(words, style.fontName), style)


def _set(block: Block) -> Iterator[Flowable]:
    match block:
        case Heading(words, level):
            if level == 2:
                yield CondPageBreak(_ROOM_FOR_A_PART)
            yield _text(words, _HEADS[level])
        case Words(text, strong, size):
            yield _text(text, _WORDS[size], strong)
        case Rows():
            yield _table(block)
        case Drawings(drawings, a_row):
            yield from _in_rows([Placed(one) for one in drawings], a_row, _PLAIN)
        case Pictures(pictures, a_row):
            width = _ROOM / a_row - 8
            yield from _in_rows([_shown(one, width) for one in pictures], a_row, _ON_GROUND)
            yield Spacer(1, 4)
        case _:
            assert_never(block)


def _table(block: Rows) -> Table:
    """The heads come again on every page."""
    style = _FIXED_CELL if block.fixed else _SMALL_CELL if block.small else _CELL
    cells = [[_text(cell, style if n else _SMALL) for cell in row] for n, row in enumerate([block.heads, *block.rows])]
    total = sum(block.shares)
    return Table(cells, [_ROOM * share / total for share in block.shares], style=_GRID, repeatRows=1, hAlign="LEFT")


def _in_rows(flowables: Sequence[object], a_row: int, style: TableStyle) -> Iterator[Flowable]:
    """A table a row: a heading then stays with the first row and not with all of them."""
    for begin in range(0, len(flowables), a_row):
        row = list(flowables[begin : begin + a_row])
        yield Table([row + [""] * (a_row - len(row))], [_ROOM / a_row] * a_row, style=style, hAlign="LEFT")


def _shown(one: Shown, width: float) -> list[Flowable]:
    caption = _text(one.words, _CAPTION, one.strong)
    if not one.png:
        return [caption]
    picture = Image(io.BytesIO(one.png))
    picture.drawWidth, picture.drawHeight = width, picture.imageHeight * width / picture.imageWidth
    return [picture, Spacer(1, 2), caption]
