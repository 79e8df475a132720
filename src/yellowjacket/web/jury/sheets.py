"""A coded contact sheet at true print size: as PDF, and page by page as SVG."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass

from PIL import Image

from yellowjacket.bench.development import Developing, Switches
from yellowjacket.bench.look.contact_sheets import SIDE_MM
from yellowjacket.bench.models import Frame, JurySheet, Rung, Shot
from yellowjacket.core.judging.contact_sheet import PAGE_MM, Slot, layout, pixels_on_paper
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.raw.rect import clamped
from yellowjacket.web import pictures
from yellowjacket.web.graphics.drawing import Drawing, Picture, Shape, Text, svg

_TITLE_MM, _LINE_MM = (12.0, 16.0), 5.0
_TITLE_SIZE_MM, _SIZE_MM = 3.9, 3.2
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
        rect = clamped(frame_.width, frame_.height, (slip["x"], slip["y"]), (cut, cut))
        found.append(Placed(slip["code"], slot, pictures.crop_png(frame_, rect, how, factor)))
    return found


def as_pdf(sheet: JurySheet) -> bytes:
    """The sheet as PDF, A4, without a word on what is what."""
    from yellowjacket.web.graphics.pdf import pdf

    return pdf(_drawn(sheet))


def as_svg(sheet: JurySheet, page: int) -> str:
    """One page of the sheet as SVG in millimetres."""
    return svg(_drawn(sheet)[page])


def _drawn(sheet: JurySheet) -> list[Drawing]:
    found = []
    crops = placed(sheet)
    x, y = _TITLE_MM
    for page in range(pages_of(sheet)):
        shapes: list[Shape] = [
            Text(x, y, f"For: {sheet.use.name}", _TITLE_SIZE_MM, strong=True),
            Text(x, y + _LINE_MM, _words(sheet), _SIZE_MM),
        ]
        for one in crops:
            if one.slot.page == page:
                size = _size_mm(Image.open(io.BytesIO(one.png)).size, sheet)
                code_y = one.slot.y_mm + SIDE_MM + _LINE_MM
                shapes += [
                    Picture(one.slot.x_mm, one.slot.y_mm, *size, one.png),
                    Text(one.slot.x_mm, code_y, f"{one.code}   ______", _TITLE_SIZE_MM, strong=True, fixed=True),
                ]
        found.append(Drawing("Jury sheet", *PAGE_MM, shapes, "mm"))
    return found


def _words(sheet: JurySheet) -> str:
    view = sheet.use.view
    seen = f" Look from {view.viewing_cm:g} cm." if view.viewing_cm else ""
    return f"{_ASKED}{seen} Print at 100 %, not fitted to the page."


def _size_mm(size: tuple[int, int], sheet: JurySheet) -> tuple[float, float]:
    """Size on paper of a picture of so many pixels: a smaller crop stands smaller, never stretched."""
    side = pixels_on_paper(SIDE_MM, sheet.use.view.print_ppi)
    return SIDE_MM * size[0] / side, SIDE_MM * size[1] / side


def pages_of(sheet: JurySheet) -> int:
    """How many pages it has."""
    return layout(len(sheet.slips), SIDE_MM)[-1].page + 1
