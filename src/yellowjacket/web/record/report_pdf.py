"""The report of a sitting as PDF: the same parts as the page, set for A4."""

from __future__ import annotations

import io
from collections.abc import Iterator, Mapping, Sequence
from xml.sax.saxutils import escape

from reportlab.lib.colors import HexColor
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable, Image, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from yellowjacket import __version__
from yellowjacket.bench.compare.bodies import COMPARED
from yellowjacket.bench.models import Record, Sitting
from yellowjacket.bench.record.evidence import files_in_words
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.web.graphics.pdf import Placed, latin
from yellowjacket.web.record.reports import METHODS, LadderPart, RungPart, parts_of
from yellowjacket.web.templatetags.values import dial_mark, iso_range, number

_MARGIN = 14 * mm
# The frame of a page keeps six points inside its margins.
_ROOM = A4[0] - 2 * _MARGIN - 12
_HAIR = HexColor("#cfcfcc")
_BODY = ParagraphStyle("body", fontName="Helvetica", fontSize=8.5, leading=11, spaceAfter=3)
_SMALL = ParagraphStyle("small", parent=_BODY, fontSize=7, leading=9, textColor=HexColor("#555555"))
_MONO = ParagraphStyle("mono", parent=_SMALL, fontName="Courier")
_TITLE = ParagraphStyle("title", parent=_BODY, fontName="Helvetica-Bold", fontSize=16, leading=20)
_HEAD = ParagraphStyle(
    "head", parent=_BODY, fontName="Helvetica-Bold", fontSize=12, leading=16, spaceBefore=10, keepWithNext=1
)
_SUB = ParagraphStyle("sub", parent=_BODY, fontName="Helvetica-Bold", fontSize=9, spaceBefore=6, keepWithNext=1)
_CROPS_A_ROW, _PLOTS_A_ROW = 4, 2
_GRID = TableStyle([
    ("VALIGN", (0, 0), (-1, -1), "TOP"), ("LEFTPADDING", (0, 0), (-1, -1), 0), ("TOPPADDING", (0, 0), (-1, -1), 1),
    ("BOTTOMPADDING", (0, 0), (-1, -1), 1), ("LINEBELOW", (0, 0), (-1, -1), 0.4, _HAIR),
])  # fmt: skip
_PLAIN = TableStyle([("VALIGN", (0, 0), (-1, -1), "TOP"), ("LEFTPADDING", (0, 0), (-1, -1), 0)])


def report_pdf(sitting: Sitting) -> bytes:
    """The whole sitting on A4."""
    buffer = io.BytesIO()
    document = SimpleDocTemplate(
        buffer, pagesize=A4, leftMargin=_MARGIN, rightMargin=_MARGIN, topMargin=_MARGIN, bottomMargin=_MARGIN,
        title=latin(f"{sitting.name}: report"), invariant=True,
    )  # fmt: skip
    document.build(list(_story(sitting)), onFirstPage=_footed, onLaterPages=_footed)
    return buffer.getvalue()


def _footed(canvas: Canvas, document: SimpleDocTemplate) -> None:
    canvas.setFont("Helvetica", 7)
    canvas.drawRightString(A4[0] - _MARGIN, 8 * mm, f"{document.title}, page {canvas.getPageNumber()}")


def _text(words: str, style: ParagraphStyle = _BODY) -> Paragraph:
    return Paragraph(escape(latin(words)), style)


def _table(rows: Sequence[Sequence[str]], widths: Sequence[float], style: ParagraphStyle = _BODY) -> Table:
    """Rows of texts, the first one a heading that comes again on every page; widths in shares."""
    total = sum(widths)
    cells = [[_text(cell, _SMALL if n == 0 else style) for cell in row] for n, row in enumerate(rows)]
    return Table(cells, [_ROOM * width / total for width in widths], style=_GRID, repeatRows=1, hAlign="LEFT")


def _story(sitting: Sitting) -> Iterator[Flowable]:
    yield _text(sitting.name, _TITLE)
    light = f", {sitting.light}" if sitting.light else ""
    yield _text(
        f"{sitting.held_on:%-d %B %Y}, {sitting.scene}{light}; tolerance {sitting.profile}; "
        f"compared at: {sitting.get_held_equal_display()}", _SMALL,
    )  # fmt: skip
    yield _text(f"Asked: {sitting.question} Expected: {sitting.expectation}")
    for part in parts_of(sitting):
        yield from _part(part)
    yield _text("Methods", _HEAD)
    yield _text(f"{METHODS} Made by Yellowjacket {__version__}; every frame above is named with its SHA-256.")


