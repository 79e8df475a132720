"""Night: what is wanted becomes a schedule, with darks, batteries, warnings, and what the body's record says."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import datetime, timedelta
from urllib.parse import urlencode

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from yellowjacket.bench.advise import exposure
from yellowjacket.bench.darks import measure
from yellowjacket.bench.models import Body
from yellowjacket.bench.typed import identity
from yellowjacket.core.darks.night_plan import CAUTIONS, Night, NightError, Stretch, plan_night
from yellowjacket.core.darks.usable_exposure import REPAIRED
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.web.calendars import Event, calendar_text
from yellowjacket.web.graphics.scale import Scale
from yellowjacket.web.night.forms import NightForm

WIDTH = 1000.0


@dataclass(frozen=True, slots=True)
class Row:
    """A stretch at its clock time, and where it lies on the bar."""

    stretch: Stretch
    begins: datetime
    ends: datetime
    x: float
    width: float


@dataclass(frozen=True, slots=True)
class Record:
    """What the body's measured darks say of this night."""

    celsius: float | None
    long: exposure.Long
    fits: bool | None


def page(request: HttpRequest) -> HttpResponse:
    """The form with its schedule."""
    form = NightForm(request.GET) if "hours" in request.GET else NightForm(NightForm.initial_values(_body(request)))
    return render(request, "night/page.html", {"place": "night", "form": form, "cautions": CAUTIONS, **_planned(form)})


def _body(request: HttpRequest) -> Body | None:
    return Body.objects.filter(pk=identity(request.GET.get("body"))).first() or Body.objects.first()


@require_GET
def schedule(request: HttpRequest) -> HttpResponse:
    """The schedule while the form is being filled in."""
    return render(request, "night/_schedule.html", {"cautions": CAUTIONS, **_planned(NightForm(request.GET))})


def _planned(form: NightForm) -> dict[str, object]:
    if not form.is_valid():
        told = [f"{form[name].label}: {error}" for name, errors in form.errors.items() for error in errors]
        return {"night": None, "refusals": told}
    record, share, lenr_noise = _record(form)
    try:
        night = plan_night(form.spec(share, lenr_noise))
    except NightError as error:
        return {"night": None, "refusals": [error.reason]}
    return {
        "night": night, "rows": _rows(night, form.begins_at), "record": record, "query": urlencode(dict(form.data.items())),
        "begins": form.begins_at, "asked": form.cleaned_data, "width": WIDTH,
    }  # fmt: skip


def _record(form: NightForm) -> tuple[Record | None, float, Quantity | None]:
    """What the body's darks say, which share of a frame's variance darks would carry over, and by how much LENR raises
    the noise at the time nearest to the one asked for."""
    body: Body | None = form.cleaned_data["body"]
    found = measure.of_body(body) if body else None
    if body is None or found is None:
        return None, 1.0, None
    air = [form.cleaned_data[name] for name in ("begin_c", "end_c") if form.cleaned_data[name] is not None]
    celsius = sum(air) / len(air) if air and found.whole.reference_c is not None else None
    long = exposure.long_of(measure.of_body(body), "usable", 1.0, celsius)
    if long is None:
        return None, 1.0, None
    exposure_s = form.cleaned_data["exposure_s"]
    repaired = long.answers[REPAIRED].seconds
    both = [one for one in found.whole.lenr(1.0) if one.at_work] if found.whole.on else []
    nearest = min(both, key=lambda one: abs(math.log2(one.exposure_s / exposure_s)), default=None)
    share = 1.0
    if found.whole.shadow is not None:
        shadow = found.whole.shadow
        own = shadow.read_noise_e**2 + max(shadow.current.value or 0.0, 0.0) * exposure_s
        share = own / (shadow.signal_e + own)
    fits = None if repaired is None else exposure_s <= repaired
    return Record(celsius, long, fits), share, nearest.noise_ratio if nearest else None


def _rows(night: Night, begins: datetime) -> list[Row]:
    bar = Scale(0.0, night.ends_s, 0.0, WIDTH)
    rows = []
    for one in night.stretches:
        x, end = bar.at(one.begins_s), bar.at(one.ends_s)
        begin_at, end_at = begins + timedelta(seconds=one.begins_s), begins + timedelta(seconds=one.ends_s)
        rows.append(Row(one, begin_at, end_at, x, end - x))
    return rows


def _asked(request: HttpRequest) -> dict[str, object]:
    planned = _planned(NightForm(request.GET))
    if planned["night"] is None:
        raise Http404
    return planned


@require_GET
def calendar(request: HttpRequest) -> HttpResponse:
    """The night as iCalendar: one entry a stretch."""
    planned = _asked(request)
    rows: list[Row] = planned["rows"]  # type: ignore[assignment]
    events = [
        Event(f"night-{row.begins:%Y%m%dT%H%M%S}-{n}", row.begins, row.ends, _title(row.stretch), row.stretch.words)
        for n, row in enumerate(rows)
    ]
    response = HttpResponse(calendar_text("Night", events), content_type="text/calendar; charset=utf-8")
    response["Content-Disposition"] = 'attachment; filename="night.ics"'
    return response


def _title(stretch: Stretch) -> str:
    return f"{stretch.frames} {stretch.kind} frames" if stretch.frames else stretch.kind.capitalize()


@require_GET
def printed(request: HttpRequest) -> HttpResponse:
    """The night on paper."""
    return render(request, "night/print.html", {"cautions": CAUTIONS, **_asked(request)})
