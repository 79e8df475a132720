"""Ladder and rung: the one shape that ISO, exposure, time and setting ladders share."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

from yellowjacket.core.exposure import apex, dial

KINDS = ("iso", "exposure", "time", "setting")
# How a ladder of each kind is made; the first is the usual one.
METHODS: dict[str, tuple[str, ...]] = {
    "iso": ("shutter", "lamp", "nd", "fixed"),
    "exposure": ("shutter",),
    "time": ("capped", "scene", "endurance"),
    "setting": ("raw_mode", "noise_reduction", "bit_depth"),
}
LENR_CHOICES = ("off", "on", "pairs")
# Steps between rungs, in stops.
STEPS: dict[str, float] = {"third": 1 / 3, "half": 1 / 2, "full": 1.0, "two": 2.0, "three": 3.0}


@dataclass(frozen=True, slots=True)
class Exposure:
    """Settings as printed on the dial: ISO mark, shutter time in s, f-number."""

    iso: float
    exposure_s: float
    f_number: float

    @property
    def level_stops(self) -> float:
        """Brightness these settings ask for, in stops over an arbitrary zero, from exact values.

        log2 of ISO × t / N²; equal for two frames that should come out equally bright.
        """
        iso = dial.exact_iso(self.iso)
        seconds = dial.exact_exposure_s(self.exposure_s)
        return math.log2(iso * seconds) - apex.aperture_value(dial.exact_f_number(self.f_number))


@dataclass(frozen=True, slots=True)
class Filter:
    """A neutral-density filter: what is engraved, its true strength, both in stops, and its tint in words."""

    name: str
    nominal_stops: float
    true_stops: float
    tint: str = ""


@dataclass(frozen=True, slots=True)
class Settings:
    """Everything that is set for a rung.

    ``lamp_stops``: lamp level against the metered one. ``filters``: on the lens. ``value``: what a setting
    ladder varies (raw mode, noise-reduction level, bit depth), or the raw mode of a crossed ladder.
    """

    exposure: Exposure
    lenr: bool = False
    lamp_stops: float = 0.0
    filters: tuple[Filter, ...] = ()
    value: str = ""

    @property
    def nd_stops(self) -> float:
        """Light the filters take, by their true strength."""
        return sum(f.true_stops for f in self.filters)

    @property
    def level_stops(self) -> float:
        """Brightness asked for, lamp and filters included, over the zero of Exposure.level_stops."""
        return self.exposure.level_stops + self.lamp_stops - self.nd_stops


@dataclass(frozen=True, slots=True)
class LadderSpec:
    """A ladder as asked for.

    ``metered``: the correct exposure. ``step``: a key of STEPS. ``picked``: a hand-picked list instead, in
    printed ISO, stops or seconds as the kind has it. ``under``, ``over``: stops of an exposure ladder.
    ``shortest_s``, ``longest_s``: ends of a time ladder. ``values``: of a setting ladder. ``crossed``: raw
    modes in which every rung is shot. ``repeats``, ``darks``: frames a rung. ``lux``: the meter's reading at
    the metered exposure, None without a meter.
    """

    kind: str
    method: str
    metered: Exposure
    step: str = "full"
    picked: tuple[float, ...] = ()
    under: float = 5.0
    over: float = 5.0
    shortest_s: float = 1.0
    longest_s: float = 960.0
    lenr: str = "off"
    rest_s: float = 0.0
    shuffled: bool = False
    values: tuple[str, ...] = ()
    crossed: tuple[str, ...] = ()
    repeats: int = 2
    darks: int = 2
    closing_repeat: bool = False
    filters: tuple[Filter, ...] = ()
    lux: float | None = None

    @property
    def capped(self) -> bool:
        """Whether the lens has its cap on throughout: every frame is a dark."""
        return self.method in ("capped", "endurance")

    @property
    def endurance(self) -> bool:
        """Whether the same shot is taken until battery or heat stops it; ``repeats`` then is the most."""
        return self.method == "endurance"


@dataclass(frozen=True, slots=True)
class Caution:
    """Something to watch out for on a rung: ``code`` for programs, ``short`` for the cell, ``text`` the sentence."""

    code: str
    short: str
    text: str


@dataclass(frozen=True, slots=True)
class PlannedRung:
    """One rung of a plan.

    ``key``: its name within the ladder. ``at_stops``: its place on the stop axis, from the metered rung.
    ``wanted_s``: the exact time the arithmetic asked for; ``rounding_stops``: the mark's exact time against
    it. ``expected_stops``: brightness against the metered exposure. ``short_by_stops``: how far the body's
    fastest (positive) or slowest (negative) shutter misses it; 0 when it can be shot.
    ``target_lux``: the meter reading to reach with the lamp, or None.
    """

    key: str
    label: str
    at_stops: float
    settings: Settings
    wanted_s: float
    rounding_stops: float
    expected_stops: float
    extended: bool = False
    short_by_stops: float = 0.0
    target_lux: float | None = None
    warnings: tuple[Caution, ...] = ()

    @property
    def shootable(self) -> bool:
        """Whether the body can set it."""
        return self.short_by_stops == 0


@dataclass(frozen=True, slots=True)
class PlannedLadder:
    """A run of rungs with everything else held still. ``advice``: sentences for the ladder as a whole."""

    spec: LadderSpec
    rungs: tuple[PlannedRung, ...]
    advice: tuple[str, ...] = field(default=())

    @property
    def shootable(self) -> bool:
        """Whether the body can set every rung."""
        return all(rung.shootable for rung in self.rungs)
