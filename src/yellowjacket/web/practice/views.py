"""Practice: can you tell these rungs apart; short two-alternative rounds, and how that went over time."""

from __future__ import annotations

from collections.abc import Sequence

from django.contrib import messages
from django.db.models import Exists, OuterRef
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render

from yellowjacket.bench.look import blind_results, blind_rounds
from yellowjacket.bench.look.blind_stimuli import PRACTICE_STOPS, practice_distances
from yellowjacket.bench.models import BlindRound, Frame, Ladder, Shot, Sitting, Use
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import identity
from yellowjacket.core.exposure.notation import counted
from yellowjacket.web.graphics.chart import Axis, Curve, Layout, Point, chart
from yellowjacket.web.graphics.drawing import Drawing

_LAYOUT = Layout(720, 180, left=36, right=6, top=10, foot=10, text=12, dot=3.6, line=2, axis_at=30)
_SHARES = Axis(straight=True, includes=(0.0, 1.0))
_PERSON_KEY = "person"
# Kinds that show two rungs beside each other.
_APART_MATTERS = (BlindRound.Kind.HIGHER, BlindRound.Kind.SAME)


def page(request: HttpRequest) -> HttpResponse:
    """What can be practised on, and what came of it; on POST a round begins."""
    sittings = list(_with_frames())
    chosen = next(
        (one for one in sittings if str(one.pk) == (request.POST.get("sitting") or request.GET.get("sitting"))), None
    )
    chosen = chosen or (sittings[0] if sittings else None)
    asked = {"use": request.POST.get("use", ""), "apart": request.POST.get("apart", "")}
    if request.method == "POST" and chosen is not None:
        request.session[_PERSON_KEY] = request.POST.get("person", "").strip()[:80]
        try:
            use = get_object_or_404(Use, sitting=chosen, pk=identity(asked["use"]))
            kind = request.POST.get("kind", "")
            if kind not in blind_rounds.PRACTICE:
                raise Refusal("Choose what to practise.")
            apart = asked["apart"]
            if kind not in _APART_MATTERS:
                apart = f"{PRACTICE_STOPS[0]:g}"
            if apart not in {f"{one:g}" for one in PRACTICE_STOPS}:
                raise Refusal("Choose how far apart the rungs stand.")
            made = blind_rounds.begin(chosen, use, request.session[_PERSON_KEY], float(apart), kind)
            return redirect("rounds:page", token=made.token)
        except Refusal as refusal:
            messages.error(request, str(refusal))
    person = str(request.session.get(_PERSON_KEY, ""))
    done = blind_results.practice_rounds(person or None)
    distances = practice_distances(chosen) if chosen else []
    return render(
        request, "practice/page.html",
        {"place": "practice", "sittings": sittings, "chosen": chosen, "uses": chosen.uses.all() if chosen else (),
         "distances": [f"{one:g}" for one in distances], "use": asked["use"],
         "apart": asked["apart"] or f"{_distance(distances, done):g}",
         "person": person, "done": done[::-1][:30],
         "guessed": blind_results.guess_rounds(person or None)[::-1][:30], "curve": _curve(done),
         "open": BlindRound.objects.filter(kind__in=blind_rounds.PRACTICE, finished_at=None).select_related("sitting")[:5]},
    )  # fmt: skip


def _distance(distances: Sequence[float], done: Sequence[blind_results.Practised]) -> float:
    """How far apart, in stops, the rungs of the next round stand unless another distance is chosen: as in the last one, and to
    begin with as far as there is."""
    last = next((one.round.wanted_stops for one in reversed(done) if one.round.kind in _APART_MATTERS), None)
    return last if last is not None and last in distances else max(distances, default=0.0)


def _with_frames() -> list[Sitting]:
    frames = Frame.objects.filter(
        sitting=OuterRef("pk"), shot__kind=Shot.Kind.LIGHT, shot__rung__ladder__kind=Ladder.Kind.ISO
    )
    return list(Sitting.objects.filter(Exists(frames)))


def _curve(done: list[blind_results.Practised]) -> Drawing | None:
    """Share of right answers round by round, with exact intervals."""
    step = (_LAYOUT.width - _LAYOUT.left - _LAYOUT.right) / max(1, len(done))
    points = [
        Point(
            _LAYOUT.left + (n + 0.5) * step, one.share,
            f"{one.round.get_kind_display()}, {counted(round(one.round.wanted_stops), 'stop')} apart: "
            f"{one.right} of {one.trials}",
        )
        for n, one in enumerate(done)
    ]  # fmt: skip
    found = chart(
        "Share of right answers by round, with 95 % intervals; the line is guessing", [Curve(points)], _LAYOUT,
        axis=_SHARES, thresholds=[("guessing", 0.5)],
    )  # fmt: skip
    return found.drawing if found else None
