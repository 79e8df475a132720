"""Look: the same spot of every rung at the same size and brightness, and the grades."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.models import Frame, Grade, MarkedSpot
from yellowjacket.bench.services import checking, judging, recording
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.bench.services.judging import current_grades
from yellowjacket.web import pictures
from yellowjacket.web.lines import Crops, crop_line, grade_lines
from yellowjacket.web.sitting_page import SittingPage
from yellowjacket.web.stave import Stave, columns_of

SIZES = (100, 200, 300)
# A cell of the wall on the screen; at 200 % it shows half as many sensor pixels each way.
CELL_WIDTH_PX, CELL_HEIGHT_PX = 227, 396
SURROUNDS = ("mid", "dark", "light")
REASON_KEYS = (
    ("g", Grade.Reason.GRAIN), ("o", Grade.Reason.BLOTCHES), ("d", Grade.Reason.DETAIL), ("c", Grade.Reason.COLOUR),
    ("k", Grade.Reason.BLACKS), ("h", Grade.Reason.HIGHLIGHTS),
)  # fmt: skip


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The stave with its grades, and the wall."""
    sitting_page = SittingPage(request, sitting_id, "look")
    return render(request, "look/page.html", _context(sitting_page))


@require_GET
def wall(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The sheet and the wall after a move of the spot or a change of size; the spot is remembered."""
    sitting_page = SittingPage(request, sitting_id, "look")
    frame = _any_frame(sitting_page)
    if "spot" in request.GET and frame is not None:
        ladder = sitting_page.ladder
        ladder.spot_x, ladder.spot_y = Crops.of(sitting_page).spot(frame)
        ladder.save(update_fields=["spot_x", "spot_y"])
    return render(request, "look/_wall.html", _context(sitting_page))


def _context(page: SittingPage) -> dict[str, object]:
    size = _choice(page.request.GET.get("size"), SIZES, SIZES[0])
    equalised = page.request.GET.get("brightness") != "as-shot"
    surround = page.request.GET.get("surround", "")
    crops = Crops.of(page)
    cut = (CELL_WIDTH_PX * 100 // size, CELL_HEIGHT_PX * 100 // size)
    columns = columns_of(page.rungs, page.rung)
    stave = Stave(page.ladder, columns)
    lines = [crop_line(page, stave.column_px), *grade_lines(page, recording.proposals(page.ladder))]
    grades = current_grades(page.ladder, page.person or None)
    cells = []
    for column in columns:
        view = crops.view(column.rung, cut, equalised=equalised)
        cells.append({"column": column, "view": view, "grade": grades.get((column.rung.pk, page.use.pk))})
    return page.context(
        stave=Stave(page.ladder, columns, lines), cells=cells, size=size, sizes=SIZES, equalised=equalised,
        surround=surround if surround in SURROUNDS else SURROUNDS[0], surrounds=SURROUNDS,
        cell_width=CELL_WIDTH_PX, cell_height=CELL_HEIGHT_PX, overview=_overview(page, crops, cut),
        spots=MarkedSpot.objects.filter(sitting=page.sitting, body=page.ladder.body),
        reasons=REASON_KEYS, current_grade=grades.get((page.rung.pk, page.use.pk)),
    )  # fmt: skip


def _choice(text: str | None, allowed: tuple[int, ...], otherwise: int) -> int:
    return int(text) if text and text.isdigit() and int(text) in allowed else otherwise


def _any_frame(page: SittingPage) -> Frame | None:
    return next((page.light(rung)[0] for rung in page.rungs if page.light(rung)), None)


def _overview(page: SittingPage, crops: Crops, cut: tuple[int, int]) -> dict[str, object] | None:
    """The small whole picture with the spot marked."""
    base = next((rung for rung in page.rungs if rung.pk == crops.reference_id), page.rungs[0])
    frame = page.light(base)[0] if page.light(base) else _any_frame(page)
    if frame is None:
        return None
    how, _ = pictures.development(frame, crops.grey.get(crops.reference_id), crops.grey.get(base.pk), equalised=True)
    spot = crops.spot(frame)
    return {
        "url": reverse("overview", args=[frame.pk]) + f"?v={pictures.version_tag(how)}",
        "frame": frame, "spot": spot, "rect": pictures.clamped(frame.width, frame.height, spot, cut),
    }  # fmt: skip


@require_POST
def grade(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """A grade, its reason, or taking a grade back; answers with sheet and wall."""
    sitting_page = SittingPage(request, sitting_id, "look")
    message = ""
    try:
        _give(request, sitting_page)
    except Refusal as refusal:
        message = str(refusal)
    context = _context(sitting_page) | {"message": message}
    return render(request, "look/_wall.html", context)


def _give(request: HttpRequest, page: SittingPage) -> None:
    word = request.POST.get("grade", "")
    if word.isdigit():
        size = _choice(request.GET.get("size"), SIZES, SIZES[0])
        equalised = request.GET.get("brightness") != "as-shot"
        judging.grade_rung(page.rung, page.use, page.person, int(word), size_percent=size, equalised=equalised)
    elif word == "none":
        judging.take_back(page.rung, page.use, page.person)
    else:
        judging.give_reason(page.rung, page.use, page.person, request.POST.get("reason", ""))


@require_POST
def mark(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Mark the spot shown as one where focus is watched; answers with sheet and wall."""
    sitting_page = SittingPage(request, sitting_id, "look")
    message = ""
    frame = _any_frame(sitting_page)
    try:
        if frame is None:
            raise Refusal("There is no frame yet to mark a spot on.")
        x, y = Crops.of(sitting_page).spot(frame)
        checking.mark_spot(sitting_page.ladder, request.POST.get("name", ""), x, y)
    except Refusal as refusal:
        message = str(refusal)
    return render(request, "look/_wall.html", _context(sitting_page) | {"message": message})


@require_POST
def person(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Who is judging."""
    sitting_page = SittingPage(request, sitting_id, "look")
    sitting_page.person = request.POST.get("person", "")
    return redirect(sitting_page.url("look"))
