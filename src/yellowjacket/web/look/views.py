"""Look: the same spot of every rung at the same size and brightness, the grades, and how people agree on them."""

from __future__ import annotations

from collections.abc import Callable

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.check import remedies
from yellowjacket.bench.look import grades, pair_verdicts, registration
from yellowjacket.bench.models import Frame, Grade, Ladder, Lane, PairVerdict, Placement, Reading
from yellowjacket.bench.models.queries.readings import Spoken
from yellowjacket.bench.record import proposals as proposals_
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import whole
from yellowjacket.core.raw.rect import Rect, clamped
from yellowjacket.core.rendering.develop import DEVELOPERS
from yellowjacket.web import pictures
from yellowjacket.web.look import presets
from yellowjacket.web.look.switches import LADDERS, ONE, ROWS, SIZE_WORDS, SPOTS, SURROUNDS, Looking, keep_screen
from yellowjacket.web.look.wall import CELL_WIDTH_PX, Walls
from yellowjacket.web.refusals import carried_out, refused
from yellowjacket.web.sheet.lines import crop_line, grade_lines
from yellowjacket.web.sheet.stave import Stave, columns_of
from yellowjacket.web.sitting_page import SittingPage

REASON_KEYS = (
    ("g", Grade.Reason.GRAIN), ("o", Grade.Reason.BLOTCHES), ("d", Grade.Reason.DETAIL), ("c", Grade.Reason.COLOUR),
    ("k", Grade.Reason.BLACKS), ("h", Grade.Reason.HIGHLIGHTS),
)  # fmt: skip
_OVERVIEW_PX = 480
# A slide that moves rungs by less leaves them where they are.
_SAME_SLIDE = 0.1
_ROW_WORDS = {ONE: "this ladder", LADDERS: "all ladders", SPOTS: "spots"}
_FIVE = ((1, "A clean"), (2, "B good"), (3, "C usable"), (4, "D emergency"), (5, "E lost"))
_THREE = ((1, "always"), (2, "if I must"), (3, "never"))


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The stave with its grades, and the wall."""
    sitting_page = SittingPage(request, sitting_id, "look")
    return render(request, "look/page.html", _context(sitting_page))


@require_GET
def wall(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The sheet and the wall after a move of the spot or a switch."""
    sitting_page = SittingPage(request, sitting_id, "look")
    return render(request, "look/_wall.html", _context(sitting_page))


