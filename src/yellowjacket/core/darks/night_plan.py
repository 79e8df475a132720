"""A night of long exposures: how many frames fit, when darks are shot, what battery and card bear.

Inputs know no place: time available, exposure, number of frames, what takes care of hot pixels, temperature.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.core.darks.lenr import EXPECTED_NOISE_RATIO, darks_wanted
from yellowjacket.core.darks.temperature import USUAL_DOUBLING_C
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.metrology.estimate import Quantity

SINGLE, STACK, TRAILS, LAPSE = PURPOSES = ("single frames", "stack", "star trails", "time lapse")
LENR, DARKS, NOTHING = CARES = ("LENR", "darks", "nothing")
# Gaps show in a trail and a lapse from so many seconds on; none where the camera locks up.
_BATTERY_SWAP_S, _FIRST_SETUP_S = 120.0, 60.0
# Air that cools by more than this wants darks from both ends of the night.
_WARMTH_APART_C = 2.0
_CARD_SHARE = 0.9
_MOST_FRAMES = 20_000


class NightError(ValueError):
    """An input that makes no night: ``field`` names it."""

    def __init__(self, field: str, reason: str) -> None:
        super().__init__(reason)
        self.field, self.reason = field, reason


@dataclass(frozen=True, slots=True)
class NightSpec:
    """What is wanted. ``frames`` None: as many as fit. ``gap_s``: between frames. ``temperature_begin_c`` and
    ``..._end_c``: of the air. ``battery_minutes``, ``card_gb``, ``frame_mb``: None when not known. ``dark_share``: of a
    frame's variance, read noise and dark signal together. ``lenr_noise``: noise with LENR over that without, as measured
    nearest to the time asked for."""

    available_s: float
    exposure_s: float
    frames: int | None = None
    purpose: str = SINGLE
    care: str = DARKS
    gap_s: float = 2.0
    darks: int | None = None
    dark_share: float = 1.0
    temperature_begin_c: float | None = None
    temperature_end_c: float | None = None
    battery_minutes: float | None = None
    batteries: int = 1
    card_gb: float | None = None
    frame_mb: float | None = None
    lenr_from_s: float | None = 1.0
    lenr_noise: Quantity | None = None


@dataclass(frozen=True, slots=True)
class Stretch:
    """Part of the night: what is done, from when to when in seconds, how many frames."""

    kind: str
    begins_s: float
    ends_s: float
    frames: int
    words: str


@dataclass(frozen=True, slots=True)
class Night:
    """The schedule: stretches in order, frames and darks that fit, warnings, and what follows for the result."""

    stretches: tuple[Stretch, ...]
    lights: int
    darks: int
    warnings: tuple[str, ...]
    notes: tuple[str, ...]

    @property
    def ends_s(self) -> float:
        """When all is done."""
        return self.stretches[-1].ends_s if self.stretches else 0.0


def plan_night(spec: NightSpec) -> Night:
    """Lay the night out. Raises NightError, naming the field, for what cannot be."""
    _check(spec)
    locked = spec.care == LENR and spec.lenr_from_s is not None and spec.exposure_s >= spec.lenr_from_s
    cycle_s = spec.exposure_s * (2 if locked else 1) + spec.gap_s
    dark_s = spec.exposure_s + spec.gap_s
    fits = _fitting(spec, cycle_s, dark_s)
    lights = spec.frames if spec.frames is not None else fits
    if lights < 1:
        raise NightError("available", "Not one frame fits: give it more time, or a shorter exposure.")
    darks = _darks_for(spec, lights)
    warnings = list(_warnings(spec, lights, locked))
    stretches = _laid_out(spec, lights, darks, cycle_s, dark_s)
    needed, swaps = stretches[-1].ends_s, sum(one.kind == "battery" for one in stretches)
    if needed > spec.available_s + 1:
        warnings.insert(
            0,
            f"It takes {_span(needed)}, and there is {_span(spec.available_s)}: {counted(fits, 'frame')} fit.",
        )
    if swaps + 1 > spec.batteries:
        warnings.append(
            f"It takes {swaps + 1} batteries, you have {spec.batteries}: cold shortens them further. Bring more, or feed the "
            "body from outside by the maker's own adapter."
        )
    return Night(tuple(stretches), lights, darks, tuple(warnings), tuple(_notes(spec, lights, darks, locked)))


def _check(spec: NightSpec) -> None:
    if not 60 <= spec.available_s <= 24 * 3600:
        raise NightError("available", "The time available lies between a minute and a day.")
    if not 1 / 8 <= spec.exposure_s <= 4 * 3600:
        raise NightError("exposure", "An exposure of this planner lies between 1/8 s and four hours.")
    if spec.frames is not None and not 1 <= spec.frames <= _MOST_FRAMES:
        raise NightError("frames", f"Between 1 and {_MOST_FRAMES} frames.")
    if spec.purpose not in PURPOSES or spec.care not in CARES:
        raise NightError("purpose", "Choose a purpose, and what takes care of hot pixels.")
    if spec.gap_s < 0 or spec.batteries < 1:
        raise NightError("gap", "The gap cannot be negative, and at least one battery is needed.")


def _darks_for(spec: NightSpec, lights: int) -> int:
    if spec.care != DARKS:
        return 0
    if spec.darks is not None:
        return spec.darks
    stacked = lights if spec.purpose == STACK else 1
    # As many as keep the noise within 5 %, and no more than there are lights in a stack; 8 to 64
    # otherwise, and no more than half of the night holds.
    wanted = darks_wanted(stacked, spec.dark_share)
    return max(3, min(max(wanted, 8), max(lights, 16), 64, int(spec.available_s / 2 // (spec.exposure_s + spec.gap_s))))


def _fitting(spec: NightSpec, cycle_s: float, dark_s: float) -> int:
    """The most frames that fit with all that belongs to them: darks, set-up, every change of battery, as laid out."""
    most = min(_MOST_FRAMES, max(0, int((spec.available_s - _FIRST_SETUP_S) // cycle_s)))

    def ends_s(lights: int) -> float:
        return _laid_out(spec, lights, _darks_for(spec, lights), cycle_s, dark_s)[-1].ends_s

    # Every frame more ends later, so halving finds the last that fits: laying a night out takes as long as it has batteries.
    return bisect_right(range(1, most + 1), spec.available_s, key=ends_s)


def _laid_out(spec: NightSpec, lights: int, darks: int, cycle_s: float, dark_s: float) -> list[Stretch]:
    """Darks at both ends where the air cools, else at the end, with the cap on and everything as it is."""
    battery_s = spec.battery_minutes * 60 if spec.battery_minutes else math.inf
    drifts = _drift(spec) > _WARMTH_APART_C
    cools = (spec.temperature_begin_c or 0.0) > (spec.temperature_end_c or 0.0)
    ends = ("warm", "cool") if cools else ("cool", "warm")
    before = darks // 2 if drifts else 0
    jobs: list[tuple[str, int, float, str]] = []
    if before:
        jobs.append(("dark", before, dark_s, f"cap on, same ISO and time: darks of the {ends[0]} end"))
    jobs.append(
        ("light", lights, cycle_s, "frames" + (", each with its lock-up" if cycle_s > 2 * spec.exposure_s else ""))
    )
    if darks - before:
        end = f"darks of the {ends[1]} end" if drifts else "darks, at once while the sensor is as warm as it was"
        jobs.append(("dark", darks - before, dark_s, f"cap on, same ISO and time: {end}"))
    stretches = [Stretch("set up", 0.0, _FIRST_SETUP_S, 0, "focus, LENR setting, cap, cables")]
    clock, used = _FIRST_SETUP_S, 0.0
    for kind, count, each, words in jobs:
        left = count
        while left > 0:
            room = left if math.isinf(battery_s) else max(1, int((battery_s - used) // each))
            if not math.isinf(battery_s) and battery_s - used < each and used > 0:
                stretches.append(
                    Stretch("battery", clock, clock + _BATTERY_SWAP_S, 0, "change the battery, do not move the camera")
                )
                clock, used = clock + _BATTERY_SWAP_S, 0.0
                continue
            done = min(left, room)
            stretches.append(Stretch(kind, clock, clock + done * each, done, words))
            clock, used, left = clock + done * each, used + done * each, left - done
    return stretches


def _drift(spec: NightSpec) -> float:
    if spec.temperature_begin_c is None or spec.temperature_end_c is None:
        return 0.0
    return abs(spec.temperature_end_c - spec.temperature_begin_c)


def _warnings(spec: NightSpec, lights: int, locked: bool) -> list[str]:
    found = []
    if spec.care == LENR and spec.purpose != SINGLE:
        found.append(
            f"LENR off for {spec.purpose}: its lock-up leaves a gap as long as the exposure after every frame. "
            "Shoot darks instead."
        )
    if spec.care == LENR and not locked:
        found.append("LENR does nothing at this exposure time on this body.")
    if spec.purpose == TRAILS and spec.gap_s > 2:
        found.append(f"A gap of {spec.gap_s:g} s shows in a star trail: 1 s or less keeps it whole.")
    if spec.card_gb is not None and spec.frame_mb:
        wanted = (lights + _darks_for(spec, lights)) * spec.frame_mb / 1000
        if wanted > spec.card_gb * _CARD_SHARE:
            found.append(f"The frames take {wanted:.1f} GB, the card has {spec.card_gb:g}: bring another.")
    drift = _drift(spec)
    if spec.care == DARKS and drift > _WARMTH_APART_C:
        left = 2.0 ** (drift / 2 / USUAL_DOUBLING_C) - 1
        found.append(
            f"The air changes by {drift:g} °C: darks are shot at both ends; in the middle about {100 * left:.0f} % of the dark "
            "signal remains. Shoot darks in between for less."
        )
    return found


def _notes(spec: NightSpec, lights: int, darks: int, locked: bool) -> list[str]:
    found = []
    if spec.care == DARKS:
        stacked = lights if spec.purpose == STACK else 1
        growth = math.sqrt(1 + stacked * spec.dark_share / max(darks, 1))
        what = f"a stack of {lights}" if stacked > 1 else "each frame"
        found.append(f"{darks} darks add {100 * (growth - 1):.0f} % to the noise of {what}.")
    if locked:
        found.append(f"LENR adds {_lenr_words(spec.lenr_noise)}, and doubles the time.")
    if spec.care == NOTHING:
        found.append("Nothing takes hot pixels away: a converter's repair of single points is all.")
    return found


def _lenr_words(measured: Quantity | None) -> str:
    """What LENR adds to the noise, as measured on the body, else as it must be."""
    if measured is None or measured.value is None:
        return f"{100 * (EXPECTED_NOISE_RATIO - 1):.0f} % to read and dark noise, as one dark taken off must"
    low, high = (100 * ((end or measured.value) - 1) for end in (measured.low, measured.high))
    return f"{100 * (measured.value - 1):.0f} % to the noise of a dark ({low:.0f} to {high:.0f} %, as measured on this body)"


def _span(seconds: float) -> str:
    minutes = round(seconds / 60)
    return f"{minutes // 60} h {minutes % 60:02d} min" if minutes >= 60 else f"{minutes} min"


# Where darks are shot, indoors and out.
DARK_CAUTIONS: Sequence[str] = (
    "A tripod leg and a cable are trip hazards in the dark: tape cables, mark the legs.",
    "A body or battery too hot to hold is stopped and left to cool, by the maker's limits; a swollen battery is not used.",
)
CAUTIONS: Sequence[str] = (
    "Outdoors at night somebody knows where you are and when you are back; a torch, warm clothes, a charged telephone.",
    *DARK_CAUTIONS,
    "Never point a lens or an optical finder at the sun or a laser: mind where it stands at dawn.",
)
