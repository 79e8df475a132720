"""Check: frames against plan, each problem on its rung with its remedies."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.check import audit as audit_
from yellowjacket.bench.check import remedies
from yellowjacket.bench.intake import adopt, nameless
from yellowjacket.bench.models import Body, Frame, MarkedSpot, Problem, Reading, Rung, Shot
from yellowjacket.bench.models.queries.readings import Said
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import conditions, undo_log
from yellowjacket.bench.typed import whole
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.web.check.forms import ApertureForm, BodyNameForm, SaidForm
from yellowjacket.web.refusals import or_back_to, refused
from yellowjacket.web.sheet.grey import grey_place
from yellowjacket.web.sheet.lines import crop_line, frames_line
from yellowjacket.web.sheet.stave import Cell, Line, Stave, columns_of, text_line
from yellowjacket.web.sitting_page import SittingPage
from yellowjacket.web.templatetags import values

_EVENTS_SHOWN = 12


class CheckPage(SittingPage):
    """A sitting whose frames are held against its plan."""

    # The audit reads the reports of all frames.
    deferred = ()


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The sheet of the audit and everything that wants a decision."""
    return render(request, "check/page.html", _context(CheckPage(request, sitting_id, "check")))


def _context(page: CheckPage) -> dict[str, object]:
    # The audit asks ladder and sitting for the same.
    problems, spots, so_far = page.problems, page.spots, page.so_far
    stave = Stave(page.ladder, columns_of(page.rungs, page.rung))
    flags, headroom = _remarks(page)
    audit = audit_.audit(page.ladder, page.every_shot, flags)
    warm = conditions.temperatures(page.ladder) if so_far.has("conditions") else {}
    lines = [frames_line(page), *_audit_lines(list(page.rungs), audit, warm)]
    if not page.ladder.capped:
        lines.insert(0, crop_line(page, stave.column_px))
    astray = so_far.extras or any(problem.assignable for problem in problems)
    return page.context(
        stave=Stave(page.ladder, stave.columns, lines),
        grey=grey_place(headroom),
        findings=audit.findings,
        runs=audit.runs,
        let_be=remedies.LET_BE,
        problems=problems,
        extras=Frame.objects.filter(sitting=page.sitting, shot=None).defer("report") if so_far.extras else (),
        free=remedies.free_shots(page.sitting, page.every_shot if len(page.ladders) == 1 else None) if astray else (),
        of_rung=_frames_of_rung(page),
        spots=spots,
        events=page.sitting.events.order_by("-id")[:_EVENTS_SHOWN] if so_far.has("events") else (),
        in_frames=any(page.frames.values()),
        no_aperture=sum(not frame.said("f_number") for frame in page.every_frame),
        nameless=nameless.question(page.sitting) if so_far.has("nameless") else None,
        bodies=Body.objects.all(),
    )


def _remarks(page: CheckPage) -> tuple[list[Said], Quantity | None]:
    """What measuring remarked on the rungs, and where the grey card lies on the reference rung."""
    if not page.so_far.has_of("read", page.ladder):
        return [], None
    reference = page.ladder.reference_rung(page.rungs)
    said = page.ask({
        "flags": Reading.objects.filter(quantity=Measurand.FLAGS, rung__in=page.rungs),
        "headroom": Reading.objects.filter(quantity=Measurand.HEADROOM_STOPS, rung=reference),
    })  # fmt: skip
    return said["flags"], next((one.result for one in said["headroom"]), None)


