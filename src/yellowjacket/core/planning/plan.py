"""Planning: every setting of a ladder worked out from one metered exposure, and what stands in its way.

One shape for all kinds: a rung is a set of settings at a place on the stop axis. The builders below differ only
in what they move; rounding to marks, reach of the shutter and cautions are worked out once for all.
"""

from __future__ import annotations

import itertools
import math
import random
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from yellowjacket.core.exposure import apex, dial, notation
from yellowjacket.core.planning.body_limits import BodyLimits, PlanError
from yellowjacket.core.planning.cautions import Surroundings, cautions_for
from yellowjacket.core.planning.ladder import (
    KINDS,
    LENR_CHOICES,
    METHODS,
    STEPS,
    Filter,
    LadderSpec,
    PlannedLadder,
    PlannedRung,
    Settings,
)

# A mark within this of the exact time is the same setting (1/8000 stands for 1/8192).
_SAME_MARK_STOPS = 0.1
# A slip of the pen, not a plan.
MOST_RUNGS = 120
_MOST_REPEATS = 50
# An endurance run is as long as a battery.
MOST_ENDURANCE = 1000
_MOST_STOPS = 12.0
_LONGEST_S = 4 * 3600.0
# Combining more filters than this vignettes and reflects.
_MOST_FILTERS = 3
# The order of a shuffled ladder must be the same whenever the plan is computed.
_SHUFFLE_SEED = 20260314


def plan_ladder(spec: LadderSpec, body: BodyLimits, surroundings: Surroundings | None = None) -> PlannedLadder:
    """The ladder worked out: marks, rounding, reach, cautions, advice.

    Raises PlanError, naming the field, for what cannot be planned.
    """
    _check(spec, body)
    around = surroundings or Surroundings()
    builder: dict[str, Callable[[LadderSpec, BodyLimits], list[PlannedRung]]] = {
        "iso": _iso_rungs, "exposure": _exposure_rungs, "time": _time_rungs, "setting": _setting_rungs,
    }  # fmt: skip
    rungs = _crossed(builder[spec.kind](spec, body), spec.crossed)
    if not rungs:
        raise PlanError("picked", "No rung is left: choose a wider range or a finer step.")
    if len(rungs) > MOST_RUNGS:
        raise PlanError("step", f"That makes {len(rungs)} rungs; {MOST_RUNGS} at most. Choose a wider step.")
    if not any(rung.shootable for rung in rungs):
        raise PlanError("metered", _nothing_fits(rungs[0], body))
    rungs = [replace(rung, warnings=cautions_for(rung, spec, body, around)) for rung in rungs]
    return PlannedLadder(spec, tuple(rungs), _advice(rungs, spec, body))


# What a form or file may ask for at all, by field: beyond it nothing can be worked out, and nobody shoots it.
_SENSIBLE: dict[str, tuple[float, float]] = {
    "metered_iso": (1, 1e8), "metered": (1e-6, 1e6), "aperture": (0.3, 300), "rest_s": (0, 86_400), "shortest_s": (1e-6, 1e6),
    "longest_s": (1e-6, 1e6), "lux": (1e-6, 1e7), "under": (0, _MOST_STOPS), "over": (0, _MOST_STOPS),
}  # fmt: skip
_PICKED: dict[str, tuple[float, float]] = {
    "iso": (1, 1e8), "setting": (1, 1e8), "exposure": (-_MOST_STOPS, _MOST_STOPS), "time": (1e-6, 1e6),
}  # fmt: skip


def _require_sensible(spec: LadderSpec) -> None:
    numbers = {
        "metered_iso": spec.metered.iso, "metered": spec.metered.exposure_s, "aperture": spec.metered.f_number,
        "rest_s": spec.rest_s, "shortest_s": spec.shortest_s, "longest_s": spec.longest_s, "under": spec.under,
        "over": spec.over,
    } | ({} if spec.lux is None else {"lux": spec.lux})  # fmt: skip
    for field, value in numbers.items():
        least, most = _SENSIBLE[field]
        if not least <= value <= most:
            raise PlanError(field, f"{value:.6g} cannot be planned: choose {least:g} to {most:g}.")
    least, most = _PICKED[spec.kind]
    if len(spec.picked) > MOST_RUNGS:
        raise PlanError("picked", f"That makes {len(spec.picked)} rungs; {MOST_RUNGS} at most.")
    for value in spec.picked:
        if not least <= value <= most:
            what = {"exposure": "stops from the metered exposure", "time": "seconds"}.get(spec.kind, "ISO marks")
            raise PlanError("picked", f"{value:.6g} is none of the {what} a ladder may have ({least:g} to {most:g}).")