@require_POST
def keep_spot(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Remember the spot, after the browser has moved the cells by itself."""
    sitting_page = SittingPage(request, sitting_id, "look")
    if sitting_page.asked_spot is not None:
        ladder = sitting_page.ladder
        ladder.spot_x, ladder.spot_y = sitting_page.asked_spot
        ladder.save(update_fields=["spot_x", "spot_y"])
    return HttpResponse(status=204)


def _context(page: SittingPage) -> dict[str, object]:
    looking = Looking.of(page.request)
    walls = Walls(page, looking)
    other = _other(page, walls)
    rungs = [*page.rungs, *(other.rungs.all() if other else ())]
    limits = {"limits": Reading.objects.of_limits(rungs)} if page.ladder.kind == Ladder.Kind.ISO else {}
    said = Reading.objects.in_one(walls.asked() | limits)
    walls.tell(said)
    spoken = Spoken.of(said.get("limits", ()))
    found = walls.wall()
    columns = columns_of(page.rungs, page.rung)
    stave = Stave(page.ladder, columns)
    lane = _lane(page)
    given = page.grades if lane is None else None
    frames = [walls.frames[rung.pk] for rung in page.rungs if rung.pk in walls.frames]
    proposals = proposals_.proposals(page.ladder, lane, given, spoken.findings(page.rungs), frames)
    lines = grade_lines(page, proposals, lane=lane)
    if looking.rows == ONE and len(found.rows) == 1:
        lines = [crop_line(page, stave.column_px), *lines]
    elif len(found.rows) > 1:
        # The wall needs the room: only the use in force.
        lines = [line for line in lines if line.chosen]
    current = next((cell for row in found.rows if row.current for cell in row.cells if cell and cell.current), None)
    match = pair_verdicts.match_of(page.ladder, other, page.use, spoken) if other else None
    return page.context(
        stave=Stave(page.ladder, columns, lines), wall=found, looking=looking, overview=_overview(page, walls),
        sizes=SIZE_WORDS.items(), rows=[(key, _ROW_WORDS[key]) for key in ROWS], developers=DEVELOPERS,
        surround=looking.surround, surrounds=SURROUNDS, cell_width=CELL_WIDTH_PX, lane=lane,
        spots=page.spots,
        reasons=REASON_KEYS, current_grade=current.grade if current else None, current_cell=current,
        grade_words=_THREE if looking.steps == 3 else _FIVE,
        apart=[one for one in proposals if one.disagree], match=match, slide_to=_slide_to(page, match, looking.slide),
        several_to_place=looking.rows == LADDERS and len(walls.sizes) > 1,
    )  # fmt: skip


def _lane(page: SittingPage) -> Lane | None:
    return Lane.objects.filter(ladder=page.ladder, pk=page.lane_id).first() if page.lane_id else None


def _other(page: SittingPage, walls: Walls) -> Ladder | None:
    """The ladder that the matched-rung finder holds against the current one, where two bodies stand on one wall."""
    if walls.looking.rows != LADDERS or page.ladder.kind != page.ladder.Kind.ISO:
        return None
    return next((ladder for ladder in walls.ladders if ladder.body_id != page.ladder.body_id), None)


def _slide_to(page: SittingPage, match: pair_verdicts.Match | None, now: float) -> float | None:
    """By how much to slide the other ladder so that its nearest rungs stand beside those of the same noise; None where that is
    how they stand, or nothing is known."""
    if match is None or match.shift_measured.value is None:
        return None
    here, there = (match.one, match.other) if match.one.pk == page.ladder.pk else (match.other, match.one)
    wanted = match.shift_measured.value if here is match.one else -match.shift_measured.value
    own, its = ([rung.iso_stops for rung in ladder.rungs.all()] for ladder in (here, there))
    # Other shifts than those between two rungs put none beside another.
    nearest = min({round(b - a, 2) for a in own for b in its}, key=lambda shift: abs(shift - wanted))
    return None if abs(nearest - now) < _SAME_SLIDE else nearest


def _overview(page: SittingPage, walls: Walls) -> dict[str, object] | None:
    """The small whole picture with the spot marked."""
    developing = walls.developing(page.ladder)
    frames = [frame for rung in page.rungs if (frame := walls.frames.get(rung.pk))]
    frame = next(
        (f for f in frames if f.shot and f.shot.rung_id == developing.reference_id), frames[0] if frames else None
    )
    if frame is None or frame.shot is None:
        return _overview_of_lane(page, walls)
    how = developing.of_frame(frame, frame.shot.rung_id).how
    factor, zoom = walls.looking.scale(page.use, page.ladder.body.pixels)
    height = walls.wall_height
    cut = (round(CELL_WIDTH_PX * factor / zoom), round(height * factor / zoom))
    spot = walls.spot()
    return {
        "url": pictures.overview_address(frame, how), "frame": frame, "spot": spot,
        "rect": clamped(frame.width, frame.height, spot, cut),
    }  # fmt: skip


def _overview_of_lane(page: SittingPage, walls: Walls) -> dict[str, object] | None:
    """Where there is no raw frame: the first picture of a lane, on the pixels of the whole sensor."""
    picture = next((one for lane in page.ladder.lanes.all() for one in lane.pictures.all()), None)
    if picture is None:
        return None
    width, height = walls.sizes[page.ladder.pk]
    whole = Rect(0, 0, picture.width, picture.height)
    factor = max(1.0, max(picture.width, picture.height) / _OVERVIEW_PX)
    place, cut = picture.place, (CELL_WIDTH_PX, walls.wall_height)
    size = (round(cut[0] / place.scale), round(cut[1] / place.scale))
    return {
        "url": pictures.lane_crop_address(picture, whole, factor), "frame": {"width": width, "height": height},
        "spot": walls.spot(), "rect": clamped(width, height, walls.spot(), size),
    }  # fmt: skip


def _answered(request: HttpRequest, sitting_id: int, action: Callable[[SittingPage], object]) -> HttpResponse:
    """Do what was asked and answer with sheet and wall, a refusal above them."""
    message = refused(lambda: action(SittingPage(request, sitting_id, "look")))
    # Another page: what the first one had asked for may have changed.
    return render(request, "look/_wall.html", _context(SittingPage(request, sitting_id, "look")) | {"message": message})


@require_POST
def grade(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """A grade, its reason or note, taking a grade back, or undoing the last word; answers with sheet and wall."""
    return _answered(request, sitting_id, lambda page: _give(request, page))


def _give(request: HttpRequest, page: SittingPage) -> None:
    word, lane, said = request.POST.get("grade", ""), _lane(page), (page.rung, page.use, page.person)
    if word == "undo":
        grades.undo(page.ladder, page.person)
    elif word == "none":
        grades.take_back(*said, lane)
    elif (letter := whole(word, 1, 5)) is not None:
        looking = Looking.of(request)
        frame = next(iter(page.light(page.rung)), None)
        moved = None
        if lane is None and frame is not None:
            walls = Walls(page, looking)
            moved = walls.developing(page.ladder).of_frame(frame, page.rung.pk, looking.switches(page.use)).moved_stops
        grades.grade_rung(*said, letter, looking.view(moved), lane=lane, steps=looking.steps)
    elif "note" in request.POST:
        grades.give_reason(*said, note=request.POST["note"], lane=lane)
    else:
        grades.give_reason(*said, request.POST.get("reason", ""), lane=lane)


@require_POST
def mark(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Mark the spot shown as one worth remembering, where focus is watched; answers with sheet and wall."""

    def action(page: SittingPage) -> None:
        if not any(page.light(rung) for rung in page.rungs):
            raise Refusal("There is no frame yet to mark a spot on.")
        x, y = Walls(page, Looking()).spot()
        remedies.mark_spot(page.ladder, request.POST.get("name", ""), x, y, request.POST.get("note", ""))

    return _answered(request, sitting_id, action)


@require_GET
def spots(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Spots found in the current ladder's cleanest frame, as buttons."""
    sitting_page = SittingPage(request, sitting_id, "look")
    walls = Walls(sitting_page, Looking())
    developing = walls.developing(sitting_page.ladder)
    frame: Frame | None = walls.frames.get(developing.reference_id or 0)
    found, reason = presets.of_frame(frame, developing) if frame else ((), "no frame of the cleanest rung yet")
    return render(request, "look/_presets.html", {"presets": found, "reason": reason})


@require_POST
def place(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Lay every other ladder on the first: by the pictures, or by spots marked on both."""
    sitting_page = SittingPage(request, sitting_id, "look")
    by = registration.place_by_spots if request.POST.get("by") == Placement.By.MARKED else registration.match
    kin = [one for one in sitting_page.ladders if one.kind == sitting_page.ladder.kind and not one.capped]
    for ladder in kin[1:]:
        if registration.frame_of(ladder) is not None:

            def lay(ladder: object = ladder) -> None:
                made = by(ladder)  # type: ignore[arg-type]
                messages.success(
                    request,
                    f"{ladder} lies on {kin[0]} by {made.points} points, {made.residual_px:.1f} px off on average.",
                )

            carried_out(request, lay)
    return redirect(sitting_page.url("look"))


@require_POST
def screen(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Keep the resolution and distance of the tester's screen."""
    sitting_page = SittingPage(request, sitting_id, "look")
    if not keep_screen(request, request.POST.dict()):
        messages.error(request, "A screen has 30 to 1000 pixels to the inch and stands 10 to 1000 cm away.")
    return redirect(sitting_page.url("look", size="print"))


@require_POST
def person(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Who is judging."""
    sitting_page = SittingPage(request, sitting_id, "look")
    sitting_page.person = request.POST.get("person", "")
    # All of the view stays, not only what steps share.
    return redirect(f"{reverse('look:page', args=[sitting_id])}?{request.GET.urlencode()}")


@require_GET
def people(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Two people's grades side by side, and how far they agree."""
    sitting_page = SittingPage(request, sitting_id, "look")
    names = grades.people_of(sitting_page.ladder)
    one = request.GET.get("one") if request.GET.get("one") in names else next(iter(names), "")
    others = [name for name in names if name != one]
    other = request.GET.get("other") if request.GET.get("other") in others else next(iter(others), "")
    found = grades.agreement(sitting_page.ladder, sitting_page.use, str(one), str(other)) if other else None
    latest = PairVerdict.objects.filter(use=sitting_page.use, one__ladder__sitting=sitting_page.sitting)
    return render(
        request, "look/people.html",
        sitting_page.context(
            names=names, one=one, other=other, agreement=found,
            verdicts=latest.select_related(
                "one__ladder__body", "other__ladder__body", "one_lane", "other_lane"
            ).order_by("-id")[:40],
        ),
    )  # fmt: skip
