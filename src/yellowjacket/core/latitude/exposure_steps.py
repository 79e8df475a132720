"""True exposure steps and black error of an exposure ladder: one joint fit to all unclipped patch means.

DN = b_c + 2^(s_n)·E_pc with s = 0 at the reference rung: the light of patch p in channel c, the true step of rung n, and
the level each channel really starts from. A black that is not what the file says is what casts under push come from.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing, Note, Remark

Array = NDArray[np.float64]

# Patches are left out in so many groups, one at a time; Student's t for so many (two-sided 95 %).
GROUPS = 12
_T95 = {4: 3.182, 5: 2.776, 6: 2.571, 7: 2.447, 8: 2.365, 9: 2.306, 10: 2.262, 11: 2.228, 12: 2.201}
_FEWEST_PATCHES = 4
_ROUNDS, _SETTLED = 25, 1e-9
_LARGEST_STEP = 0.5
# Means are never known better than this, DN: rounding and what drifts in the converter.
_FLOOR_DN = 0.01
# A patch this many standard errors over black tells a first guess of a step.
_CLEAR_SE = 20.0


@dataclass(frozen=True, slots=True)
class RungLevels:
    """Patch means of a rung: ``levels`` by patch and channel in DN, black included, with their errors; unknown where a
    patch clips. ``nominal_stops``: what the settings say, 0 at the reference."""

    key: int
    nominal_stops: float
    levels: Mapping[str, Mapping[str, Quantity]]


@dataclass(frozen=True, slots=True)
class StepFit:
    """``steps``: measured stops by rung key. ``black_dn``: fitted black by channel. ``linearity``: by rung key, largest
    departure of a bright patch from the line, as a share. ``patches``: how many took part."""

    steps: Mapping[int, Quantity]
    black_dn: Mapping[str, Quantity]
    linearity: Mapping[int, Quantity]
    patches: int


def fit_steps(rungs: Sequence[RungLevels], reference: int, black_dn: Mapping[str, float]) -> StepFit:
    """Fit the ladder. ``black_dn``: by channel, where the fit begins (what the file says).

    Intervals by jackknife over groups of patches: the covariance misses what is common to a patch. Too little to fit
    gives quantities with a reason. Raises KeyError when the reference is not among the rungs.
    """
    place = {rung.key: n for n, rung in enumerate(rungs)}[reference]
    channels = tuple(black_dn)
    names = [name for name in rungs[place].levels if any(q.known for q in rungs[place].levels[name].values())]
    if len(names) < _FEWEST_PATCHES or len(rungs) < 2:
        few = Note(Missing.FEW_PATCHES_ON_CORRECT, (len(names), _FEWEST_PATCHES))
        return _nothing(rungs, channels, few if len(rungs) > 1 else Note(Missing.ONE_RUNG))
    means, weights = _gathered(rungs, names, channels)
    begin = np.array([black_dn[channel] for channel in channels])
    first = _first_guess(means, weights, begin, place, [rung.nominal_stops for rung in rungs])
    steps, black = _solved(means, weights, place, first, begin)
    seen = [bool(part.any()) for part in weights]
    count = min(GROUPS, len(names))
    parts = []
    for group in range(count):
        kept = weights.copy()
        kept[:, group::count] = 0.0
        parts.append(np.concatenate(_solved(means, kept, place, steps, black)))
    spread = np.array(parts)
    se = np.sqrt((count - 1) / count * np.sum((spread - spread.mean(axis=0)) ** 2, axis=0))
    n = int((weights > 0).sum())
    found: dict[int, Quantity] = {}
    for k, rung in enumerate(rungs):
        if k == place:
            found[rung.key] = Quantity(0.0, 0.0, 0.0, n, (Note(Remark.REFERENCE_RUNG),))
        elif seen[k]:
            found[rung.key] = _within(steps[k], se[k], count, n)
        else:
            found[rung.key] = missing(Missing.NO_USABLE_PATCH)
    blacks = {c: _within(black[k], se[len(rungs) + k], count, n) for k, c in enumerate(channels)}
    return StepFit(found, blacks, _linearity(rungs, means, weights, steps, black), len(names))


def _within(value: float, se: float, count: int, n: int) -> Quantity:
    if not (math.isfinite(value) and math.isfinite(se)):
        return missing(Missing.FIT_NOT_FINITE)
    half = _T95[count] * se
    return Quantity(float(value), float(value - half), float(value + half), n)


def _nothing(rungs: Sequence[RungLevels], channels: Sequence[str], reason: Note) -> StepFit:
    nothing = Quantity(None, notes=(reason,))
    every = {rung.key: nothing for rung in rungs}
    return StepFit(every, dict.fromkeys(channels, nothing), dict(every), 0)


def _gathered(rungs: Sequence[RungLevels], names: Sequence[str], channels: Sequence[str]) -> tuple[Array, Array]:
    """Means and weights, shape (rungs, patches, channels); weight 0 where nothing is known."""
    means = np.zeros((len(rungs), len(names), len(channels)))
    weights = np.zeros_like(means)
    for n, rung in enumerate(rungs):
        for p, name in enumerate(names):
            for c, channel in enumerate(channels):
                quantity = rung.levels.get(name, {}).get(channel)
                if quantity is not None and quantity.value is not None:
                    means[n, p, c] = quantity.value
                    weights[n, p, c] = 1 / (quantity.se**2 + _FLOOR_DN**2)
    return means, weights


def _first_guess(means: Array, weights: Array, black: Array, place: int, nominal: Sequence[float]) -> Array:
    """Steps from the ratios of bright patches, as the settings say where there are none."""
    above = means - black
    clear = (weights > 0) & (above * np.sqrt(weights) > _CLEAR_SE)
    steps = []
    for n, said in enumerate(nominal):
        both = clear[n] & clear[place]
        ratios = np.log2(above[n][both] / above[place][both]) if both.any() else np.array([said - nominal[place]])
        steps.append(float(np.median(ratios)))
    return np.array(steps)


def _solved(means: Array, weights: Array, place: int, steps: Array, black: Array) -> tuple[Array, Array]:
    """Gauss-Newton over steps and blacks, the light of every patch taken out at each round."""
    steps, black = steps.copy(), black.copy()
    rungs, channels = means.shape[0], means.shape[2]
    free = [n for n in range(rungs) if n != place and weights[n].any()]
    for _ in range(_ROUNDS):
        x = 2.0**steps
        norm = np.maximum(np.einsum("npc,n->pc", weights, x * x), 1e-300)
        light = np.einsum("npc,n,npc->pc", weights, x, means - black) / norm
        left = means - black - x[:, None, None] * light
        slope = math.log(2) * x[:, None, None] * light
        # What a step or a black explains beyond the light of its patch.
        pull = weights * x[:, None, None] * slope
        total = np.einsum("npc,n->pc", weights, x)
        curvature = np.zeros((rungs + channels, rungs + channels))
        curvature[:rungs, :rungs] = np.diag(np.einsum("npc,npc->n", weights, slope * slope))
        curvature[:rungs, :rungs] -= np.einsum("kpc,lpc->kl", pull, pull / norm)
        mixed = np.einsum("npc,npc->nc", weights, slope) - np.einsum("npc,pc->nc", pull, total / norm)
        curvature[:rungs, rungs:], curvature[rungs:, :rungs] = mixed, mixed.T
        own = np.einsum("npc->c", weights) - np.einsum("pc,pc->c", total, total / norm)
        curvature[rungs:, rungs:] = np.diag(own)
        gradient = np.concatenate(
            [np.einsum("npc,npc,npc->n", weights, left, slope), np.einsum("npc,npc->c", weights, left)]
        )
        kept = [*free, *range(rungs, rungs + channels)]
        step = np.linalg.lstsq(curvature[np.ix_(kept, kept)], gradient[kept], rcond=1e-12)[0]
        change = np.clip(step[: len(free)], -_LARGEST_STEP, _LARGEST_STEP)
        steps[free] += change
        black += step[len(free) :]
        if np.abs(change).max(initial=0.0) < _SETTLED:
            break
    return steps, black


def _linearity(
    rungs: Sequence[RungLevels], means: Array, weights: Array, steps: Array, black: Array
) -> dict[int, Quantity]:
    """How far bright patches of a rung lie from the common line, root mean square as a share of their light."""
    x = 2.0**steps
    norm = np.maximum(np.einsum("npc,n->pc", weights, x * x), 1e-300)
    light = np.einsum("npc,n,npc->pc", weights, x, means - black) / norm
    expected = x[:, None, None] * light
    found = {}
    for n, rung in enumerate(rungs):
        bright = (weights[n] > 0) & (expected[n] * np.sqrt(weights[n]) > 5 * _CLEAR_SE)
        if not bright.any():
            found[rung.key] = missing(Missing.NO_BRIGHT_PATCH)
            continue
        shares = (means[n] - black - expected[n])[bright] / expected[n][bright]
        value = float(np.sqrt(np.mean(shares**2)))
        found[rung.key] = Quantity(value, 0.0, float(np.abs(shares).max()), int(bright.sum()))
    return found
