"""A second conversion gain: the ISO setting from which a body reads its pixels more quietly than the marks before let expect."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing

# Read noise in DN falls by more than this from one rung to the next, or in e⁻ lies this far below what the three
# rungs before let expect.
_FALLS_SHARE, _BELOW_SHARE = 0.03, 0.12
_RUNGS_BEFORE = 3
# Gain per ISO may wander by this share and still follow the dial.
_FOLLOWS_SHARE = 0.1


@dataclass(frozen=True, slots=True)
class NoiseAt:
    """Gain in e⁻/DN and read noise in DN and in e⁻ at an ISO setting."""

    iso: int
    gain: Quantity
    noise_dn: Quantity
    noise_e: Quantity

    @property
    def known(self) -> bool:
        """Whether all three were measured."""
        return self.gain.known and self.noise_dn.known and self.noise_e.known


def second_base_of(rungs: Sequence[NoiseAt]) -> Quantity:
    """The ISO from which a second base is in force, or the reason why none is seen.

    ``rungs``: from low to high ISO, without smoothed and digital ones.
    """
    usable = [rung for rung in rungs if rung.known]
    if len(usable) < 2:
        return missing(Missing.FEW_HONEST_SETTINGS)
    for n in range(1, len(usable)):
        before, after = usable[n - 1], usable[n]
        if _follows(before, after) and (
            _falls(before, after) or _lies_below(usable[max(0, n - _RUNGS_BEFORE) : n], after)
        ):
            iso = float(after.iso)
            return Quantity(iso, iso, iso, len(usable))
    return missing(Missing.NO_SECOND_BASE)


def _follows(before: NoiseAt, after: NoiseAt) -> bool:
    gains = [rung.gain.value or math.nan for rung in (before, after)]
    return abs(gains[1] / gains[0] * after.iso / before.iso - 1) < _FOLLOWS_SHARE


def _falls(before: NoiseAt, after: NoiseAt) -> bool:
    first, second = before.noise_dn, after.noise_dn
    if first.value is None or second.value is None or second.high is None or first.low is None:
        return False
    return second.value < (1 - _FALLS_SHARE) * first.value and second.high < first.low


def _lies_below(before: Sequence[NoiseAt], after: NoiseAt) -> bool:
    """Whether R lies clearly below R² = a + b·g² (a, b ≥ 0) of the three rungs before."""
    if len(before) < _RUNGS_BEFORE:
        return False
    gains = np.array([rung.gain.value for rung in before], dtype=np.float64)
    noises = np.array([rung.noise_e.value for rung in before], dtype=np.float64)
    if after.noise_e.value is None or after.noise_e.high is None or after.gain.value is None:
        return False
    slope, intercept = np.polyfit(gains**2, noises**2, 1)
    if slope < 0:
        slope, intercept = 0.0, float(np.mean(noises**2))
    elif intercept < 0:
        slope, intercept = float(np.sum(gains**2 * noises**2) / np.sum(gains**4)), 0.0
    expected = math.sqrt(max(float(intercept + slope * after.gain.value**2), 0.0))
    return after.noise_e.value < (1 - _BELOW_SHARE) * expected and after.noise_e.high < expected