def _check(spec: LadderSpec, body: BodyLimits) -> None:
    if spec.kind not in KINDS or spec.method not in METHODS[spec.kind]:
        raise PlanError("method", f"There is no {spec.kind} ladder by {spec.method!r}.")
    _require_sensible(spec)
    if body.lowest_iso > body.highest_iso:
        raise PlanError("body", f"The body's lowest ISO {body.lowest_iso} is above its highest, {body.highest_iso}.")
    if spec.step not in STEPS:
        raise PlanError("step", f"A step is one of {', '.join(STEPS)}.")
    if not body.has_iso(spec.metered.iso):
        nearest = body.nearest_iso(spec.metered.iso)
        raise PlanError("metered_iso", f"ISO {spec.metered.iso:g} is not on the dial; the nearest mark is {nearest}.")
    most = MOST_ENDURANCE if spec.endurance else _MOST_REPEATS
    for field, count, least in (("repeats", spec.repeats, 1), ("darks", spec.darks, 0)):
        if not least <= count <= most:
            raise PlanError(field, f"{count} frames a rung cannot be shot: choose {least} to {most}.")
    if spec.lenr not in LENR_CHOICES:
        raise PlanError("lenr", f"LENR is one of {', '.join(LENR_CHOICES)}.")
    if spec.lenr != "off" and body.lenr_from_s is None:
        raise PlanError("lenr", "This body has no long-exposure noise reduction; choose off.")
    if spec.lenr == "pairs" and not body.lenr_switchable:
        raise PlanError("lenr", "On this body LENR cannot be switched; choose on.")


def _nothing_fits(rung: PlannedRung, body: BodyLimits) -> str:
    if rung.short_by_stops > 0:
        return (
            f"No rung fits: even {rung.label} is {rung.short_by_stops:.1f} stops past the fastest shutter, "
            f"{notation.shutter_label(body.fastest_shutter_s)}. Stop down or add a filter, and meter again."
        )
    return (
        f"No rung fits: even {rung.label} is {-rung.short_by_stops:.1f} stops past the slowest shutter, "
        f"{notation.shutter_label(body.slowest_shutter_s)}. Open up or raise the lamp, and meter again."
    )


# Builders: what each kind moves along its rungs.


def _iso_rungs(spec: LadderSpec, body: BodyLimits) -> list[PlannedRung]:
    metered_iso = dial.exact_iso(spec.metered.iso)
    rungs = []
    for mark in _iso_marks(spec, body):
        up = apex.stops_between(metered_iso, mark.exact)
        exposure = replace(spec.metered, iso=mark.nominal)
        settings = Settings(exposure, lenr=spec.lenr == "on")
        wanted_s = dial.exact_exposure_s(spec.metered.exposure_s)
        if spec.method == "shutter":
            wanted_s = apex.shift(wanted_s, -up)
        elif spec.method == "lamp":
            settings = replace(settings, lamp_stops=-up)
        elif spec.method == "nd":
            settings, wanted_s = _behind_filters(settings, spec.filters, up, wanted_s)
        rung = _rung(f"{mark.nominal:g}", f"ISO {mark.label}", up, settings, wanted_s, spec, body)
        extended = not body.native_lowest_iso <= mark.nominal <= body.native_highest_iso
        lux = spec.lux * 2.0**-up if spec.lux and spec.method == "lamp" else None
        rungs.append(replace(rung, extended=extended, target_lux=lux))
    return rungs


def _iso_marks(spec: LadderSpec, body: BodyLimits) -> Sequence[dial.Mark]:
    if not spec.picked:
        return body.iso_marks(spec.step)
    by_nominal = {mark.nominal: mark for mark in body.iso_marks("third")}
    for iso in spec.picked:
        if iso not in by_nominal:
            raise PlanError("picked", f"ISO {iso:g} is not on the dial; the nearest mark is {body.nearest_iso(iso)}.")
    return [by_nominal[iso] for iso in sorted(set(spec.picked))]


def _exposure_rungs(spec: LadderSpec, body: BodyLimits) -> list[PlannedRung]:
    metered_s = dial.exact_exposure_s(spec.metered.exposure_s)
    step = STEPS[spec.step]
    if spec.picked:
        moves = sorted({*spec.picked, 0.0})
    else:
        moves = [n * step for n in range(-round(spec.under / step), round(spec.over / step) + 1)]
    settings = Settings(spec.metered, lenr=spec.lenr == "on")
    return [
        _rung(_stops_key(move), _stops_key(move), move, settings, apex.shift(metered_s, move), spec, body)
        for move in moves
    ]  # fmt: skip


def _stops_key(move: float) -> str:
    text = notation.with_sign(move, 2).rstrip("0").rstrip(".")
    return text or "0"


