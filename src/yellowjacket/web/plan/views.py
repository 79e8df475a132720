"""Plan: a new sitting, and the stave of what was planned."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from yellowjacket.bench.models import Body, Ladder, Rung
from yellowjacket.bench.services.sittings import IsoLadderSpec, create_sitting
from yellowjacket.core.ladder import PlannedLadder
from yellowjacket.web.lines import frames_line
from yellowjacket.web.plan.forms import LadderForm, SittingForm
from yellowjacket.web.sitting_page import SittingPage
from yellowjacket.web.stave import Cell, Line, Stave, columns_of, text_line
from yellowjacket.web.templatetags import values


def new_sitting(request: HttpRequest) -> HttpResponse:
    """The form with its live stave; on POST the sitting is stored."""
    if not Body.objects.exists():
        return redirect("desk:body-new")
    form = SittingForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        sitting = create_sitting(form.sitting(), form.uses(), form.spec())
        return redirect("shoot:page", sitting_id=sitting.pk)
    ladder = LadderForm(request.POST) if request.method == "POST" else _initial_ladder()
    return render(request, "plan/new.html", {"form": form, "place": "desk", **_preview_context(ladder)})


def _initial_ladder() -> LadderForm:
    unbound = LadderForm()
    initial = {name: unbound.get_initial_for_field(field, name) for name, field in unbound.fields.items()}
    first = Body.objects.first()
    initial.update(body=first.pk if first else None, step="full")
    return LadderForm(initial)


@require_POST
def preview(request: HttpRequest) -> HttpResponse:
    """The computed stave while the form is being filled in."""
    return render(request, "plan/_preview.html", _preview_context(LadderForm(request.POST)))


def _preview_context(form: LadderForm) -> dict[str, object]:
    if not form.is_valid():
        return {"stave": None}
    spec = form.spec()
    plan = spec.plan()
    return {
        "stave": _planned_stave(spec, plan),
        "plan": plan,
        "summary": _summary(spec, plan),
        "warnings": warnings_by_text(plan),
    }


def _planned_stave(spec: IsoLadderSpec, plan: PlannedLadder) -> Stave:
    """A stave from a plan that is not stored yet."""
    ladder = Ladder(body=spec.body, f_number=spec.metered.f_number)
    rungs = [
        Rung(
            position=n, iso=round(rung.settings.iso), exposure_s=rung.settings.exposure_s, extended=rung.extended,
            rounding_stops=rung.rounding_stops, short_by_stops=rung.short_by_stops, warnings=list(rung.warnings),
        )
        for n, rung in enumerate(plan.rungs)
    ]  # fmt: skip
    return Stave(ladder, columns_of(rungs, None), plan_lines(rungs))


def plan_lines(rungs: list[Rung]) -> list[Line]:
    """What a plan says of each rung: the mark's rounding, and what stands in its way."""

    def rounding(rung: Rung) -> Cell:
        return Cell(values.stops_signed(rung.rounding_stops), strong=abs(rung.rounding_stops) > 1 / 6)

    def note(rung: Rung) -> Cell:
        if rung.short_by_stops:
            return Cell(f"{abs(rung.short_by_stops):.1f} stop short", True, "; ".join(rung.warnings))
        return Cell("extended", False, "; ".join(rung.warnings)) if rung.extended else Cell()

    return [
        text_line("rounding", "Mark against exact", "stops", rungs, rounding),
        text_line("notes", "To mind", "reasons below", rungs, note),
    ]


def warnings_by_text(plan: PlannedLadder) -> list[tuple[str, str]]:
    """Each warning once, with the rungs it concerns."""
    found: dict[str, list[str]] = {}
    for rung in plan.rungs:
        for warning in rung.warnings:
            found.setdefault(warning, []).append(f"{rung.settings.iso:.0f}")
    return [(f"ISO {', '.join(marks)}", warning) for warning, marks in found.items()]


def _summary(spec: IsoLadderSpec, plan: PlannedLadder) -> str:
    shootable = sum(rung.short_by_stops == 0 for rung in plan.rungs)
    shots = shootable * (spec.repeats + spec.dark_repeats)
    return f"{shootable} rungs, {shots} shots: {spec.repeats} light and {spec.dark_repeats} dark on each rung"


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The plan of a sitting."""
    sitting_page = SittingPage(request, sitting_id, "plan")
    rungs = list(sitting_page.rungs)
    lines = [*plan_lines(rungs), frames_line(sitting_page)]
    stave = Stave(sitting_page.ladder, columns_of(rungs, sitting_page.rung), lines)
    return render(request, "plan/page.html", sitting_page.context(stave=stave))
