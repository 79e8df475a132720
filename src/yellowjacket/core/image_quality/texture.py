"""Detail that noise lets through: the coherence of two frames of one textured patch, by frequency.

γ(f) = Re S_AB / ½(S_AA + S_BB) is the share of a picture's power at a frequency that both frames have in common:
signal over signal plus noise. Where it stays below one half, noise is stronger than detail. Spectra are summed over
rings of frequency before they are divided (docs/methods.md).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.metrology.robust import without_plane

# Channel pixels along the shorter side of a patch below which rings hold too few frequencies.
LEAST_SIDE_PX = 48
# Rings are this many steps of the spectrum wide; below the first there is only light and shade.
_RING_STEPS = 3
_FIRST_RING = 1
_HALF = 0.5
# Sectors of direction left out one at a time, and the two-sided 95 % point of Student's t for so many.
_GROUPS, _T95 = 12, 2.201
# The crossing is read from the rings this far around it in the logarithm of frequency, at least so many.
_AROUND, _FEWEST_RINGS = 0.6, 4
_BEGIN_SLOPE, _LEAST_SLOPE, _STEEPEST, _LARGEST_STEP, _STEPS = 3.0, 0.5, 40.0, 0.3, 12
# Steps that move nothing any more.
_STANDS_STILL = 1e-9
NYQUIST = 0.5

Field = NDArray[np.float64]


@dataclass(frozen=True, slots=True, eq=False)
class Coherence:
    """γ by ring. ``frequency``: cycles per channel pixel; ``count``: frequencies in the ring."""

    frequency: NDArray[np.float64]
    gamma: NDArray[np.float64]
    count: NDArray[np.float64]


def finest_detail(pairs: Sequence[tuple[Field, Field]], fixed_dn2: Sequence[float]) -> Quantity:
    """The frequency, in cycles per channel pixel, from which on noise outweighs detail; 0.5 with "at least" if never.

    ``pairs``: fields of the two frames of one patch, equal shapes, black taken off; several (both greens, two colour
    differences) are summed. ``fixed_dn2``: for each, the variance of the fixed pattern, which both frames share and
    which is no detail. Interval: jackknife over twelve sectors of direction.
    """
    shortest = min(min(first.shape) for first, _ in pairs)
    if shortest < LEAST_SIDE_PX:
        return missing(Missing.TEXTURE_TOO_NARROW, shortest, LEAST_SIDE_PX)
    sums = _ring_sums(pairs, fixed_dn2)
    n = pairs[0][0].size * len(pairs)
    whole = _crossing(_coherence(sums, None))
    if whole is None:
        top = _coherence(sums, None).frequency[-1]
        return Quantity(NYQUIST, float(top), NYQUIST, n, (Note(Remark.AT_LEAST_A_CHANNEL),))
    parts = [_crossing(_coherence(sums, left_out)) for left_out in range(_GROUPS)]
    # A course that never falls without a sector stands at the end of the scale.
    values = np.array([NYQUIST if part is None else part for part in parts])
    se = math.sqrt((_GROUPS - 1) / _GROUPS * float(np.sum((values - values.mean()) ** 2)))
    low, high = max(0.0, whole - _T95 * se), min(NYQUIST, whole + _T95 * se)
    remarks = (Note(Remark.NO_DETAIL),) if whole == 0.0 else ()
    return Quantity(whole, low, high, n, remarks)


def _ring_sums(pairs: Sequence[tuple[Field, Field]], fixed_dn2: Sequence[float]) -> NDArray[np.float64]:
    """Sums by (ring, sector), shape (rings, sectors, 4): common power, mean power, count of frequencies, frequency."""
    side = min(min(first.shape) for first, _ in pairs)
    rings = int(side * NYQUIST) // _RING_STEPS
    sums = np.zeros((rings, _GROUPS, 4))
    for (first, second), fixed in zip(pairs, fixed_dn2, strict=True):
        window = np.outer(np.hanning(first.shape[0] + 2)[1:-1], np.hanning(first.shape[1] + 2)[1:-1])
        one, other = (np.fft.rfft2(without_plane(field) * window) for field in (first, second))
        common = (one * other.conj()).real - fixed * float(np.sum(window**2))
        power = (np.abs(one) ** 2 + np.abs(other) ** 2) / 2
        down, across = np.fft.fftfreq(first.shape[0]), np.fft.rfftfreq(first.shape[1])
        radius = np.hypot(down[:, None], across[None, :])
        # One sector holds directions 15° apart from one end of the half plane to the other.
        angle = np.arctan2(down[:, None], np.broadcast_to(across, radius.shape))
        sector = np.clip(((angle / math.pi + _HALF) * _GROUPS).astype(int), 0, _GROUPS - 1)
        ring = np.floor(radius * side / _RING_STEPS).astype(int)
        inside = ring < rings
        place = ring[inside] * _GROUPS + sector[inside]
        for n, values in enumerate((common, power, np.ones_like(power), radius)):
            sums[..., n] += np.bincount(place, values[inside], rings * _GROUPS).reshape(rings, _GROUPS)
    return sums


def _coherence(sums: NDArray[np.float64], left_out: int | None) -> Coherence:
    kept = sums.sum(axis=1) if left_out is None else sums.sum(axis=1) - sums[:, left_out]
    kept = kept[_FIRST_RING:]
    frequency = kept[:, 3] / np.maximum(kept[:, 2], 1.0)
    return Coherence(frequency, kept[:, 0] / np.maximum(kept[:, 1], 1e-300), kept[:, 2])


def _crossing(found: Coherence) -> float | None:
    """Where γ falls below one half to stay there; 0 when it is never above, None when it never stays below.

    Begun with the falling course nearest to the rings, which a single one that scatters cannot move far; then a
    logistic course in the logarithm of frequency is fitted around it: signal over noise is a power of frequency there.
    """
    falling = _falling(found.gamma, found.count)
    if falling[0] < _HALF:
        return 0.0
    if falling[-1] >= _HALF:
        return None
    last = int(np.flatnonzero(falling >= _HALF)[-1])
    share = (falling[last] - _HALF) / (falling[last] - falling[last + 1])
    begin = float(found.frequency[last] + share * (found.frequency[last + 1] - found.frequency[last]))
    return _logistic_middle(found, begin)


def _falling(values: NDArray[np.float64], weights: NDArray[np.float64]) -> NDArray[np.float64]:
    """The falling sequence nearest to values by weighted least squares (pool adjacent violators)."""
    blocks: list[list[float]] = []
    for value, weight in zip(values, weights, strict=True):
        blocks.append([float(value), float(weight), 1])
        while len(blocks) > 1 and blocks[-2][0] < blocks[-1][0]:
            value_2, weight_2, length_2 = blocks.pop()
            value_1, weight_1, length_1 = blocks.pop()
            total = weight_1 + weight_2
            blocks.append([(value_1 * weight_1 + value_2 * weight_2) / total, total, length_1 + length_2])
    return np.concatenate([np.full(int(length), value) for value, _, length in blocks])


def _logistic_middle(found: Coherence, begin: float) -> float:
    """Middle of the logistic course through the rings around ``begin``, by weighted Gauss-Newton steps."""
    log_f = np.log(found.frequency)
    near = np.abs(log_f - math.log(begin)) < _AROUND
    if near.sum() < _FEWEST_RINGS:
        return begin
    x, gamma, weight = log_f[near], found.gamma[near], found.count[near]
    middle, slope = math.log(begin), _BEGIN_SLOPE
    for _ in range(_STEPS):
        course = 1 / (1 + np.exp(slope * (x - middle)))
        bend = course * (1 - course)
        design = np.stack([slope * bend, -(x - middle) * bend], axis=1) * np.sqrt(weight)[:, None]
        step = np.linalg.lstsq(design, (gamma - course) * np.sqrt(weight), rcond=None)[0]
        middle += float(np.clip(step[0], -_LARGEST_STEP, _LARGEST_STEP))
        slope = float(np.clip(slope + step[1], _LEAST_SLOPE, _STEEPEST))
        if np.abs(step).max() < _STANDS_STILL:
            break
    inside = min(max(middle, float(x[0])), float(x[-1]))
    return float(math.exp(inside))
