"""Two pinned cells at large size: blinked, wiped, subtracted or side by side; and which is better."""

from __future__ import annotations

import io
import re
from dataclasses import dataclass, replace

import numpy as np
from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import resolve
from django.utils.http import urlencode
from django.views.decorators.http import require_GET, require_POST
from numpy.typing import NDArray
from PIL import Image

from yellowjacket.bench.look import pair_verdicts
from yellowjacket.bench.models import Lane, Rung
from yellowjacket.bench.models.judgement import side_name
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.colour.colorimetry import delta_e_2000
from yellowjacket.core.rendering.develop import DEVELOPERS, GRADIENT, PLAIN
from yellowjacket.core.renditions.picture import lab_of
from yellowjacket.web.look.switches import LADDERS, SIZE_WORDS, Looking
from yellowjacket.web.look.views import REASON_KEYS
from yellowjacket.web.look.wall import Cell, Walls
from yellowjacket.web.refusals import carried_out
from yellowjacket.web.sitting_page import SittingPage

MODES = ("blink", "wipe", "difference", "side by side")
# The stage on a page of 1280 × 800, device pixels.
_STAGE_PX = (1056, 520)
_SCORES = ((2, "left clearly"), (1, "left slightly"), (0, "equal"), (-1, "right slightly"), (-2, "right clearly"))
_KEY = re.compile(r"^(\d+)(?:~(\d+))?(?:@(\w+))?$")
# Colour differences are told from so many pixels at most.
_TOLD_FROM = 40_000


@dataclass(frozen=True, slots=True)
class Side:
    """One of the two: its rung, its lane and developer where they were asked for, and its picture."""

    key: str
    rung: Rung
    lane: Lane | None
    developer: str
    cell: Cell | None

    @property
    def name(self) -> str:
        """What it is called on the page."""
        return side_name(self.rung, self.lane)

    @property
    def judged(self) -> tuple[Rung, Lane | None]:
        """What a verdict is about."""
        return self.rung, self.lane


def _sides(page: SittingPage, looking: Looking) -> list[Side]:
    walls = Walls(page, replace(looking, rows=LADDERS))
    rungs = {rung.pk: (rung, ladder) for ladder in walls.ladders for rung in ladder.rungs.all()}
    keys = [page.request.GET.get("a", ""), page.request.GET.get("b", "")]
    usual = _usual(page, walls)
    sides = []
    for n, key in enumerate(keys):
        found = _KEY.match(key)
        if found is None or int(found[1]) not in rungs:
            key = usual[min(n, len(usual) - 1)]
            found = _KEY.match(key)
        assert found is not None  # noqa: S101 - the usual keys match
        rung, ladder = rungs.get(int(found[1]), (page.rung, page.ladder))
        rung.ladder = ladder
        lane = Lane.objects.filter(ladder=ladder, pk=found[2]).first() if found[2] else None
        developer = found[3] if found[3] in DEVELOPERS else looking.developer
        walls.looking = replace(walls.looking, developer=developer)
        cell = walls.cell(rung, ladder, lane, _STAGE_PX[1], width=_STAGE_PX[0])
        sides.append(Side(key, rung, lane, developer, cell))
    return sides


