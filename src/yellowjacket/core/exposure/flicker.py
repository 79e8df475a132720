"""Mains flicker: how far a short exposure can be off under a lamp that pulses with the mains.

A lamp on f Hz mains is brightest 2f times a second. With the level L(t) = 1 + m·cos(2π·2f·t) the mean over an
exposure of T seconds lies between 1 ± m·|sinc(2f·T)| depending on when it begins (sinc x = sin πx / πx).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

# Pulses per mains period.
_PULSES = 2
# A multiple of the half-cycle within this share of one counts as a multiple.
_MULTIPLE_SHARE = 0.02


@dataclass(frozen=True, slots=True)
class FlickerError:
    """Range of the exposure error in stops, low (negative) to high, over all moments of release."""

    low_stops: float
    high_stops: float

    @property
    def spread_stops(self) -> float:
        """From the darkest to the brightest."""
        return self.high_stops - self.low_stops


def flicker_error(exposure_s: float, mains_hz: float, modulation: float) -> FlickerError:
    """Exposure error range of an exposure of ``exposure_s`` under light of modulation depth 0 ≤ m < 1.

    Modulation depth: (brightest − darkest)/(brightest + darkest) within a pulse. Raises ValueError for
    values outside their range.
    """
    if not 0 <= modulation < 1:
        raise ValueError(f"modulation depth must lie from 0 up to but not including 1, got {modulation!r}")
    if exposure_s <= 0 or mains_hz <= 0:
        raise ValueError(f"exposure and mains frequency must be positive, got {exposure_s!r} s and {mains_hz!r} Hz")
    cycles = _PULSES * mains_hz * exposure_s
    amplitude = modulation * abs(math.sin(math.pi * cycles) / (math.pi * cycles))
    return FlickerError(math.log2(1 - amplitude), math.log2(1 + amplitude))


def is_whole_pulses(exposure_s: float, mains_hz: float) -> bool:
    """Whether the exposure covers a whole number of light pulses, so that flicker cancels."""
    cycles = _PULSES * mains_hz * exposure_s
    return cycles >= 1 - _MULTIPLE_SHARE and abs(cycles - round(cycles)) <= _MULTIPLE_SHARE * max(1.0, cycles / 10)
