"""Shoot: the next shot, what changes since the last, frames as they land, the simulated camera, real files."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from functools import cached_property

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.check import audit
from yellowjacket.bench.intake import importing
from yellowjacket.bench.models import Conditions, Job, Shot
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import conditions, undo_log
from yellowjacket.bench.shoot import shots as shots_
from yellowjacket.bench.simulation import shoot
from yellowjacket.bench.typed import identity
from yellowjacket.core.exposure import dial
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.planning.shot_order import Change, changes
from yellowjacket.web.folders import asked_to_allow
from yellowjacket.web.refusals import refused
from yellowjacket.web.sheet.lines import Readings, error_line, frames_line
from yellowjacket.web.sheet.stave import Stave, columns_of
from yellowjacket.web.shoot.forms import ConditionsForm
from yellowjacket.web.sitting_page import SittingPage

# A stave of the day changes little; what is counted here says whether a window is up to date.
_EVENTS_SHOWN = 6
# By so much a clock is corrected now and then.
_CLOCK_S = 2.0


class ShootPage(SittingPage):
    """A sitting that is being shot."""

    def __init__(self, request: HttpRequest, sitting_id: int) -> None:
        super().__init__(request, sitting_id, "shoot")
        # Before anything is looked at: what comes in meanwhile makes the window ask again.
        self.state = _state(self)

    @cached_property
    def of_sitting(self) -> Sequence[Shot]:
        """Shots of all ladders, in order, with their frames."""
        return shots_.of_ladders(self.ladders)

    @cached_property
    def every_shot(self) -> Sequence[Shot]:
        """Shots of the ladder with their frames, in order of repeat."""
        own = (shot for shot in self.of_sitting if shot.rung.ladder_id == self.ladder.pk)
        return sorted(own, key=lambda shot: shot.repeat)

    @cached_property
    def waiting(self) -> Sequence[Shot]:
        """Shots of all ladders that are still to be taken, in order."""
        return shots_.due_of(self.of_sitting)

    @cached_property
    def job(self) -> Job | None:
        """The newest job of the sitting, however it ended."""
        return self.sitting.jobs.last()

    @property
    def last(self) -> Shot | None:
        """The shot of the ladder that was done last: with a frame or said to be taken."""
        done = [shot for shot in self.every_shot if shot.taken_at is not None or hasattr(shot, "frame")]
        return max(done, key=lambda shot: shot.order, default=None)


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The stave of what is in, the next shot, and the ways frames come in."""
    sitting_page = _page(request, sitting_id)
    return render(request, "shoot/page.html", _context(sitting_page))


