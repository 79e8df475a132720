"""Shoot: the next shot, the simulated camera, and real files coming in."""

from __future__ import annotations

from collections.abc import Callable

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from yellowjacket.bench.models import Shot
from yellowjacket.bench.services import importing, shooting
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.web.lines import Readings, error_line, frames_line
from yellowjacket.web.sitting_page import SittingPage
from yellowjacket.web.stave import Stave, columns_of


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The stave of what is in, the next shot, and the ways frames come in."""
    sitting_page = SittingPage(request, sitting_id, "shoot")
    due = list(
        Shot.objects.filter(rung__ladder=sitting_page.ladder, frame__isnull=True)
        .select_related("rung")
        .order_by("-kind", "rung__position", "repeat")
    )
    next_shot = due[0] if due else None
    lines = [frames_line(sitting_page)]
    readings = Readings(sitting_page.rungs)
    if readings:
        lines.append(error_line(sitting_page, readings))
    current = next_shot.rung if next_shot else sitting_page.rung
    context = sitting_page.context(
        stave=Stave(sitting_page.ladder, columns_of(sitting_page.rungs, current), lines),
        next_shot=next_shot,
        repeats=sitting_page.shots.get((next_shot.rung_id, next_shot.kind), 0) if next_shot else 0,
        change=_change(sitting_page, due),
        after=next((shot for shot in due if next_shot and shot.rung_id != next_shot.rung_id), None),
        due=len(due),
        problems=sitting_page.sitting.problems.all(),
        light_in=any(sitting_page.light(rung) for rung in sitting_page.rungs),
    )
    context["rung"] = current
    return render(request, "shoot/page.html", context)


def _change(page: SittingPage, due: list[Shot]) -> str:
    """What to change since the last shot, in words."""
    if not due:
        return ""
    shot = due[0]
    if shot.kind == Shot.Kind.DARK and shot.repeat == 1 and shot.rung.position == page.rungs[0].position:
        return "cap the lens, then set the rung below"
    if shot.repeat > 1:
        return f"nothing: frame {shot.repeat} of the same rung"
    if shot.rung.position == page.rungs[0].position:
        return "set everything; manual focus, self-timer, noise reduction off"
    before = page.rungs[shot.rung.position - 1]
    return f"ISO {before.iso} to {shot.rung.iso}, {before.shutter_label} to {shot.rung.shutter_label}"


def _carry_out(request: HttpRequest, sitting_id: int, action: Callable[[SittingPage], object]) -> HttpResponse:
    """Do what was asked, show a refusal as a message, and come back to the page."""
    sitting_page = SittingPage(request, sitting_id, "shoot")
    try:
        action(sitting_page)
    except Refusal as refusal:
        messages.error(request, str(refusal))
    return redirect(sitting_page.url("shoot"))


@require_POST
def simulate(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Let the simulated camera shoot the rest."""
    return _carry_out(request, sitting_id, lambda page: shooting.start_shooting(page.ladder))


@require_POST
def folder(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Import a folder of this machine."""
    return _carry_out(
        request, sitting_id, lambda page: importing.import_folder(page.sitting, request.POST.get("folder", ""))
    )


@require_POST
def upload(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Import files sent by the browser."""
    return _carry_out(
        request, sitting_id, lambda page: importing.import_uploads(page.sitting, request.FILES.getlist("frames"))
    )


@require_POST
def clear_problems(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Strike the list of files that were not used; importing them again brings it back."""
    return _carry_out(request, sitting_id, lambda page: page.sitting.problems.all().delete())
