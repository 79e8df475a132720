"""Blind rounds: which trials are shown in which order, and the personal threshold that the answers tell.

Acceptance is fitted against log2 of the noise at the use's size with a logistic curve, a lapse of 2 % either way (a slip
of the finger is no change of mind) and a weak prior on its width; the threshold has a posterior interval on a grid.
A plain likelihood has no maximum where grades separate cleanly.
"""

from __future__ import annotations

import math
import random
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Z95, Quantity, missing
from yellowjacket.core.metrology.notes import Missing

# Fewer answers say too little.
FEWEST_TRIALS = 20
# Of all trials, so many compare a picture with itself.
CATCH_SHARE = 0.1
_LAPSE = 0.02
# Width of the logistic in stops: median and factor of one σ of its log-normal prior.
_WIDTH_STOPS, _WIDTH_FACTOR = 0.4, 2.2
_GRID, _WIDTHS = 401, 61
# By how many times more trials it takes than in the middle of a curve of the usual width: a limit, most rounds end before it.
_OFF_THE_MIDDLE = 3.0
# What is shown next need not be known as finely; one in so many is chosen blindly.
_COARSE, _COARSE_WIDTHS, _ANY_SHARE = 121, 13, 0.1
# The threshold may lie so far (stops) outside what was shown.
_BEYOND_STOPS = 2.0


@dataclass(frozen=True, slots=True)
class Trial:
    """What is shown: the stimulus by its index. ``repeat``: it was shown before; ``catch``: asked with an identical picture
    beside it."""

    stimulus: int
    repeat: bool = False
    catch: bool = False


def planned_trials(wanted_stops: float) -> int:
    """How many trials at most narrow the threshold to ± ``wanted_stops`` of noise (95 %), each shown where it tells most.

    Raises ValueError for what cannot be.
    """
    if wanted_stops <= 0:
        raise ValueError("a round needs a precision above nothing")
    # Information of a logistic at its middle is 1/(4 w²) a trial; what is shown lies about the middle, not on it.
    needed = (Z95 / wanted_stops) ** 2 * 4 * _WIDTH_STOPS**2 * _OFF_THE_MIDDLE
    return max(FEWEST_TRIALS, math.ceil(needed))