def _time_rungs(spec: LadderSpec, body: BodyLimits) -> list[PlannedRung]:
    if spec.endurance and not 0 < spec.shortest_s <= _LONGEST_S:
        raise PlanError("shortest_s", f"Choose a time up to {_LONGEST_S / 60:g} min.")
    if not spec.endurance and not 0 < spec.shortest_s <= spec.longest_s:
        raise PlanError("longest_s", "The longest time must not be shorter than the shortest.")
    if spec.longest_s > _LONGEST_S:
        raise PlanError("longest_s", f"{spec.longest_s / 60:g} min is too long; {_LONGEST_S / 60:g} min at most.")
    if spec.endurance:
        times = [dial.shutter_mark(spec.shortest_s).nominal]
    else:
        times = sorted(set(spec.picked)) or _doublings(spec.shortest_s, spec.longest_s, STEPS[spec.step])
    if times[0] <= 0:
        raise PlanError("picked", "Exposure times must be positive.")
    metered_s = dial.exact_exposure_s(spec.metered.exposure_s)
    if spec.endurance and spec.lenr == "pairs":
        raise PlanError("lenr", "An endurance run takes the same shot throughout: choose LENR off or on.")
    lenr = {"off": (False,), "on": (True,), "pairs": (False, True)}[spec.lenr]
    rungs = []
    for on, seconds in itertools.product(lenr, times):
        exact = dial.exact_exposure_s(seconds)
        settings = Settings(spec.metered, lenr=on)
        wanted_s = exact
        if spec.method == "scene" and spec.filters:
            settings, _ = _behind_filters(settings, spec.filters, apex.stops_between(metered_s, exact), exact)
        label = notation.shutter_label(seconds)
        key = label.removesuffix(" s").replace(" ", "") + ("+LENR" if on else "")
        rung = _rung(
            key,
            f"{label} LENR" if on and len(lenr) > 1 else label,
            apex.stops_between(1.0, exact),
            settings,
            wanted_s,
            spec,
            body,
        )
        rungs.append(rung)
    if spec.shuffled:
        random.Random(_SHUFFLE_SEED).shuffle(rungs)  # noqa: S311 - an order, not a secret
    return rungs


def _doublings(shortest_s: float, longest_s: float, step: float) -> list[float]:
    """Printed times from the shortest to the longest, a step apart in exact stops."""
    begin = dial.exact_exposure_s(shortest_s)
    count = math.floor(apex.stops_between(begin, dial.exact_exposure_s(longest_s)) / step + 0.15)
    found: list[float] = []
    for n in range(count + 1):
        nominal = dial.shutter_mark(apex.shift(begin, n * step)).nominal
        if nominal not in found:
            found.append(nominal)
    return found


def _setting_rungs(spec: LadderSpec, body: BodyLimits) -> list[PlannedRung]:
    values = tuple(dict.fromkeys(value.strip() for value in spec.values if value.strip()))
    if len(values) < 2:
        raise PlanError("values", "Name at least two values, separated by commas: off, low, high.")
    unknown = [v for v in values if spec.method == "raw_mode" and body.raw_modes and v not in body.raw_modes]
    if unknown:
        raise PlanError("values", f"The body has no raw mode {unknown[0]!r}; it has {', '.join(body.raw_modes)}.")
    metered_s = dial.exact_exposure_s(spec.metered.exposure_s)
    return [
        _rung(value, value, 0.0, Settings(spec.metered, lenr=spec.lenr == "on", value=value), metered_s, spec, body)
        for value in values
    ]


def _crossed(rungs: list[PlannedRung], values: Sequence[str]) -> list[PlannedRung]:
    """Every rung in every raw mode, mode by mode, to and fro: a menu visit per mode and no jump in between."""
    if not values:
        return rungs
    result: list[PlannedRung] = []
    for n, value in enumerate(dict.fromkeys(values)):
        run = rungs if n % 2 == 0 else list(reversed(rungs))
        result += [
            replace(r, key=f"{r.key}·{value}", label=f"{r.label} {value}", settings=replace(r.settings, value=value))
            for r in run
        ]
    return result


def _behind_filters(
    settings: Settings, filters: Sequence[Filter], wanted_stops: float, exposure_s: float
) -> tuple[Settings, float]:
    """The filters whose true strength comes nearest; what they leave over is taken by the shutter."""
    chosen = nearest_filters(filters, wanted_stops)
    left = wanted_stops - sum(f.true_stops for f in chosen)
    return replace(settings, filters=chosen), apex.shift(exposure_s, -left)


def nearest_filters(filters: Sequence[Filter], wanted_stops: float) -> tuple[Filter, ...]:
    """At most three of the filters whose true strengths sum nearest to ``wanted_stops``; fewer is better."""
    best: tuple[Filter, ...] = ()
    for count in range(1, min(_MOST_FILTERS, len(filters)) + 1):
        for chosen in itertools.combinations(filters, count):
            error = abs(wanted_stops - sum(f.true_stops for f in chosen))
            if error < abs(wanted_stops - sum(f.true_stops for f in best)) - 1e-9:
                best = chosen
    return best


