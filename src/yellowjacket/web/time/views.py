"""Time: a ladder of darks on its stave, the map of its pixels, the longest usable exposure, and what LENR buys."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from django.contrib import messages
from django.db.models import prefetch_related_objects
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.darks import measure, sensor_temperature
from yellowjacket.bench.darks.light_points import points_in_light
from yellowjacket.bench.decoding import raw_frame
from yellowjacket.bench.models import Frame, Ladder, Rung
from yellowjacket.bench.plan.sittings import LadderRequest, add_ladder
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import decimal, whole
from yellowjacket.core.darks.close_up import close_up, repair_shown
from yellowjacket.core.darks.dark_current import corner_to_centre
from yellowjacket.core.darks.hot_pixels import BAR_SPREADS, KINDS, LASTING, PixelTable, standing_at
from yellowjacket.core.darks.lenr import lenr_verdict
from yellowjacket.core.darks.night_plan import DARK_CAUTIONS
from yellowjacket.core.darks.usable_exposure import by_channel, per_area
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.core.metrology.intervals import density
from yellowjacket.core.planning.body_limits import PlanError
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.rendering.png import stored_png
from yellowjacket.web.refusals import carried_out
from yellowjacket.web.sheet.stave import Stave, columns_of
from yellowjacket.web.sitting_page import SittingPage
from yellowjacket.web.time.lines import TimeView, lines_of
from yellowjacket.web.time.scene import LIFTED_STOPS, scene_of

_DEFAULT_LEVEL = "usable"
_LISTED = 12
_COLDEST_C, _HOTTEST_C = -40.0, 70.0
# The test plan for LENR: what one click adds.
_TEST = {"longest_s": 240.0, "lenr": "pairs", "rest_s": 30.0, "repeats": 2}


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The stave of the time ladder and everything under it."""
    sitting_page = SittingPage(request, sitting_id, "time")
    return render(request, "time/page.html", _context(sitting_page))


def _context(page: SittingPage) -> dict[str, object]:
    # Who asks the ladder for its rungs gets the same.
    prefetch_related_objects([page.ladder], "rungs")
    timed = page.ladder.kind == Ladder.Kind.TIME
    done = page.so_far.ladders[page.ladder.pk]
    others = measure.others_with_darks(page.ladder) if done.darks_measured else []
    inputs = measure.DarkInputs.of([page.ladder, *others] if done.dark or done.darks_measured else [])
    found = measure.measured(page.ladder, inputs) if done.darks_measured else None
    scene = timed and page.ladder.method == Ladder.Method.SCENE
    context = page.context(
        scene=scene,
        timed=timed,
        pending=measure.unmeasured(page.ladder, inputs) if done.dark else 0,
        found=found,
        cautions=DARK_CAUTIONS,
    )
    if found is None:
        return context | ({"seen": scene_of(page), "lifted": LIFTED_STOPS} if scene else {})
    view = _view(page, found, inputs)
    page.switch_rungs(view.rungs)
    columns = columns_of(view.rungs, page.rung)
    column_px = Stave(page.ladder, columns).column_px
    surface = found.whole.current.surface
    channels = tuple(found.whole.current.by_channel)
    return context | {
        "rung": page.rung, "stave": Stave(page.ladder, columns, lines_of(view, column_px)), "whole": found.whole,
        "by_time": [
            (rung, [(channel, *found.whole.of_channel(view.of(rung), channel)) for channel in channels])
            for rung in view.rungs
        ],
        "growth": found.whole.growth(), "corner": corner_to_centre(surface), "channels": channels,
        "persists": measure.persistence(found, others, inputs), "warm_of_rung": found.warmth.get(page.rung.pk),
        "befores": Ladder.Before.choices, **_map(page, view), **_answers(page, view), **_lenr(page, view),
    }  # fmt: skip


def _view(page: SittingPage, found: measure.MeasuredDarks, inputs: measure.DarkInputs) -> TimeView:
    factor, _ = use_noise_factor(page.ladder.body.pixels, page.size_use.whole_frame_pixels if page.size_use else None)
    return TimeView(page, found, measure.rungs_of(found, page.rungs), factor, inputs)


def _measured(request: HttpRequest, sitting_id: int) -> tuple[SittingPage, TimeView]:
    sitting_page = SittingPage(request, sitting_id, "time")
    inputs = measure.DarkInputs.of([sitting_page.ladder])
    found = measure.measured(sitting_page.ladder, inputs)
    if found is None:
        raise Http404
    view = _view(sitting_page, found, inputs)
    sitting_page.switch_rungs(view.rungs)
    return sitting_page, view


@dataclass(frozen=True, slots=True)
class Bright:
    """A line of the list."""

    x: int
    y: int
    channel: str
    kind: str
    rate: float | None
    spreads: float


