"""Plan: a new sitting, its ladders, the stave of what was planned and the time line of the whole sitting."""

from __future__ import annotations

from collections.abc import Callable

from django.contrib import messages
from django.db.models import prefetch_related_objects
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone
from django.views.decorators.http import require_POST

from yellowjacket.bench.intake import adopt
from yellowjacket.bench.models import Body, CheckItem, Ladder, Rung, Sitting
from yellowjacket.bench.plan import sittings
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import conditions
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.planning.body_limits import PlanError
from yellowjacket.core.planning.ladder import PlannedLadder
from yellowjacket.core.planning.plan import plan_ladder
from yellowjacket.core.planning.plan_file import spec_from
from yellowjacket.core.planning.shot_order import menu_visits, shots_of
from yellowjacket.web.plan.forms import LadderForm, SittingForm, ladder_initial
from yellowjacket.web.plan.timeline import timeline_of
from yellowjacket.web.refusals import carried_out
from yellowjacket.web.sheet.lines import frames_line
from yellowjacket.web.sheet.stave import Cell, Line, Stave, columns_of, text_line
from yellowjacket.web.sitting_page import SittingPage
from yellowjacket.web.templatetags import values

_MOST_OWN_ITEMS = 30


def new_sitting(request: HttpRequest) -> HttpResponse:
    """The form with its live stave; on POST the sitting is stored."""
    if not Body.objects.exists():
        return redirect("desk:body-new")
    form = SittingForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        sitting = sittings.create_sitting(form.sitting(), form.uses(), [form.request()])
        return redirect("plan:page", sitting_id=sitting.pk)
    ladder = LadderForm(request.POST) if request.method == "POST" else LadderForm(_initial())
    return render(request, "plan/new.html", {"form": form, "place": "desk", **_preview_context(ladder)})


def _initial() -> dict[str, object]:
    unbound = LadderForm()
    initial = {name: unbound.get_initial_for_field(field, name) for name, field in unbound.fields.items()}
    first = Body.objects.first()
    initial.update(body=first.pk if first else None, step="full", ladder="iso:shutter", lenr="off")
    return initial


@require_POST
def preview(request: HttpRequest) -> HttpResponse:
    """The computed stave while the form is being filled in."""
    form = LadderForm(request.POST)
    # Another body has other raw modes; whoever ticks one keeps the focus.
    other_body = request.headers.get("HX-Trigger-Name") == form.add_prefix("body")
    return render(request, "plan/_preview.html", _preview_context(form) | {"form": form, "other_body": other_body})


def _preview_context(form: LadderForm) -> dict[str, object]:
    if not form.is_valid():
        refusals = [
            f"{form[name].label}: {error}" if name in form.fields else str(error)
            for name, errors in form.errors.items()
            for error in errors
        ]
        return {"stave": None, "refusals": refusals}
    asked = form.request()
    plan = plan_ladder(asked.spec, asked.body.limits)
    ladder = Ladder(
        body=asked.body, f_number=asked.spec.metered.f_number, kind=asked.spec.kind, method=asked.spec.method
    )
    rungs = sittings.unsaved_rungs(ladder, plan)
    stave = Stave(ladder, columns_of(rungs, None), plan_lines(rungs, capped=asked.spec.capped))
    return {"stave": stave, "plan": plan, "summary": _summary(plan), "warnings": warnings_by_text(rungs)}


def plan_lines(rungs: list[Rung], *, capped: bool) -> list[Line]:
    """The settings lines of a plan, what a mark rounds, and what stands in a rung's way; empty lines are left out.

    ``capped``: no light reaches the sensor, so no brightness is expected.
    """

    def when(wanted: bool, text: str) -> Cell:
        return Cell(text if wanted else "")

    def note(rung: Rung) -> Cell:
        texts = "; ".join(one["text"] for one in rung.warnings)
        more = f" +{len(rung.warnings) - 1}" if len(rung.warnings) > 1 else ""
        return Cell(rung.warnings[0]["short"] + more, bool(rung.short_by_stops), texts) if rung.warnings else Cell()

    lines = [
        text_line("lamp", "Lamp", "stops from metered", rungs,
                  lambda r: when(bool(r.lamp_stops), values.stops_signed(r.lamp_stops))),
        text_line("lux", "Meter", "lux to reach", rungs, lambda r: Cell(values.number(r.target_lux))),
        text_line("filter", "Filter", "true stops", rungs, _filters),
        text_line("value", "Setting", "menu", rungs, lambda r: Cell(r.value)),
        text_line("expected", "Expected", "stops from metered", rungs, lambda r: Cell(values.stops_signed(r.expected_stops))),
        text_line("rounding", "Mark against exact", "stops", rungs, _rounding),
        text_line("notes", "Watch out", "reasons below", rungs, note),
    ]  # fmt: skip
    if capped:
        lines = [line for line in lines if line.key != "expected"]
    return [line for line in lines if any(cell.text for cell in line.cells)]


def _filters(rung: Rung) -> Cell:
    names = " + ".join(one["name"] for one in rung.filters)
    return Cell(names, title=", ".join(f"{one['name']} takes {one['true_stops']:g} stops" for one in rung.filters))


def _rounding(rung: Rung) -> Cell:
    return Cell(values.stops_signed(rung.rounding_stops), strong=abs(rung.rounding_stops) > 1 / 6)


def warnings_by_text(rungs: list[Rung]) -> list[tuple[str, str]]:
    """Each warning once, with the rungs it concerns."""
    found: dict[str, list[str]] = {}
    for rung in rungs:
        for warning in rung.warnings:
            found.setdefault(warning["text"], []).append(rung.label.removeprefix("ISO "))
    return [(_run_of(labels, len(rungs)), text) for text, labels in found.items()]