def _part(part: LadderPart) -> Iterator[Flowable]:
    yield _text(str(part.ladder), _HEAD)
    yield _text(_held(part.standing.conditions), _SMALL)
    for record in part.records:
        if record.signed_at is not None:
            yield _text(_signed(record))
    standing = part.standing
    if standing.proposals:
        rows = [("Use", "Highest ISO", "Measured", "Crossing (95 %)", "Fails first by", "Graded")]
        rows += [
            (p.use.name, p.level, dial_mark(p.measured), iso_range(p.measured) or "-",
             p.measured.criterion or p.measured.reason, dial_mark(p.graded))
            for p in standing.proposals
        ]  # fmt: skip
        yield _table(rows, (3, 2, 2, 4, 4, 2))
    if standing.others:
        yield _text("Besides ISO" if standing.proposals else "Limits", _SUB)
        others = [("Limit", "For", "Found", "95 %", "Limited by")]
        others += [
            (one.what, one.use or "any use", one.text, one.interval, one.because)
            for one in (row.limit for row in standing.others)
        ]
        yield _table(others, (4, 2, 2, 3, 4))
    if standing.mark_advice:
        yield _text(
            "ISO settings to avoid or prefer: "
            + "; ".join(f"ISO {iso}: {reason}" for iso, reason in standing.mark_advice)
        )
    if standing.today:
        yield _text(f"Limits as signed. Today's numbers would say: {'; '.join(standing.today)}.", _SMALL)
    if part.plots:
        yield _text("Along the rungs, per pixel; bars are 95 %", _SUB)
        yield from _in_rows([Placed(one) for one in part.plots], _PLOTS_A_ROW)
    shown = [one for one in part.rungs if one.png]
    if shown:
        yield _text("The spot at 100 %, equal brightness, no sharpening, no noise reduction", _SUB)
        yield from _in_rows([_crop(one) for one in shown], _CROPS_A_ROW)
    if any(q is not None and q.value is not None for one in part.rungs for q in one.readings):
        yield _text("Readings per pixel, with 95 % intervals", _SUB)
        heads = ["Rung", *(f"{one.described.words} {one.described.short_unit}".strip() for one in COMPARED)]
        readings = [[one.rung.label, *(_reading(q) for q in one.readings)] for one in part.rungs]
        yield _table([heads, *readings], [2.2, *([3] * len(COMPARED))], _SMALL)
    if part.frames:
        yield _text("Frames", _SUB)
        frames = [("File", "Shot", "SHA-256")]
        for frame in part.frames:
            shot = f"{frame.shot.rung.label} {frame.shot.kind} {frame.shot.repeat}" if frame.shot else ""
            frames.append((frame.file_name, shot, frame.sha256))
        yield _table(frames, (2.4, 2.2, 6), _MONO)


def _held(conditions: Mapping[str, object]) -> str:
    """What the limits hold for, in a line."""

    def said(name: str, without: str) -> str:
        value = conditions.get(name)
        return ", ".join(map(str, value)) if isinstance(value, list) and value else str(value or without)

    celsius = conditions.get("temperature_c")
    whose = f"{said('body', '')} {said('serial', '')}".strip()
    made = files_in_words(conditions)
    files = f"; {made}" if made else ""
    warmth = f"{celsius:g} °C" if isinstance(celsius, float) else "temperature not noted"
    return (
        f"{whose}, firmware {said('firmware', 'not known')}; {said('lens', 'lens not noted')}, "
        f"{said('aperture', '')}, {said('method', '')}{files}; {warmth}; judged by {said('judged_by', 'nobody')}"
    )


def _signed(record: Record) -> str:
    decided = [f"{one.use.name} {one.level} {one.words}" for one in record.decisions.all()]
    decided += [
        f"{one.what}{' for ' + one.use.lower() if one.use else ''} {one.text}" for one in record.other_decisions.all()
    ]
    when = f"{record.signed_at:%-d %B %Y}" if record.signed_at else ""
    return f"Signed by {record.signed_by}, {when}, version {record.version}: {record.answer} {record.note} {', '.join(decided)}."


def _in_rows(flowables: Sequence[object], a_row: int) -> Iterator[Table]:
    """A table a row: a heading then stays with the first row and not with all of them."""
    for begin in range(0, len(flowables), a_row):
        row = list(flowables[begin : begin + a_row])
        yield Table(
            [row + [""] * (a_row - len(row))], [_ROOM / a_row] * a_row, style=_PLAIN, hAlign="LEFT"
        )  # fmt: skip


def _crop(one: RungPart) -> list[Flowable]:
    # 150 pixels to 42 mm: 91 a inch, as a screen shows them.
    picture = Image(io.BytesIO(one.png))
    scale = 42 * mm / picture.imageWidth
    picture.drawWidth, picture.drawHeight = 42 * mm, picture.imageHeight * scale
    return [picture, Spacer(1, 1), _text(f"{one.rung.label}, {one.rung.shutter_label}", _SMALL)]


def _reading(found: Quantity | None) -> str:
    if found is None or found.value is None:
        return "-"
    ends = f" ({number(found.low)} … {number(found.high)})" if found.low is not None and found.high is not None else ""
    return f"{number(found.value)}{ends}"