def _map(page: SittingPage, view: TimeView) -> dict[str, object]:
    """The panel of the map for the current rung: counts and the brightest."""
    one = view.of(page.rung)
    if one.pixels is None:
        return {"table": None, "rung": page.rung}
    table, rates = one.pixels, view.found.whole.rates_e_per_s(one)
    order = np.argsort(-table.rows["excess_dn"])[:_LISTED]
    brightest = [
        Bright(int(row["x"]), int(row["y"]), table.channels[row["channel"]], KINDS[row["kind"]], rates[n],
               float(row["excess_dn"] / row["spread_dn"]))
        for n, row in zip(order.tolist(), table.rows[order], strict=True)
    ]  # fmt: skip
    hot, showing = density(standing_at(table), table.megapixels), view.found.whole.showing_per_mpix(one)
    pitch = page.ladder.body.pixel_pitch_um
    counts = [(kind, len(table.of((kind,)))) for kind in KINDS]
    at_uses = [
        (
            use,
            view.found.whole.showing_per_mpix(
                one, use_noise_factor(page.ladder.body.pixels, use.whole_frame_pixels)[0]
            ),
        )
        for use in page.uses
    ]
    return {
        "table": table, "brightest": brightest, "counts": counts, "hot": hot, "hot_area": per_area(hot, pitch),
        "hot_picture": hot.scaled(page.ladder.body.pixels / 1e6), "by_channel": by_channel(table), "at_uses": at_uses,
        "rung": page.rung, "worst": _worst(table), "showing": showing,
        "left": view.found.whole.showing_per_mpix(one, repaired=True),
    }  # fmt: skip