def _run_of(labels: list[str], count: int) -> str:
    """ "every rung", or the rungs by name, the middle of a long run left out."""
    if len(labels) == count and count > 1:
        return "Every rung"
    return ", ".join(labels) if len(labels) <= 6 else f"{labels[0]}, {labels[1]} … {labels[-1]} ({len(labels)} rungs)"


def _summary(plan: PlannedLadder) -> str:
    spec = plan.spec
    shootable = sum(rung.shootable for rung in plan.rungs)
    shots = shots_of(plan)
    parts = [f"{shootable} rungs, {len(shots)} shots"]
    if spec.endurance:
        parts.append(f"the same dark {spec.repeats} times at most")
    elif spec.capped:
        parts.append(f"{spec.repeats} dark on each rung")
    else:
        parts.append(f"{spec.repeats} light and {spec.darks} dark on each rung")
    visits = menu_visits(plan.rungs, shots)
    if visits:
        parts.append(counted(visits, "menu visit"))
    return ", ".join(parts[:1]) + ": " + ", ".join(parts[1:])


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The plan of a sitting."""
    return render(request, "plan/page.html", _page_context(SittingPage(request, sitting_id, "plan")))


def _page_context(page: SittingPage) -> dict[str, object]:
    # Rungs of all ladders at once: the time line wants them.
    prefetch_related_objects(page.ladders, "rungs")
    rungs = list(page.rungs)
    lines = [*plan_lines(rungs, capped=page.ladder.capped), frames_line(page)]
    timeline = timeline_of(page.sitting, page.ladders)
    return page.context(
        stave=Stave(page.ladder, columns_of(rungs, page.rung), lines),
        warnings=warnings_by_text(rungs),
        advice=page.ladder.advice,
        timeline=timeline,
        rises=conditions.expected_rises(timeline.ladders, timeline.schedule),
        batteries=timeline.batteries,
        bodies=Body.objects.all(),
        notes=timeline.schedule.notes,
        items=page.sitting.check_items.all(),
    )


def _edit(request: HttpRequest, page: SittingPage, initial: dict[str, object], keep: Callable[[LadderForm], Ladder],
          title: str) -> HttpResponse:  # fmt: skip
    form = LadderForm(request.POST) if request.method == "POST" else LadderForm(initial)
    if request.method == "POST" and form.is_valid():
        try:
            ladder = keep(form)
            return redirect(page.url("plan", ladder=ladder.pk))
        except (Refusal, PlanError) as error:
            messages.error(request, str(error))
    return render(request, "plan/ladder.html", page.context(form=form, title=title, **_preview_context(form)))


def add_ladder(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """One more ladder; the form begins with the settings of the current one."""
    page = SittingPage(request, sitting_id, "plan")
    initial = ladder_initial(page.ladder.body, spec_from(page.ladder.spec))
    return _edit(request, page, initial, lambda form: sittings.add_ladder(page.sitting, form.request()), "Add a ladder")


def change_ladder(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Plan the current ladder anew."""
    page = SittingPage(request, sitting_id, "plan")
    initial = ladder_initial(page.ladder.body, spec_from(page.ladder.spec))
    return _edit(
        request,
        page,
        initial,
        lambda form: sittings.change_ladder(page.ladder, form.request()),
        f"Change {page.ladder}",
    )


@require_POST
def remove_ladder(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Take the current ladder out of the plan."""
    page = SittingPage(request, sitting_id, "plan")
    if not carried_out(request, lambda: sittings.remove_ladder(page.ladder)):
        return redirect(page.url("plan"))
    return redirect("plan:page", sitting_id=page.sitting.pk)


@require_POST
def dissolve(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Take an adopted ladder apart into singles."""
    page = SittingPage(request, sitting_id, "plan")
    if not carried_out(request, lambda: adopt.dissolve(page.ladder)):
        return redirect(page.url("plan"))
    return redirect("check:page", sitting_id=page.sitting.pk)


@require_POST
def tick(request: HttpRequest, sitting_id: int, item_id: int) -> HttpResponse:
    """Tick an item of the check list, or take the tick back; answers with the list."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    item = get_object_or_404(CheckItem, pk=item_id, sitting=sitting, caution=False)
    item.ticked_at = None if item.ticked_at else timezone.now()
    item.save(update_fields=["ticked_at"])
    return _checklist(request, sitting)


@require_POST
def add_item(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Add an own item; answers with the list."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    text = request.POST.get("text", "").strip()[:200]
    own = sitting.check_items.filter(own=True).count()
    if text and own < _MOST_OWN_ITEMS:
        CheckItem.objects.create(sitting=sitting, position=100 + own, text=text, own=True)
    return _checklist(request, sitting)


def _checklist(request: HttpRequest, sitting: Sitting) -> HttpResponse:
    return render(request, "plan/_checklist.html", {"sitting": sitting, "items": sitting.check_items.all()})


def shot_list(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The shot list on paper, with boxes to tick."""
    sitting_page = SittingPage(request, sitting_id, "plan")
    timeline = timeline_of(sitting_page.sitting)
    still_open = "open" in request.GET
    context = sitting_page.context(
        rows=list(timeline.rows(still_open=still_open)), still_open=still_open, total=timeline.schedule.total_s,
        notes=timeline.schedule.notes,
    )  # fmt: skip
    return render(request, "plan/shot_list.html", context)


def rung_cards(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """One large label per rung, to be put into the scene."""
    sitting_page = SittingPage(request, sitting_id, "plan")
    if not sitting_page.rungs:
        raise Http404
    return render(request, "plan/rung_cards.html", sitting_page.context(rungs=sitting_page.rungs))
