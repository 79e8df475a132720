"""The plan in open formats, and plans that come in."""

from __future__ import annotations

import csv
from datetime import timedelta

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.csv_cells import safe_text
from yellowjacket.bench.models import Body, PlanTemplate, Sitting, ToleranceProfile
from yellowjacket.bench.plan import plan_files, sittings
from yellowjacket.bench.plan.uses import offered_uses
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.tolerance.profiles import DEFAULT_PROFILE
from yellowjacket.bench.typed import identity, whole
from yellowjacket.core.exposure import notation
from yellowjacket.web.calendars import Event, calendar_text
from yellowjacket.web.plan.timeline import Timeline, timeline_of
from yellowjacket.web.refusals import or_back_to
from yellowjacket.web.sitting_page import SittingPage

CSV_COLUMNS = (
    "number", "begins", "ladder", "rung", "kind", "repeat", "of", "iso", "shutter", "exposure_s", "f_number", "lenr",
    "lamp_stops", "filters", "setting", "change",
)  # fmt: skip


def _timeline(request: HttpRequest, sitting_id: int) -> tuple[Sitting, Timeline]:
    page = SittingPage(request, sitting_id, "plan")
    return page.sitting, timeline_of(page.sitting)


def _attachment(response: HttpResponse, sitting: Sitting, ending: str) -> HttpResponse:
    response["Content-Disposition"] = f'attachment; filename="{slugify(sitting.name) or "sitting"}-{ending}"'
    return response


@require_GET
def shots_csv(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The shot list, one row a shot; with ``open`` only the shots that have no frame."""
    sitting, timeline = _timeline(request, sitting_id)
    response = HttpResponse(content_type="text/csv; charset=utf-8")
    writer = csv.writer(response)
    writer.writerow(CSV_COLUMNS)
    still_open = "open" in request.GET
    for row in timeline.rows(still_open=still_open):
        shot, exposure = row.entry.shot, row.settings.exposure
        cells = (
            row.number, row.begins.isoformat(timespec="seconds"), str(row.ladder), row.label, shot.kind, shot.repeat,
            shot.repeats, f"{exposure.iso:g}", notation.shutter_label(exposure.exposure_s), exposure.exposure_s,
            exposure.f_number, "on" if row.settings.lenr else "off", round(row.settings.lamp_stops, 3),
            " + ".join(one.name for one in row.settings.filters), row.settings.value,
            "; ".join(f"{change.what} {change.new}" for change in row.changes),
        )  # fmt: skip
        writer.writerow([safe_text(cell) for cell in cells])
    return _attachment(response, sitting, "to-shoot.csv" if still_open else "shots.csv")


@require_GET
def schedule_ics(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """One calendar entry per ladder (iCalendar, RFC 5545), at the clock times of the plan."""
    sitting, timeline = _timeline(request, sitting_id)
    total_s = timeline.schedule.total_s
    events = [
        Event(
            f"sitting-{sitting.pk}-{n}", band.begins,
            band.begins + timedelta(seconds=band.width / timeline.width * total_s), f"{sitting.name}: {band.label}",
            sitting.question,
        )
        for n, band in enumerate(timeline.bands)
    ]  # fmt: skip
    text = calendar_text("Plan", events)
    return _attachment(HttpResponse(text, content_type="text/calendar; charset=utf-8"), sitting, "schedule.ics")


@require_GET
def plan_json(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The plan as a document."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    response = JsonResponse(plan_files.document_of(sitting), json_dumps_params={"indent": 1, "ensure_ascii": False})
    return _attachment(response, sitting, "plan.json")


@require_POST
@or_back_to("plan:page", "sitting_id")
def save_template(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Keep the plan for later."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    template = plan_files.save_template(sitting, request.POST.get("name", ""))
    messages.success(request, f"Saved as “{template}”: new sittings can begin from it.")
    return redirect("plan:page", sitting_id=sitting.pk)


@require_POST
@or_back_to("plan:page", "sitting_id")
def repeat(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The same plan as a new sitting of today, fitted to another body where one is chosen."""
    sitting = get_object_or_404(Sitting.objects.select_related("lens_used", "profile"), pk=sitting_id)
    chosen = whole(request.POST.get("body"))
    body = get_object_or_404(Body, pk=chosen) if chosen is not None else None
    again, fitted = plan_files.repeat(sitting, body, timezone.localdate())
    for difference in fitted.differences:
        messages.warning(request, difference)
    return redirect("plan:page", sitting_id=again.pk)


def from_plan(request: HttpRequest) -> HttpResponse:
    """A new sitting from a template or a plan file, fitted to a body."""
    context: dict[str, object] = {
        "place": "desk",
        "templates": PlanTemplate.objects.all(),
        "bodies": Body.objects.all(),
    }
    if request.method == "POST":
        try:
            sitting, fitted = _sitting_from_plan(request)
        except Refusal as refusal:
            context["refusal"] = str(refusal)
        else:
            for difference in fitted.differences:
                messages.warning(request, difference)
            return redirect("plan:page", sitting_id=sitting.pk)
    return render(request, "plan/from_plan.html", context)


def _sitting_from_plan(request: HttpRequest) -> tuple[Sitting, plan_files.FittedPlan]:
    upload = request.FILES.get("plan")
    if upload is not None:
        document = plan_files.parse_document(upload.read(plan_files.LARGEST_BYTES + 1))
    elif (template := whole(request.POST.get("template"))) is not None:
        document = get_object_or_404(PlanTemplate, pk=template).document
    else:
        raise Refusal("Choose a template, or a plan file.")
    fitted = plan_files.fit_plan(document, Body.objects.filter(pk=identity(request.POST.get("body"))).first())
    name = request.POST.get("name", "").strip()[:120] or fitted.name[:120] or "Sitting from a plan"
    profile, _ = ToleranceProfile.objects.get_or_create(name=DEFAULT_PROFILE)
    sitting = Sitting(
        name=name, scene="", question=request.POST.get("question", "").strip()[:200] or "as planned",
        expectation=request.POST.get("expectation", "").strip()[:200] or "open", held_on=timezone.localdate(),
        held_equal=fitted.held_equal, profile=profile,
    )  # fmt: skip
    return sittings.create_sitting(sitting, offered_uses(), fitted.ladders), fitted
