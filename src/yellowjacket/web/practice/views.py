"""Practice: can you tell these rungs apart; short two-alternative rounds, and how that went over time."""

from __future__ import annotations

from dataclasses import dataclass

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render

from yellowjacket.bench.look import blind_results, blind_rounds
from yellowjacket.bench.models import BlindRound, Frame, Ladder, Shot, Sitting, Use
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import identity
from yellowjacket.web.graphics.scale import Scale

DISTANCES = (1.0, 2.0, 3.0)
_CURVE_PX = (720.0, 170.0)
_SHARES = Scale(0.0, 1.0, _CURVE_PX[1] - 6, 6)
_PERSON_KEY = "person"
# Kinds that show two rungs beside each other.
_APART_MATTERS = (BlindRound.Kind.HIGHER, BlindRound.Kind.SAME)


@dataclass(frozen=True, slots=True)
class Point:
    """A round on the learning curve: places in the drawing, and what a pointer reads."""

    x: float
    y: float
    low_y: float
    high_y: float
    title: str


def page(request: HttpRequest) -> HttpResponse:
    """What can be practised on, and what came of it; on POST a round begins."""
    sittings = list(_with_frames())
    chosen = next(
        (one for one in sittings if str(one.pk) == (request.POST.get("sitting") or request.GET.get("sitting"))), None
    )
    chosen = chosen or (sittings[0] if sittings else None)
    if request.method == "POST" and chosen is not None:
        request.session[_PERSON_KEY] = request.POST.get("person", "").strip()[:80]
        try:
            use = get_object_or_404(Use, sitting=chosen, pk=identity(request.POST.get("use")))
            kind = request.POST.get("kind", "")
            if kind not in blind_rounds.PRACTICE:
                raise Refusal("Choose what to practise.")
            apart = request.POST.get("apart", "")
            if kind not in _APART_MATTERS:
                apart = f"{DISTANCES[0]:g}"
            if apart not in {f"{one:g}" for one in DISTANCES}:
                raise Refusal("Choose how far apart the rungs stand.")
            made = blind_rounds.begin(chosen, use, request.session[_PERSON_KEY], float(apart), kind)
            return redirect("rounds:page", token=made.token)
        except Refusal as refusal:
            messages.error(request, str(refusal))
    person = str(request.session.get(_PERSON_KEY, ""))
    done = blind_results.practice_rounds(person or None)
    return render(
        request, "practice/page.html",
        {"place": "practice", "sittings": sittings, "chosen": chosen, "uses": chosen.uses.all() if chosen else (),
         "distances": [f"{one:g}" for one in DISTANCES], "person": person, "done": done[::-1][:30],
         "guessed": blind_results.guess_rounds(person or None)[::-1][:30], "curve": _curve(done),
         "curve_px": _CURVE_PX, "half": _SHARES.at(0.5),
         "open": BlindRound.objects.filter(kind__in=blind_rounds.PRACTICE, finished_at=None).select_related("sitting")[:5]},
    )  # fmt: skip


def _with_frames() -> list[Sitting]:
    frames = Frame.objects.filter(shot__kind=Shot.Kind.LIGHT, shot__rung__ladder__kind=Ladder.Kind.ISO)
    return list(Sitting.objects.filter(pk__in=frames.values("sitting_id")))


def _curve(done: list[blind_results.Practised]) -> list[Point]:
    """Share of right answers round by round, with exact intervals."""
    points = []
    for n, one in enumerate(done):
        x = (n + 0.5) / len(done) * _CURVE_PX[0]
        share = one.share
        points.append(
            Point(
                x, _SHARES.at(share.value or 0), _SHARES.at(share.low or 0), _SHARES.at(share.high or 0),
                f"{one.round.get_kind_display()}, {one.round.wanted_stops:g} stops apart: {one.right} of {one.trials}",
            )
        )  # fmt: skip
    return points