@require_GET
def rung(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The frames of the current rung, after a step along the ladder."""
    page = SittingPage(request, sitting_id, "check")
    return render(request, "check/_of_rung.html", page.context(of_rung=_frames_of_rung(page)))


@dataclass(frozen=True, slots=True)
class RungFrame:
    """A frame of the current rung and the form that corrects what its file says."""

    frame: Frame
    form: SaidForm


def _frames_of_rung(page: SittingPage) -> list[RungFrame]:
    frames = [frame for kind in Shot.Kind.values for frame in page.frames.get((page.rung.pk, kind), [])]
    return [RungFrame(frame, SaidForm.of(frame)) for frame in frames]


def _audit_lines(rungs: list[Rung], audit: audit_.Audit, temperatures: dict[int, float]) -> list[Line]:
    def of(rung: Rung) -> audit_.RungAudit:
        return audit.rungs.get(rung.pk, audit_.RungAudit())

    def error(rung: Rung) -> Cell:
        value = of(rung).error_stops
        if of(rung).clipped_away:
            return Cell("clipped", title="clipped: the exposure cannot be told")
        return Cell(
            values.stops_signed(value), strong=value is not None and abs(value) > audit_.EXPOSURE_TOLERANCE_STOPS
        )

    def wants(rung: Rung) -> Cell:
        found = audit.of(rung)
        more = f" +{len(found) - 1}" if len(found) > 1 else ""
        return Cell(found[0].short + more, True, "; ".join(one.text for one in found)) if found else Cell()

    def warm(rung: Rung) -> Cell:
        return Cell(f"{temperatures[rung.pk]:.1f}" if rung.pk in temperatures else "")

    def moved(rung: Rung) -> Cell:
        value = of(rung).moved_px
        return Cell("" if value is None else f"{value:.0f}")

    def sharp(rung: Rung) -> Cell:
        value = of(rung).sharpness
        return Cell("" if value is None else f"{value * 100:.0f} %")

    def clipped(rung: Rung) -> Cell:
        return Cell(values.share(of(rung).clipped_share))

    lines = [
        text_line("error", "Exposure error", "stops, ±1/6 allowed", rungs, error),
        text_line("moved", "Moved", "raw px from reference", rungs, moved),
        text_line("sharp", "Fine structure", "of the reference's", rungs, sharp),
        text_line("clipped", "Clipped", "of the whole frame", rungs, clipped),
        text_line("sensor", "Temperature", "°C, as noted", rungs, warm),
    ]
    # A capped ladder has no light to audit; its lines would stand empty.
    shown = [line for line in lines if any(cell.text for cell in line.cells)]
    return [*shown, text_line("wants", "To decide", "reasons in the list below", rungs, wants)]


def _carry_out(request: HttpRequest, sitting_id: int, action: Callable[[SittingPage], object]) -> HttpResponse:
    page = SittingPage(request, sitting_id, "check")
    refusal = refused(lambda: action(page))
    return render(request, "check/_body.html", _context(CheckPage(request, sitting_id, "check")) | {"refusal": refusal})


@require_POST
def frame(request: HttpRequest, sitting_id: int, frame_id: int) -> HttpResponse:
    """A remedy for a frame: extra, exclude, reshoot, or onto another shot."""

    def action(page: SittingPage) -> None:
        one = get_object_or_404(
            Frame.objects.select_related("shot__rung", "sitting"), pk=frame_id, sitting=page.sitting
        )
        remedy = request.POST.get("remedy")
        if remedy == "extra":
            remedies.keep_as_extra(one)
        elif remedy == "exclude":
            remedies.exclude(one, request.POST.get("reason", ""))
        elif remedy == "reshoot":
            remedies.reshoot(one)
        elif remedy == "assign":
            remedies.assign_frame(one, _free_shot(request, page))
        elif remedy == "correct":
            remedies.correct(one, _said(request))
        else:
            raise Refusal("Choose a remedy: extra, exclude, re-shoot, assign or correct.")

    return _carry_out(request, sitting_id, action)


@require_POST
def aperture(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Say the aperture of a whole ladder."""

    def action(page: SittingPage) -> None:
        form = ApertureForm(request.POST)
        if not form.is_valid():
            raise Refusal("Write the aperture as f/8.")
        remedies.correct_aperture(page.ladder, form.cleaned_data["whole_aperture"])

    return _carry_out(request, sitting_id, action)


@require_POST
def name_body(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Say which body took the frames whose files do not."""

    def action(page: SittingPage) -> None:
        form = BodyNameForm(request.POST)
        if not form.is_valid():
            raise Refusal(form.problem)
        said = form.cleaned_data
        nameless.give_name(page.sitting, said["body"], said["make"], said["model"])

    return _carry_out(request, sitting_id, action)


@require_POST
def problem(request: HttpRequest, sitting_id: int, problem_id: int) -> HttpResponse:
    """A file that was not used: onto a shot by hand, or deleted from the list."""

    def action(page: SittingPage) -> None:
        one = get_object_or_404(Problem, pk=problem_id, sitting=page.sitting)
        if request.POST.get("remedy") == "assign":
            remedies.assign_problem(one, _free_shot(request, page))
        else:
            undo_log.act(page.sitting, "note", f"deleted {one.file_name}: {one.reason}", removed=one)

    return _carry_out(request, sitting_id, action)


def _free_shot(request: HttpRequest, page: SittingPage) -> Shot:
    wanted = whole(request.POST.get("shot"))
    if wanted is None:
        raise Refusal("Choose the shot it belongs to.")
    return get_object_or_404(Shot.objects.select_related("rung__ladder"), rung__ladder__sitting=page.sitting, pk=wanted)


def _said(request: HttpRequest) -> dict[str, float]:
    form = SaidForm(request.POST)
    if not form.is_valid():
        raise Refusal(form.refusals())
    return form.said()


@require_POST
def spot(request: HttpRequest, sitting_id: int, spot_id: int) -> HttpResponse:
    """A marked spot: ruled out for judging detail, or deleted."""

    def action(page: SittingPage) -> None:
        one = get_object_or_404(MarkedSpot.objects.select_related("sitting", "body"), pk=spot_id, sitting=page.sitting)
        if request.POST.get("remedy") == "rule-out":
            remedies.rule_out(one)
        else:
            remedies.delete_spot(one)

    return _carry_out(request, sitting_id, action)


@require_POST
def rung_remedy(request: HttpRequest, sitting_id: int, rung_id: int) -> HttpResponse:
    """A remedy for a rung as a whole: shot again, or left as it is."""

    def action(page: SittingPage) -> None:
        one = get_object_or_404(
            Rung.objects.select_related("ladder__sitting"), pk=rung_id, ladder__sitting=page.sitting
        )
        code, remedy = request.POST.get("code", ""), request.POST.get("remedy")
        same = (
            [run.rungs for run in audit_.audit(one.ladder).runs if run.code == code] if remedy == "let-be-run" else []
        )
        if remedy == "reshoot":
            remedies.reshoot_rung(one)
        elif same:
            remedies.let_be_all(one.ladder, code, same[0])
        else:
            remedies.let_be(one, code)

    return _carry_out(request, sitting_id, action)


@require_POST
@or_back_to("check:page", "sitting_id")
def gather(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Make a ladder of the singles chosen."""
    page = SittingPage(request, sitting_id, "check")
    wanted = [pk for text in request.POST.getlist("frame") if (pk := whole(text)) is not None]
    frames = list(Frame.objects.filter(sitting=page.sitting, pk__in=wanted))
    ladder = adopt.gather(page.sitting, frames, request.POST.get("kind", ""))
    return redirect(page.url("check", ladder=ladder.pk))


@require_POST
def undo(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Take the newest action back."""
    return _carry_out(request, sitting_id, lambda page: undo_log.undo(page.sitting))
