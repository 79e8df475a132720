"""A coded contact sheet at true print size: as PDF, and page by page as SVG."""

from __future__ import annotations

import base64
import io
from collections.abc import Sequence
from dataclasses import dataclass

from django.utils.html import escape
from reportlab.lib.units import mm
from reportlab.lib.utils import ImageReader
from reportlab.pdfgen.canvas import Canvas

from yellowjacket.bench.look.contact_sheets import SIDE_MM
from yellowjacket.bench.look.development import Developing, Switches
from yellowjacket.bench.models import Frame, JurySheet, Rung, Shot
from yellowjacket.core.judging.contact_sheet import PAGE_MM, Slot, layout, pixels_on_paper
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.web import pictures

_TITLE_MM, _LINE_MM = (12.0, 16.0), 5.0
_ASKED = "Good enough? A clean, B, C, D, E lost. Write the letter beside the code."


@dataclass(frozen=True, slots=True)
class Placed:
    """A crop on paper: its code, where it stands, and its bytes as PNG."""

    code: str
    slot: Slot
    png: bytes


def placed(sheet: JurySheet) -> Sequence[Placed]:
    """Every slip with its crop at the use's size and print resolution. Raises FrameError for a lost original."""
    rungs = {
        rung.pk: rung
        for rung in Rung.objects.filter(pk__in=[slip["rung"] for slip in sheet.slips]).select_related("ladder__body")
    }
    frames: dict[int, Frame] = {}
    rows = Frame.objects.filter(shot__rung__in=rungs, shot__kind=Shot.Kind.LIGHT).defer("report").select_related("shot")
    for frame in rows.order_by("shot__repeat"):
        if frame.shot is not None:
            frames.setdefault(frame.shot.rung_id, frame)
    developing = {ladder: Developing.of(ladder) for ladder in {rung.ladder for rung in rungs.values()}}
    side = pixels_on_paper(SIDE_MM, sheet.use.view.print_ppi)
    found = []
    for slip, slot in zip(sheet.slips, layout(len(sheet.slips), SIDE_MM), strict=True):
        rung, frame_ = rungs.get(slip["rung"]), frames.get(slip["rung"])
        if rung is None or frame_ is None:
            continue
        how = developing[rung.ladder].of_frame(frame_, rung.pk, Switches(monochrome=sheet.use.monochrome)).how
        factor, _ = use_noise_factor(rung.ladder.body.pixels, sheet.use.whole_frame_pixels)
        cut = round(side * factor)
        rect = pictures.clamped(frame_.width, frame_.height, (slip["x"], slip["y"]), (cut, cut))
        found.append(Placed(slip["code"], slot, pictures.crop_png(frame_, rect, how, factor)))
    return found


def as_pdf(sheet: JurySheet) -> bytes:
    """The sheet as PDF, A4, without a word on what is what."""
    buffer = io.BytesIO()
    canvas = Canvas(buffer, pagesize=(PAGE_MM[0] * mm, PAGE_MM[1] * mm), invariant=True)
    canvas.setTitle("Jury sheet")
    at = 0
    for one in placed(sheet):
        if one.slot.page != at:
            canvas.showPage()
            at = one.slot.page
        _heading(canvas, sheet)
        image = ImageReader(io.BytesIO(one.png))
        width, height = _size_mm(image.getSize(), sheet)
        top = PAGE_MM[1] - one.slot.y_mm
        canvas.drawImage(image, one.slot.x_mm * mm, (top - height) * mm, width * mm, height * mm)
        canvas.setFont("Courier-Bold", 11)
        canvas.drawString(one.slot.x_mm * mm, (top - SIDE_MM - _LINE_MM) * mm, f"{one.code}   ______")
    canvas.save()
    return buffer.getvalue()


def _heading(canvas: Canvas, sheet: JurySheet) -> None:
    canvas.setFont("Helvetica-Bold", 11)
    canvas.drawString(_TITLE_MM[0] * mm, (PAGE_MM[1] - _TITLE_MM[1]) * mm, f"For: {sheet.use.name}")
    canvas.setFont("Helvetica", 9)
    canvas.drawString(_TITLE_MM[0] * mm, (PAGE_MM[1] - _TITLE_MM[1] - _LINE_MM) * mm, _words(sheet))


def _words(sheet: JurySheet) -> str:
    view = sheet.use.view
    seen = f" Look from {view.viewing_cm:g} cm." if view.viewing_cm else ""
    return f"{_ASKED}{seen} Print at 100 %, not fitted to the page."


def _size_mm(size: tuple[int, int], sheet: JurySheet) -> tuple[float, float]:
    """Size on paper of a picture of so many pixels: a smaller crop stands smaller, never stretched."""
    side = pixels_on_paper(SIDE_MM, sheet.use.view.print_ppi)
    return SIDE_MM * size[0] / side, SIDE_MM * size[1] / side


def as_svg(sheet: JurySheet, page: int) -> str:
    """One page of the sheet as SVG in millimetres."""
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{PAGE_MM[0]}mm" height="{PAGE_MM[1]}mm" '
        f'viewBox="0 0 {PAGE_MM[0]} {PAGE_MM[1]}">',
        f'<text x="{_TITLE_MM[0]}" y="{_TITLE_MM[1]}" font-family="sans-serif" font-size="4" font-weight="700">'
        f"For: {escape(sheet.use.name)}</text>",
        f'<text x="{_TITLE_MM[0]}" y="{_TITLE_MM[1] + _LINE_MM}" font-family="sans-serif" font-size="3">'
        f"{escape(_words(sheet))}</text>",
    ]
    for one in placed(sheet):
        if one.slot.page != page:
            continue
        width, height = _size_mm(ImageReader(io.BytesIO(one.png)).getSize(), sheet)
        data = base64.b64encode(one.png).decode()
        parts.append(
            f'<image x="{one.slot.x_mm}" y="{one.slot.y_mm}" width="{width:.3f}" height="{height:.3f}" '
            f'href="data:image/png;base64,{data}"/>'
            f'<text x="{one.slot.x_mm}" y="{one.slot.y_mm + SIDE_MM + _LINE_MM}" font-family="monospace" font-size="4" '
            f'font-weight="700">{one.code}   ______</text>'
        )
    return "\n".join([*parts, "</svg>"])


def pages_of(sheet: JurySheet) -> int:
    """How many pages it has."""
    return layout(len(sheet.slips), SIDE_MM)[-1].page + 1
