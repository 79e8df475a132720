"""A second conversion gain: the ISO setting from which a body reads its pixels more quietly than the marks before let expect."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing

# Read noise in DN falls by more than this from one rung to the next, or in e⁻ lies this far below what the three
# rungs before let expect; further where only two tell it, as nothing then shows how well they agree.
_FALLS_SHARE, _BELOW_SHARE, _BELOW_TWO_SHARE = 0.03, 0.12, 0.25
_RUNGS_BEFORE, _FEWEST_BEFORE = 3, 2
_SURE_SE = 3.0
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
    """Whether R lies clearly below R² = a + b·g² (a, b ≥ 0) of the three rungs before, or of two where there are no more."""
    if len(before) < _FEWEST_BEFORE:
        return False
    share = _BELOW_SHARE if len(before) == _RUNGS_BEFORE else _BELOW_TWO_SHARE
    if after.noise_e.value is None or after.noise_e.high is None or after.gain.value is None:
        return False
    squares = np.array([rung.gain.value for rung in before], dtype=np.float64) ** 2
    noises = np.array([rung.noise_e.value for rung in before], dtype=np.float64)
    weights = _weights_at(after.gain.value**2, squares, noises**2)
    # What is expected is as uncertain as the rungs it is told from, most where the converter's noise outweighs the rest.
    errors = 2 * noises * np.array([rung.noise_e.se for rung in before])
    expected = float(weights @ noises**2)
    least = expected - _SURE_SE * float(np.hypot.reduce(weights * errors))
    if least <= 0:
        return False
    return after.noise_e.value < (1 - share) * math.sqrt(expected) and after.noise_e.high < math.sqrt(least)


def _weights_at(wanted: float, squares: NDArray[np.float64], noise_squares: NDArray[np.float64]) -> NDArray[np.float64]:
    """By how much each R² counts in what a + b·g² through them is at g² = ``wanted``; a and b never under nothing."""
    centred = squares - squares.mean()
    slopes = centred / float(centred @ centred)
    if float(slopes @ noise_squares) < 0:
        return np.full(squares.size, 1 / squares.size)
    if float((1 / squares.size - slopes * squares.mean()) @ noise_squares) < 0:
        return np.asarray(squares * wanted / float(squares @ squares))
    return np.asarray(1 / squares.size + slopes * (wanted - squares.mean()))