@require_GET
def live(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The part that follows the day; nothing at all when the window that asks is up to date."""
    if request.GET.get("seen") == ShootPage(request, sitting_id).state:
        return HttpResponse(status=204)
    return render(request, "shoot/_live.html", _context(_page(request, sitting_id)))


def _page(request: HttpRequest, sitting_id: int) -> ShootPage:
    """The page on the ladder asked for, else on the ladder of the next shot."""
    sitting_page = ShootPage(request, sitting_id)
    waiting = sitting_page.waiting
    if "ladder" not in request.GET and "ladder" not in request.POST and waiting:
        sitting_page.switch_to(waiting[0].rung.ladder_id)
    return sitting_page


def _state(page: ShootPage) -> str:
    """Digest of everything the live part shows, so that windows can tell whether they are behind. Whichever ladder the next shot
    is on follows from what is counted."""
    asked = page.request.GET.get("ladder") or page.request.POST.get("ladder")
    parts = (asked, page.so_far.day, (page.job.pk, page.job.state) if page.job else None)
    return hashlib.sha256(repr(parts).encode()).hexdigest()[:16]


def _context(page: ShootPage) -> dict[str, object]:
    waiting = page.waiting
    mine = [shot for shot in waiting if shot.rung.ladder_id == page.ladder.pk]
    shot = mine[0] if mine else None
    lines = [frames_line(page)]
    readings = Readings(page, [Measurand.EXPOSURE_ERROR_STOPS])
    if readings:
        lines.append(error_line(page, readings))
    current = next((rung for rung in page.rungs if shot and rung.pk == shot.rung_id), page.rung)
    last = page.last
    context = page.context(
        stave=Stave(page.ladder, columns_of(page.rungs, current), lines),
        next_shot=shot,
        repeats=page.shots.get((shot.rung_id, shot.kind), 0) if shot else 0,
        change=_changes(page, shot, last),
        after=next((one for one in mine if shot and one.rung_id != shot.rung_id), None),
        due=len(waiting),
        other=next((one for one in waiting if one.rung.ladder_id != page.ladder.pk), None),
        busy=_busy(page, last),
        problems=page.problems,
        landed=audit.landed(page.ladder, page.of_sitting, page.spots),
        first=shots_.first_frame(page.of_sitting),
        clock_offset_s=shots_.clock_offset_s(page.of_sitting),
        events=page.sitting.events.order_by("-id")[:_EVENTS_SHOWN] if page.so_far.has("events") else (),
        conditions_form=ConditionsForm(auto_id="noted_%s"),
        latest=_latest(page) if page.so_far.has("conditions") else None,
        mishaps=shoot.MISHAPS.items(),
        state=page.state,
        dark_room=page.request.GET.get("room") == "dark",
    )
    context["rung"] = current
    return context


def _latest(page: SittingPage) -> Conditions | None:
    """What was noted last of the ladder's body."""
    return Conditions.objects.filter(sitting=page.sitting, body=page.ladder.body).order_by("id").last()


def _changes(page: SittingPage, shot: Shot | None, last: Shot | None) -> tuple[Change, ...] | None:
    """What to set since the last shot; None when everything is to be set."""
    if shot is None or last is None:
        return None
    f_number = page.ladder.f_number
    cap = (shot.kind == Shot.Kind.DARK) if shot.kind != last.kind else None
    return changes(last.rung.settings(f_number), shot.rung.settings(f_number), cap=cap)


def _busy(page: SittingPage, last: Shot | None) -> dict[str, object] | None:
    """How long the body is still exposing or locked up after the shot taken last, by the server's clock."""
    if last is None or last.taken_at is None or hasattr(last, "frame"):
        return None
    seconds = dial.exact_exposure_s(last.rung.exposure_s)
    lenr_from_s = page.ladder.body.lenr_from_s
    locked = seconds if last.rung.lenr and lenr_from_s is not None and seconds >= lenr_from_s else 0.0
    gone_s = (timezone.now() - last.taken_at).total_seconds()
    # A clock that was set back says nothing about how long the camera is busy.
    left = seconds + locked - gone_s if gone_s >= -_CLOCK_S else 0.0
    return {"left": round(left), "lockup": round(locked)} if left > 0 else None


def _carry_out(request: HttpRequest, sitting_id: int, action: Callable[[SittingPage], object]) -> HttpResponse:
    """Do what was asked, show a refusal as a message, and come back: the live part to htmx, else the page."""
    sitting_page = _page(request, sitting_id)
    refusal = refused(lambda: action(sitting_page))
    if request.headers.get("HX-Request"):
        return render(request, "shoot/_live.html", _context(_page(request, sitting_id)) | {"refusal": refusal})
    if refusal:
        messages.error(request, refusal)
    return redirect(sitting_page.url("shoot"))


@require_POST
def simulate(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Let the simulated camera shoot one shot, the rung or the rest."""
    mishaps = request.POST.getlist("mishap")
    scope = request.POST.get("scope", "rest")
    return _carry_out(request, sitting_id, lambda page: shoot.start_shooting(page.ladder, scope, mishaps))


def _shot(request: HttpRequest, page: SittingPage) -> Shot:
    """The shot that the window showed: two windows must not take two shots with one key each."""
    shots = Shot.objects.filter(rung__ladder__sitting=page.sitting).select_related("rung__ladder__sitting")
    return get_object_or_404(shots, pk=identity(request.POST.get("shot")))


@require_POST
def taken(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The shot shown was taken; the next one comes up."""
    return _carry_out(request, sitting_id, lambda page: shots_.take(_shot(request, page)))


@require_POST
def skip(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Leave the shot shown out, with a reason."""
    return _carry_out(
        request, sitting_id, lambda page: shots_.skip(_shot(request, page), request.POST.get("reason", ""))
    )


@require_POST
def undo(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Take the newest action back."""
    return _carry_out(request, sitting_id, lambda page: undo_log.undo(page.sitting))


@require_POST
def accept(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The first frame is good."""
    return _carry_out(request, sitting_id, lambda page: shots_.accept_first(page.sitting))


@require_POST
def note(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Write down what was looked at, with its time."""

    def action(page: SittingPage) -> None:
        blank = Conditions(sitting=page.sitting, body=page.ladder.body)
        form = ConditionsForm(request.POST, instance=blank)
        if not form.is_valid():
            raise Refusal(form.refusals())
        conditions.note(form.save(commit=False), form.cleaned_data["text"])

    return _carry_out(request, sitting_id, action)


@require_POST
def stopped(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The body was stopped by an empty battery or by heat."""
    return _carry_out(request, sitting_id, lambda page: conditions.stop(page.ladder, request.POST.get("why", "")))


@require_POST
def folder(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Import a folder of this machine; one that may not be read yet is asked about."""
    page = _page(request, sitting_id)
    try:
        try:
            importing.import_folder(page.sitting, request.POST.get("folder", ""))
        except importing.FolderNotAllowed as refusal:
            return asked_to_allow(request, refusal, page.sitting)
    except Refusal as refusal:
        messages.error(request, str(refusal))
    return redirect(page.url("shoot"))


@require_POST
def upload(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Import files sent by the browser."""
    return _carry_out(
        request, sitting_id, lambda page: importing.import_uploads(page.sitting, request.FILES.getlist("frames"))
    )


@require_POST
def watch(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Watch the inbox, or stop watching it."""
    wanted = request.POST.get("watch") == "on"
    return _carry_out(request, sitting_id, lambda page: importing.set_watch(page.sitting, wanted))


@require_POST
def clear_problems(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Clear the list of files that were not used; importing them again brings it back."""
    return _carry_out(request, sitting_id, lambda page: page.sitting.problems.all().delete())
