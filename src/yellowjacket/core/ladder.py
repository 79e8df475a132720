"""Ladder and rung: the one shape that ISO, exposure and time share."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yellowjacket.core import stops


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
        iso = stops.exact_iso(self.iso)
        seconds = stops.exact_exposure_s(self.exposure_s)
        return math.log2(iso * seconds) - stops.aperture_value(stops.exact_f_number(self.f_number))


@dataclass(frozen=True, slots=True)
class PlannedRung:
    """One rung of a plan: printed settings, the exact time the arithmetic asked for, and what to mind.

    ``rounding_stops``: the mark's exact time against the time asked for. ``short_by_stops``: how far the
    body's fastest or slowest shutter misses it; 0 when it can be shot. ``warnings``: sentences.
    """

    settings: Exposure
    wanted_s: float
    rounding_stops: float
    extended: bool
    short_by_stops: float = 0.0
    warnings: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class PlannedLadder:
    """A run of rungs with everything else held still. ``advice``: sentences for the ladder as a whole."""

    kind: str
    method: str
    rungs: tuple[PlannedRung, ...]
    advice: tuple[str, ...] = ()

    @property
    def shootable(self) -> bool:
        """Whether the body can set every rung."""
        return all(rung.short_by_stops == 0 for rung in self.rungs)
