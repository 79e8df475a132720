"""A second conversion gain: the ISO setting from which a body reads its pixels more quietly than the marks before let expect."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing

# A drop of read noise counts from this share on, further where as many rungs as unknowns leave nothing to check it by; it
# must be this many standard errors, of readings that are no surer than so.
_DROPS_SHARE, _DROPS_UNCHECKED_SHARE, _SURE_SE, _NO_SURER_SHARE = 0.1, 0.25, 4.0, 0.002
# Noise before the gain in either mode, and after it.
_UNKNOWNS = 3
# Of two rungs alone: read noise in DN falls by more than this.
_FALLS_SHARE = 0.03
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

    R² = a + b·g² in e⁻: noise before the gain, which a second base lowers from a rung on, and that of the converter, which stays
    the same in DN. Every rung is tried as the first that has it; nothing is ever fitted across the drop. ``rungs``: from low to
    high ISO, without smoothed and digital ones.
    """
    usable = [rung for rung in rungs if rung.known]
    if len(usable) < 2:
        return missing(Missing.FEW_HONEST_SETTINGS)
    tried = [n for n in range(1, len(usable)) if _follows(usable[n - 1], usable[n])]
    if len(usable) < _UNKNOWNS:
        told = [n for n in tried if _falls(usable[n - 1], usable[n])]
    else:
        drops = [(drop, n) for n in tried if (drop := _drop_at(usable, n)) is not None]
        told = [min(drops)[1]] if drops else []
    if not told:
        return missing(Missing.NO_SECOND_BASE)
    iso = float(usable[told[0]].iso)
    return Quantity(iso, iso, iso, len(usable))


def _drop_at(rungs: Sequence[NoiseAt], first: int) -> float | None:
    """How badly the rungs fit with ``first`` as the first of a second base (χ²); None where noise does not clearly drop there."""
    squares = np.array([rung.gain.value for rung in rungs], dtype=np.float64) ** 2
    noises = np.array([rung.noise_e.value for rung in rungs], dtype=np.float64)
    errors = np.hypot([rung.noise_e.se for rung in rungs], _NO_SURER_SHARE * noises)
    weights = 1 / (2 * noises * errors)
    before = np.arange(noises.size) < first
    columns = np.stack([before, ~before, squares], axis=1).astype(np.float64)
    # Neither noise is under nothing: one that comes out so is none.
    kept = [0, 1, 2]
    while True:
        design = columns[:, kept] * weights[:, None]
        found, *_ = np.linalg.lstsq(design, noises**2 * weights, rcond=None)
        if found.min() >= 0 or len(kept) == 1:
            break
        kept.pop(int(found.argmin()))
    parts = dict(zip(kept, found, strict=True))
    gone = parts.get(0, 0.0) - parts.get(1, 0.0)
    # A noise that came out as none is no better known than one that did not.
    every = columns * weights[:, None]
    apart = np.array([1.0, -1.0, 0.0])
    spread = math.sqrt(float(apart @ np.linalg.pinv(every.T @ every) @ apart))
    expected = parts.get(0, 0.0) + parts.get(2, 0.0) * squares[first]
    share = _DROPS_SHARE if noises.size > _UNKNOWNS else _DROPS_UNCHECKED_SHARE
    if gone <= _SURE_SE * spread or expected <= 0:
        return None
    if math.sqrt(max(0.0, expected - gone) / expected) > 1 - share:
        return None
    return float(np.sum((design @ found - noises**2 * weights) ** 2))


def _follows(before: NoiseAt, after: NoiseAt) -> bool:
    gains = [rung.gain.value or math.nan for rung in (before, after)]
    return abs(gains[1] / gains[0] * after.iso / before.iso - 1) < _FOLLOWS_SHARE


def _falls(before: NoiseAt, after: NoiseAt) -> bool:
    first, second = before.noise_dn, after.noise_dn
    if first.value is None or second.value is None or second.high is None or first.low is None:
        return False
    return second.value < (1 - _FALLS_SHARE) * first.value and second.high < first.low
