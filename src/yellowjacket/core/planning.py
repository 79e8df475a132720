"""Planning: every setting of a ladder worked out from one metered exposure, and what stands in its way."""

from __future__ import annotations

from dataclasses import dataclass

from yellowjacket.core import stops
from yellowjacket.core.ladder import Exposure, PlannedLadder, PlannedRung

# A mark within this of the exact time is the same setting (1/8000 stands for 1/8192).
_SAME_MARK_STOPS = 0.1


@dataclass(frozen=True, slots=True)
class BodyLimits:
    """What the dial of a body has: printed ISO marks and shutter times in s."""

    lowest_iso: int
    highest_iso: int
    native_lowest_iso: int
    native_highest_iso: int
    fastest_shutter_s: float
    slowest_shutter_s: float


def iso_ladder_by_shutter(body: BodyLimits, metered: Exposure, step: str = "full") -> PlannedLadder:
    """An ISO ladder over the body's whole range, brightness held by the shutter.

    ``metered``: the correct exposure at any ISO. ``step``: "full" or "third". Every time is the metered
    one moved by whole steps in exact powers of two, then set to the nearest mark.
    Raises ValueError when the range is empty or upside down.
    """
    if body.lowest_iso > body.highest_iso:
        raise ValueError(f"lowest ISO {body.lowest_iso} is above highest ISO {body.highest_iso}")
    marks = stops.iso_marks_between(body.lowest_iso, body.highest_iso, step)
    if not marks:
        raise ValueError(f"no ISO mark lies between {body.lowest_iso} and {body.highest_iso}")
    metered_s = stops.exact_exposure_s(metered.exposure_s)
    metered_iso = stops.exact_iso(metered.iso)
    rungs = []
    for mark in marks:
        wanted_s = metered_s * metered_iso / mark.exact
        rungs.append(_rung(body, mark, wanted_s, metered.f_number))
    return PlannedLadder("iso", "shutter", tuple(rungs), _advice(rungs, metered.f_number))


def _rung(body: BodyLimits, iso: stops.Mark, wanted_s: float, f_number: float) -> PlannedRung:
    short = _short_by(body, wanted_s)
    if short > 0:
        reachable_s = body.fastest_shutter_s
    elif short < 0:
        reachable_s = body.slowest_shutter_s
    else:
        reachable_s = wanted_s
    shutter = stops.shutter_mark(stops.exact_exposure_s(reachable_s))
    extended = not body.native_lowest_iso <= iso.nominal <= body.native_highest_iso
    warnings = []
    if short:
        limit = "fastest" if short > 0 else "slowest"
        wanted = stops.shutter_mark(wanted_s).label
        warnings.append(f"needs {wanted}; {abs(short):.1f} stop past the {limit} shutter, {shutter.label}")
    if extended:
        warnings.append("extended ISO: switch it on in the menu")
    settings = Exposure(iso.nominal, shutter.nominal, f_number)
    return PlannedRung(
        settings, wanted_s, stops.stops_between(wanted_s, shutter.exact), extended, short, tuple(warnings)
    )


def _short_by(body: BodyLimits, wanted_s: float) -> float:
    """Stops past the fastest (positive) or slowest (negative) shutter; 0 within the dial."""
    past_fastest = stops.stops_between(wanted_s, stops.exact_exposure_s(body.fastest_shutter_s))
    if past_fastest > _SAME_MARK_STOPS:
        return past_fastest
    past_slowest = stops.stops_between(stops.exact_exposure_s(body.slowest_shutter_s), wanted_s)
    if past_slowest > _SAME_MARK_STOPS:
        return -past_slowest
    return 0.0


def _advice(rungs: list[PlannedRung], f_number: float) -> tuple[str, ...]:
    """What would make the whole ladder fit: meter the highest ISO first, its shutter runs out first."""
    too_fast = max((rung.short_by_stops for rung in rungs), default=0.0)
    too_slow = -min((rung.short_by_stops for rung in rungs), default=0.0)
    if too_fast > 0 and too_slow > 0:
        return (
            "The ladder is longer than the shutter range: shoot it in two parts, or dim the lamp for the upper one.",
        )
    if too_fast > 0:
        stopped_down = stops.aperture_mark(stops.exact_f_number(f_number) * 2 ** (too_fast / 2))
        return (
            f"The top of the ladder is {too_fast:.1f} stop too bright for the fastest shutter: stop down to "
            f"{stopped_down.label}, dim the lamp or add {too_fast:.0f} stop of neutral density, and meter again.",
        )
    if too_slow > 0:
        opened = stops.aperture_mark(stops.exact_f_number(f_number) * 2 ** (-too_slow / 2))
        return (
            f"The bottom of the ladder needs {too_slow:.1f} stop more light than the slowest shutter gives: open up to "
            f"{opened.label} or raise the lamp, and meter again.",
        )
    return ()