def order_of(stimuli: int, trials: int, seed: int, catch_share: float = CATCH_SHARE) -> list[Trial]:
    """Trials in random order: every stimulus about equally often, none twice in a row where that can be, some of them
    catches in which two identical pictures are compared. The same seed gives the same order.

    Raises ValueError without a stimulus or a trial.
    """
    if stimuli < 1 or trials < 1:
        raise ValueError("a round needs a stimulus and a trial")
    chance = random.Random(seed)  # noqa: S311 - an order, no secret
    bag: list[int] = []
    while len(bag) < trials:
        block = list(range(stimuli))
        chance.shuffle(block)
        if bag and stimuli > 1 and block[0] == bag[-1]:
            block[0], block[1] = block[1], block[0]
        bag += block
    # One in each stretch: a round that ends early has had its share.
    stretches = round(trials * catch_share)
    catches = {chance.randrange(n * trials // stretches, (n + 1) * trials // stretches) for n in range(stretches)}
    seen: set[int] = set()
    found = []
    for n, stimulus in enumerate(bag[:trials]):
        found.append(Trial(stimulus, stimulus in seen, n in catches))
        seen.add(stimulus)
    return found


@dataclass(frozen=True, slots=True)
class Threshold:
    """What a person accepts: ``noise_log2`` at the 50 % point with its 95 % interval, the width in stops, and how many
    answers it rests on; ``consistency``: share of repeats that were answered as before."""

    noise_log2: Quantity
    width_stops: Quantity
    consistency: Quantity


def fitted(noise_log2: Sequence[float], accepted: Sequence[bool], stimuli: Sequence[int] | None = None) -> Threshold:
    """Posterior of the threshold. ``noise_log2``: log2 of the noise at the use's size, by trial; ``stimuli``: which
    picture each trial showed, for consistency. Raises ValueError for lists of several lengths.

    Too few answers, or acceptance that never changes, give quantities with a reason.
    """
    if len(noise_log2) != len(accepted):
        raise ValueError("every trial has a noise and an answer")
    steady = _consistency(stimuli or [round(1000 * one) for one in noise_log2], accepted)
    count = len(accepted)
    if count < FEWEST_TRIALS:
        nothing = missing(Missing.FEW_GRADES, count, FEWEST_TRIALS)
        return Threshold(nothing, nothing, steady)
    if len(set(accepted)) < 2:
        word = "everything" if accepted[0] else "nothing"
        nothing = missing(Missing.LINE_OUTSIDE, word)
        return Threshold(nothing, nothing, steady)
    middles, widths, weights = _posterior(noise_log2, accepted, noise_log2, _GRID, _WIDTHS)
    return Threshold(
        _summary(middles, weights.sum(axis=1), count), _summary(widths, weights.sum(axis=0), count), steady
    )


def _posterior(
    noise_log2: Sequence[float], accepted: Sequence[bool], span: Sequence[float], places: int, breadths: int
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Thresholds and widths of a grid, shapes (places,) and (breadths,), and how likely each pair of them is, (places, breadths).
    ``span``: levels among which the threshold is looked for, and a little beyond."""
    low, high = min(span) - _BEYOND_STOPS, max(span) + _BEYOND_STOPS
    middles, sigmas, widths = _axes(low, high, places, breadths)
    log_post = np.broadcast_to(-0.5 * sigmas[None, :] ** 2, (places, breadths)).copy()
    levels, counts = np.unique(np.array([noise_log2, accepted], np.float64), axis=1, return_counts=True)
    for (level, answer), count in zip(levels.T, counts, strict=True):
        log_post += count * _log_chances(float(level), low, high, places, breadths)[0 if answer else 1]
    weights = np.exp(log_post - log_post.max())
    return middles, widths, weights / weights.sum()


def _axes(
    low: float, high: float, places: int, breadths: int
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Thresholds, σ of the prior of the width, and widths of a grid, shapes (places,), (breadths,) and (breadths,)."""
    sigmas = np.linspace(-3, 3, breadths)
    return np.linspace(low, high, places), sigmas, _WIDTH_STOPS * _WIDTH_FACTOR**sigmas


# A round shows the same few levels again and again, and looks at all answers after each.
@lru_cache(maxsize=48)
def _log_chances(
    level: float, low: float, high: float, places: int, breadths: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Logarithms of the chances that a level is accepted and that it is not, each of shape (places, breadths)."""
    middles, _, widths = _axes(low, high, places, breadths)
    chance = _chance(level, middles[:, None], widths[None, :])
    return np.log(chance), np.log(1 - chance)


def next_stimulus(
    levels: Sequence[float], shown: Sequence[int], accepted: Sequence[bool], chance: random.Random
) -> int:
    """The stimulus that tells most of the threshold, given all answers so far: the least variance that is expected after the
    answer (Kontsevich and Tyler 1999; from memory). One in so many is any at all, so that nobody can tell what comes.

    ``levels``: log2 of the noise by stimulus; ``shown``, ``accepted``: the trials so far. Never the one just shown where there is
    another. Raises ValueError without a stimulus.
    """
    if not levels:
        raise ValueError("a round needs a stimulus")
    open_to = [n for n in range(len(levels)) if not shown or n != shown[-1] or len(levels) == 1]
    if chance.random() < _ANY_SHARE:
        return chance.choice(open_to)
    middles, _, weights = _posterior([levels[n] for n in shown], accepted, levels, _COARSE, _COARSE_WIDTHS)
    several = tuple(sorted(set(levels)))
    expected = dict(zip(several, _expected_variances(several, middles, weights), strict=True))
    return min(open_to, key=lambda n: (expected[levels[n]], chance.random()))


def _expected_variances(
    levels: tuple[float, ...], middles: NDArray[np.float64], weights: NDArray[np.float64]
) -> list[float]:
    """Of the threshold after an answer to each level, shape (levels,)."""
    low, high = float(middles[0]), float(middles[-1])
    yes = np.einsum("lmw,mw->lm", _chances_of(levels, low, high, *weights.shape), weights)
    total = np.zeros(len(levels))
    for after in (yes, weights.sum(axis=1) - yes):
        share = after.sum(axis=1)
        # About the middle of the grid, so that the difference of two large numbers is none.
        apart = middles - (low + high) / 2
        total += after @ apart**2 - (after @ apart) ** 2 / share
    return [float(one) for one in total]


# A round asks for the same levels after every answer.
@lru_cache(maxsize=8)
def _chances_of(levels: tuple[float, ...], low: float, high: float, places: int, breadths: int) -> NDArray[np.float64]:
    """Chances that levels are accepted, shape (levels, places, breadths)."""
    middles, _, widths = _axes(low, high, places, breadths)
    return _chance(np.array(levels)[:, None, None], middles[:, None], widths[None, :])


def _chance(
    level: float | NDArray[np.float64], middle: NDArray[np.float64], width: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Chance of acceptance: falls with noise, never nearer than the lapse to 0 and 1."""
    z = np.clip((level - middle) / width, -60, 60)
    return np.asarray(_LAPSE + (1 - 2 * _LAPSE) / (1 + np.exp(z)))


def _summary(values: NDArray[np.float64], weights: NDArray[np.float64], count: int) -> Quantity:
    """Posterior median with its central 95 %, interpolated on the grid."""
    cumulative = np.cumsum(weights) - weights / 2
    low, middle, high = np.interp((0.025, 0.5, 0.975), cumulative, values)
    return Quantity(float(middle), float(low), float(high), count)


def _consistency(stimuli: Sequence[int], accepted: Sequence[bool]) -> Quantity:
    """Share of answers to a picture seen before that equal the first one, with its exact binomial interval."""
    first: dict[int, bool] = {}
    same: list[bool] = []
    for stimulus, answer in zip(stimuli, accepted, strict=True):
        if stimulus in first:
            same.append(first[stimulus] == answer)
        else:
            first[stimulus] = answer
    if not same:
        return missing(Missing.NO_REPEATS)
    # Imported at first use, here and below: a start does without it.
    from scipy.stats import binomtest

    interval = binomtest(sum(same), len(same)).proportion_ci(0.95)
    return Quantity(sum(same) / len(same), float(interval.low), float(interval.high), len(same))


def told_apart(correct: int, trials: int) -> tuple[Quantity, float]:
    """Two-alternative rounds: share of right answers with its exact interval, and the chance of so many or more by
    guessing. Raises ValueError without trials."""
    if not 0 <= correct <= trials or trials < 1:
        raise ValueError("right answers are part of the trials, and there is one trial at least")
    from scipy.stats import binomtest

    found = binomtest(correct, trials, 0.5, alternative="greater")
    interval = binomtest(correct, trials).proportion_ci(0.95)
    share = Quantity(correct / trials, float(interval.low), float(interval.high), trials)
    return share, float(found.pvalue)


def kappa(one: Sequence[int], other: Sequence[int], grades: int = 5, *, weighted: bool = True) -> Quantity:
    """Cohen's kappa of two people's grades 1…``grades``, weighted by squared distance, with a bootstrap-free large-sample
    interval (Fleiss, Cohen and Everitt; from memory). Raises ValueError for lists of several lengths.

    Unknown with a reason for fewer than two common grades, or where both said the same one throughout.
    """
    if len(one) != len(other):
        raise ValueError("both must have graded the same pictures")
    count = len(one)
    if count < 2:
        return missing(Missing.FEW_COMMON_GRADES)
    table = np.zeros((grades, grades))
    for a, b in zip(one, other, strict=True):
        table[a - 1, b - 1] += 1
    share = table / count
    rows, columns = share.sum(axis=1), share.sum(axis=0)
    index = np.arange(grades)
    apart = (index[:, None] - index[None, :]) ** 2 / max(grades - 1, 1) ** 2
    agree = 1 - apart if weighted else np.eye(grades)
    seen, expected = float((agree * share).sum()), float((agree * np.outer(rows, columns)).sum())
    if math.isclose(expected, 1.0):
        return missing(Missing.ONE_GRADE_THROUGHOUT)
    value = (seen - expected) / (1 - expected)
    mean_rows, mean_columns = agree @ columns, agree.T @ rows
    spread = share * (agree - (mean_rows[:, None] + mean_columns[None, :]) * (1 - value)) ** 2
    variance = (float(spread.sum()) - (value - expected * (1 - value)) ** 2) / (count * (1 - expected) ** 2)
    half = Z95 * math.sqrt(max(variance, 0.0))
    return Quantity(value, max(-1.0, value - half), min(1.0, value + half), count)