@require_GET
def map_panel(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The map's panel for another rung."""
    sitting_page, view = _measured(request, sitting_id)
    return render(request, "time/_map.html", sitting_page.context(**_map(sitting_page, view)))


@require_GET
def points(request: HttpRequest, sitting_id: int) -> JsonResponse:
    """Every outstanding pixel of the current rung and the glow surface, for the canvas."""
    sitting_page, view = _measured(request, sitting_id)
    table = view.of(sitting_page.rung).pixels
    if table is None:
        raise Http404
    # Without glow the tiles differ by their noise only: nothing to draw.
    glowing = bool(view.found.whole.current.glow.value)
    surface = view.found.whole.current.surface if glowing else np.zeros((0, 0))
    low, high = (float(surface.min()), float(surface.max())) if surface.size else (0.0, 0.0)
    scaled = np.rint((surface - low) / max(high - low, 1e-9) * 255).astype(int) if surface.size else surface
    return JsonResponse({
        "width": table.size[0], "height": table.size[1], "kinds": KINDS, "x": table.rows["x"].tolist(),
        "y": table.rows["y"].tolist(), "kind": table.rows["kind"].tolist(),
        "over": np.round(table.rows["excess_dn"] / table.rows["spread_dn"], 1).tolist(),
        "surface": {"rows": surface.shape[0], "columns": surface.shape[1], "values": scaled.ravel().tolist()},
    })  # fmt: skip


@require_GET
def point(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """A pixel with its neighbours, number for number, in every repeat."""
    sitting_page, _ = _measured(request, sitting_id)
    x, y = whole(request.GET.get("x")), whole(request.GET.get("y"))
    darks = _darks(sitting_page)
    if x is None or y is None:
        raise Http404
    try:
        frames = [raw_frame(frame).single_sample() for frame in darks]
        found = close_up([one.mosaic for one in frames], x, y, min(frames[0].black_dn.values()), frames[0].layout)
    except (ValueError, FrameError) as error:
        raise Http404(str(error)) from error
    return render(request, "time/_point.html", {"found": found, "x": x, "y": y, "file": darks[0].file_name})


@require_GET
def repair(request: HttpRequest, sitting_id: int, what: str, x: int, y: int) -> HttpResponse:
    """A part of the first dark of the current rung, as it is or after the repair of lone points; grey, brightened."""
    sitting_page, view = _measured(request, sitting_id)
    table = view.of(sitting_page.rung).pixels
    if table is None or what not in ("before", "after"):
        raise Http404
    try:
        dark = raw_frame(_darks(sitting_page)[0]).single_sample()
    except FrameError as error:
        raise Http404(str(error)) from error
    shown = repair_shown(dark.mosaic, x, y, table.spread_dn, dark.layout.step, after=what == "after")
    return HttpResponse(stored_png(shown), content_type="image/png")


def _darks(page: SittingPage) -> Sequence[Frame]:
    """Two darks of the current rung at most; not found where there is none."""
    found = Frame.objects.darks_of(page.ladder).get(page.rung.pk, [])[:2]
    if not found:
        raise Http404
    return found


def _worst(table: PixelTable) -> tuple[int, int]:
    """Where most is left after repair, else where the brightest stands."""
    rows = table.of(LASTING)
    if not len(rows):
        return table.size[0] // 2, table.size[1] // 2
    left = rows["left_dn"] / rows["spread_dn"]
    best = int(np.argmax(left if left.max() > BAR_SPREADS else rows["excess_dn"]))
    return int(rows["x"][best]), int(rows["y"][best])


@require_GET
def light_points(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Bright points of one textured light frame, where no darks exist: less sure, and marked so."""
    sitting_page = SittingPage(request, sitting_id, "time")
    frames = sitting_page.light(sitting_page.rung) or [
        one for own in sitting_page.frames.values() for one in own if not one.dark
    ]
    if not frames:
        raise Http404
    try:
        found = points_in_light(frames[0])
    except FrameError as error:
        return render(request, "time/_light_points.html", {"failed": str(error)})
    megapixels = frames[0].width * frames[0].height / 1e6
    brightest = sorted(found, key=lambda one: -one.excess_dn)[:_LISTED]
    return render(
        request, "time/_light_points.html",
        {"frame": frames[0], "count": len(found), "per_mpix": density(len(found), megapixels), "brightest": brightest},
    )  # fmt: skip


# How long


def _level(request: HttpRequest) -> str:
    level = request.GET.get("level_of", _DEFAULT_LEVEL)
    return level if level in LEVELS else _DEFAULT_LEVEL


def _answers(page: SittingPage, view: TimeView) -> dict[str, object]:
    """The four answers at a level and a temperature."""
    request, whole = page.request, view.found.whole
    level, typed, wrong, celsius = _level(request), request.GET.get("celsius", ""), "", None
    if typed.strip():
        celsius = decimal(typed)
        if celsius is None:
            wrong = f"“{typed[:40]}” is not a temperature in °C."
        if celsius is not None and not _COLDEST_C <= celsius <= _HOTTEST_C:
            wrong, celsius = f"{celsius:g} °C is not a temperature that a camera works at.", None
        elif whole.reference_c is None:
            wrong = "The temperature of these darks is not known: enter it below, then it can be predicted for others."
    found = whole.longest(page.sitting.profile.criteria.long_exposure, level, view.factor, celsius)
    shown = celsius if celsius is not None else whole.reference_c
    return {
        "answers": list(found.items()), "level": level, "levels": LEVELS, "typed_celsius": typed, "wrong_celsius": wrong,
        "shown_celsius": shown, "current_there": whole.current_at(shown) if shown is not None else None,
        "criteria": page.sitting.profile.criteria.long_exposure, "thresholds": [
            (one, one.threshold(level)) for one in page.sitting.profile.criteria.long_exposure
        ],
    }  # fmt: skip


@require_GET
def answers(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The four answers for another level or temperature."""
    sitting_page, view = _measured(request, sitting_id)
    return render(request, "time/_answers.html", sitting_page.context(**_answers(sitting_page, view)))


def _lenr(page: SittingPage, view: TimeView) -> Mapping[str, object]:
    rows = view.found.whole.lenr(view.factor)
    criterion = page.sitting.profile.criteria.long_exposure[0]
    return {"lenr_rows": rows, "verdict": lenr_verdict(rows, criterion, _level(page.request))}


# What changes something


@require_POST
def start(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Measure the darks that are not measured yet."""
    sitting_page = SittingPage(request, sitting_id, "time")
    carried_out(request, lambda: measure.start_measuring(sitting_page.sitting))
    return redirect(sitting_page.url("time", ladder=sitting_page.ladder.pk))


@require_POST
def warmth(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The sensor's temperature at the current rung, as the tester says."""
    sitting_page = SittingPage(request, sitting_id, "time")
    rung: Rung = sitting_page.rung
    if carried_out(request, lambda: sensor_temperature.enter(rung, request.POST.get("celsius", ""))):
        measure.store_readings(sitting_page.ladder)
    return redirect(sitting_page.url("time", ladder=sitting_page.ladder.pk, rung=rung.key))


@require_POST
def warmth_csv(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Temperatures by file from a CSV."""
    sitting_page = SittingPage(request, sitting_id, "time")

    def enter() -> None:
        count = sensor_temperature.enter_csv(sitting_page.ladder, request.FILES.get("table"))
        messages.success(request, f"{count} frame{'s have' if count != 1 else ' has'} a temperature now.")

    if carried_out(request, enter):
        measure.store_readings(sitting_page.ladder)
    return redirect(sitting_page.url("time", ladder=sitting_page.ladder.pk))


@require_POST
def before(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """What the body did before the ladder."""
    sitting_page = SittingPage(request, sitting_id, "time")
    value = request.POST.get("before", "")
    if value in Ladder.Before.values or not value:
        sitting_page.ladder.before = value
        sitting_page.ladder.save(update_fields=["before"])
    return redirect(sitting_page.url("time", ladder=sitting_page.ladder.pk))


@require_POST
def plan_test(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Add the LENR test to the plan: a capped time ladder, every time off and on."""
    sitting_page = SittingPage(request, sitting_id, "time")
    body, iso = sitting_page.ladder.body, sitting_page.ladder.metered_iso
    spec = LadderSpec("time", "capped", Exposure(iso, 1.0, sitting_page.ladder.f_number), **_TEST)  # type: ignore[arg-type]

    def add() -> None:
        try:
            added = add_ladder(sitting_page.sitting, LadderRequest(body, spec))
        except PlanError as error:
            raise Refusal(error.reason) from error
        sitting_page.ladder = added
        messages.success(request, f"{added} is planned: 1 s to 4 min at ISO {iso}, LENR off and on, lens capped.")

    carried_out(request, add)
    return redirect(sitting_page.url("plan", ladder=sitting_page.ladder.pk))