def _usual(page: SittingPage, walls: Walls) -> list[str]:
    """What is compared when nothing is pinned: the other body at the same ISO, else the next rung."""
    equal = [
        rung
        for ladder in walls.ladders
        for rung in ladder.rungs.all()
        if ladder.body_id != page.ladder.body_id and rung.key == page.rung.key and rung.pk in walls.frames
    ]
    if equal and page.rung.pk in walls.frames:
        return [str(page.rung.pk), str(equal[0].pk)]
    rungs = [rung for rung in page.rungs if rung.pk in walls.frames]
    at = next((n for n, rung in enumerate(rungs) if rung.pk == page.rung.pk), 0)
    return [str(rung.pk) for rung in (rungs[at : at + 2] or [page.rung])]


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The two, large."""
    sitting_page = SittingPage(request, sitting_id, "look")
    return render(request, "pair/page.html", _context(sitting_page))


def _context(page: SittingPage) -> dict[str, object]:
    looking = Looking.of(page.request)
    left, right = _sides(page, looking)
    spot = Walls(page, looking).spot()
    mode = page.request.GET.get("mode")
    said = pair_verdicts.last_on(page.use, page.person, left.judged, right.judged) if page.person else None
    judged = left.judged != right.judged
    return page.context(
        left=left, right=right, sides=(left, right), spot=f"{spot[0]},{spot[1]}",
        mode=mode if mode in MODES else MODES[0], modes=MODES, looking=looking,
        sizes=SIZE_WORDS.items(), surround=looking.surround, stage=_STAGE_PX, scores=_SCORES, reasons=REASON_KEYS,
        judged=judged, said=said, before=_step(page, left, right, -1), after=_step(page, left, right, 1),
        both=_address(page, a=f"{left.rung.pk}@{PLAIN}", b=f"{left.rung.pk}@{GRADIENT}", mode="difference"),
        turned=_address(page, a=right.key, b=left.key), query=page.request.GET.urlencode(),
    )  # fmt: skip


def _address(page: SittingPage, **changes: str) -> str:
    return f"?{urlencode({**page.request.GET.dict(), **changes})}"


def _step(page: SittingPage, left: Side, right: Side, by: int) -> str:
    """Address of the pair one rung on, on both ladders; empty at their ends."""
    keys = []
    for side in (left, right):
        rungs = list(side.rung.ladder.rungs.all())
        at = next(n for n, rung in enumerate(rungs) if rung.pk == side.rung.pk) + by
        if not 0 <= at < len(rungs):
            return ""
        keys.append(side.key.replace(str(side.rung.pk), str(rungs[at].pk), 1))
    return _address(page, a=keys[0], b=keys[1])


@require_POST
def verdict(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Keep a verdict, or the reason of the last one; back to the pair."""
    sitting_page = SittingPage(request, sitting_id, "look")
    looking = Looking.of(request)
    left, right = _sides(sitting_page, looking)

    def give() -> None:
        if "reason" in request.POST:
            last = pair_verdicts.last_on(sitting_page.use, sitting_page.person, left.judged, right.judged)
            if last is None:
                raise Refusal("Say which is better first, then why.")
            pair_verdicts.because(last, request.POST["reason"])
            return
        word = request.POST.get("score", "")
        if word not in {str(score) for score, _ in _SCORES}:
            raise Refusal("Say which is better, or that they are equal.")
        pair_verdicts.give(
            left.rung, right.rung, sitting_page.use, sitting_page.person, int(word), size_percent=looking.percent,
            developer=looking.developer, lanes=(left.lane, right.lane),
        )  # fmt: skip
        messages.success(request, "Saved. Press a reason's key, or → to continue.")

    carried_out(request, give)
    return redirect(f"{request.path.removesuffix('verdict/')}?{request.GET.urlencode()}")


@require_GET
def apart(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """By how much the two pictures differ, as a sentence."""
    sitting_page = SittingPage(request, sitting_id, "look")
    sides = _sides(sitting_page, Looking.of(request))
    shown = [side.cell for side in sides if side.cell is not None]
    if len(shown) < 2:
        return HttpResponse("one of them has no frame")
    labs = [_lab(request, cell) for cell in shown]
    if any(lab is None for lab in labs):
        return HttpResponse("a picture cannot be read: see the Check page")
    one, other = (lab for lab in labs if lab is not None)
    if one.shape != other.shape:
        return HttpResponse("their crops differ in size; set “like for like” or the size of the use to subtract them")
    step = max(1, one.shape[0] * one.shape[1] // _TOLD_FROM)
    difference = delta_e_2000(one.reshape(-1, 3)[::step], other.reshape(-1, 3)[::step])
    middle, most = np.percentile(difference, (50, 95))
    return HttpResponse(f"ΔE00 here: half of the pixels under {middle:.1f}, 19 of 20 under {most:.1f}")


def _lab(request: HttpRequest, cell: Cell) -> NDArray[np.float64] | None:
    """The picture of a cell, by the view that serves it."""
    path, _, query = cell.url.partition("?")
    match = resolve(path)
    asked = HttpRequest()
    asked.method, asked.GET = "GET", type(request.GET)(query)
    try:
        response = match.func(asked, *match.args, **match.kwargs)
    except Http404:
        return None
    return lab_of(np.asarray(Image.open(io.BytesIO(response.content)).convert("RGB")))