# What is the same for every kind.


def _rung(
    key: str, label: str, at_stops: float, settings: Settings, wanted_s: float, spec: LadderSpec, body: BodyLimits
) -> PlannedRung:
    """Round the wanted time to the dial, say how far it misses, and what brightness will come of it."""
    short = _short_by(body, wanted_s)
    reachable_s = wanted_s
    if short > 0:
        reachable_s = dial.exact_exposure_s(body.fastest_shutter_s)
    elif short < 0:
        reachable_s = dial.exact_exposure_s(body.slowest_shutter_s)
    mark = _time_mark(reachable_s, body)
    settings = replace(settings, exposure=replace(settings.exposure, exposure_s=mark.nominal))
    expected = settings.level_stops - spec.metered.level_stops
    rounding = apex.stops_between(wanted_s, mark.exact)
    return PlannedRung(key, label, at_stops, settings, wanted_s, rounding, expected, short_by_stops=short)


def _time_mark(exposure_s: float, body: BodyLimits) -> dial.Mark:
    """The dial mark nearest to a time; past the dial a timer holds the shutter for the exact time."""
    if exposure_s > dial.exact_exposure_s(body.slowest_shutter_s) * 2**_SAME_MARK_STOPS:
        nominal = dial.mark_from_nominal(dial.SHUTTER_MARKS, exposure_s)
        return nominal or dial.Mark(notation.shutter_label(exposure_s), exposure_s, exposure_s, "third")
    return dial.shutter_mark(exposure_s)


def _short_by(body: BodyLimits, wanted_s: float) -> float:
    """Stops past the fastest (positive) or slowest (negative) shutter; 0 within reach."""
    past_fastest = apex.stops_between(wanted_s, dial.exact_exposure_s(body.fastest_shutter_s))
    if past_fastest > _SAME_MARK_STOPS:
        return past_fastest
    past_slowest = apex.stops_between(dial.exact_exposure_s(body.slowest_shutter_s), wanted_s)
    if past_slowest > _SAME_MARK_STOPS and not body.bulb:
        return -past_slowest
    return 0.0


_CONFOUNDED = {
    ("iso", "shutter"): "Brightness is held by the shutter: short times see flicker, long ones heat.",
    ("iso", "lamp"): "Brightness is held by the lamp: a dimmed lamp may change its colour, so watch the neutral drift.",
    ("iso", "nd"): "Brightness is held by filters: their true strength and tint go into the readings.",
    ("iso", "fixed"): "Everything is held and the picture brightens: the upper rungs will clip.",
    ("time", "endurance"): "The same shot until battery or heat stops it: note level and warmth every ten shots or so. "
    "A body too hot to hold is stopped and left to cool; the maker's temperature limits come first.",
}


def _advice(rungs: Sequence[PlannedRung], spec: LadderSpec, body: BodyLimits) -> tuple[str, ...]:
    """What the method confounds, what the step leaves out, and what would make the whole ladder fit."""
    found = [_CONFOUNDED[spec.kind, spec.method]] if (spec.kind, spec.method) in _CONFOUNDED else []
    highest = max(rung.settings.exposure.iso for rung in rungs)
    if spec.kind == "iso" and not spec.picked and highest < body.highest_iso:
        found.append(
            f"These steps end at ISO {highest:g}; the dial goes on to ISO {body.highest_iso}. Choose thirds, or name the "
            "settings, to shoot that too."
        )
    return (*found, *_remedies(rungs, spec.metered.f_number))


def _remedies(rungs: Iterable[PlannedRung], f_number: float) -> Iterable[str]:
    """Meter the highest ISO first, its shutter runs out first: by how much, and what to set instead."""
    misses = [rung.short_by_stops for rung in rungs]
    too_fast, too_slow = max(0.0, *misses, 0.0), max(0.0, *(-miss for miss in misses), 0.0)
    exact = dial.exact_f_number(f_number)
    if too_fast > 0 and too_slow > 0:
        yield "The ladder is longer than the shutter range: shoot it in two parts, or dim the lamp for the upper one."
    elif too_fast > 0:
        stopped_down = dial.aperture_mark(exact * 2 ** (too_fast / 2)).label
        yield (
            f"Meter the fastest rung first: it is {too_fast:.1f} stop too bright for the fastest shutter. Stop down to "
            f"{stopped_down}, dim the lamp, or add {math.ceil(too_fast)} stop of neutral density, and meter again."
        )
    elif too_slow > 0:
        opened = dial.aperture_mark(exact * 2 ** (-too_slow / 2)).label
        yield (
            f"The slowest rung needs {too_slow:.1f} stop more light than the slowest shutter gives: open up to "
            f"{opened} or raise the lamp, and meter again."
        )
