"""Blind rounds: order, threshold of a simulated grader, agreement, guessing."""

import random
from itertools import pairwise

import numpy as np
import pytest

from yellowjacket.core.judging import psychometrics
from yellowjacket.core.judging.psychometrics import (
    FEWEST_TRIALS,
    fitted,
    kappa,
    next_stimulus,
    order_of,
    planned_trials,
    told_apart,
)


def grader(rng, levels, threshold, width=0.4, lapse=0.02):
    """Answers of somebody whose line is known."""
    chance = lapse + (1 - 2 * lapse) / (1 + np.exp((np.asarray(levels) - threshold) / width))
    return (rng.random(len(levels)) < chance).tolist()


def test_every_stimulus_comes_up_about_equally_often_and_never_twice_running():
    trials = order_of(7, 50, seed=3)
    counts = np.bincount([one.stimulus for one in trials])
    assert counts.max() - counts.min() <= 1
    assert all(a.stimulus != b.stimulus for a, b in pairwise(trials))
    assert sum(one.catch for one in trials) == 5
    assert [one.repeat for one in trials[:7]] == [False] * 7
    assert all(one.repeat for one in trials[7:])
    assert trials == order_of(7, 50, seed=3) != order_of(7, 50, seed=4)
    with pytest.raises(ValueError, match="a stimulus and a trial"):
        order_of(0, 5, 1)


@pytest.mark.parametrize("seed", range(6))
def test_the_next_picture_is_the_one_whose_answer_leaves_least_variance(rng, seed):
    """Worked out answer by answer, as a sum over every threshold and width."""
    levels = sorted(rng.uniform(0, 6, 7).tolist())
    shown = rng.integers(0, 7, 12).tolist()
    accepted = grader(rng, [levels[n] for n in shown], 3.0)
    before = ([levels[n] for n in shown], accepted, levels, psychometrics._COARSE, psychometrics._COARSE_WIDTHS)
    middles, widths, weights = psychometrics._posterior(*before)
    expected = []
    for level in levels:
        left = 0.0
        for answer in (True, False):
            after = np.zeros(len(middles))
            for n, width in enumerate(widths):
                yes = psychometrics._chance(level, middles, width)
                after += weights[:, n] * (yes if answer else 1 - yes)
            mean = (after * middles).sum() / after.sum()
            left += (after * (middles - mean) ** 2).sum()
        expected.append(left if level != levels[shown[-1]] else np.inf)
    chance = random.Random(next(n for n in range(seed, 99) if random.Random(n).random() > psychometrics._ANY_SHARE))
    assert next_stimulus(levels, shown, accepted, chance) == int(np.argmin(expected))


def adaptive(rng, levels, threshold, width, answers, seed):
    """A round in which every picture follows from the answers before it."""
    chance, shown, accepted = random.Random(seed), [], []
    for _ in range(answers):
        shown.append(next_stimulus(levels, shown, accepted, chance))
        accepted += grader(rng, [levels[shown[-1]]], threshold, width)
    return shown, accepted


def test_more_precision_asks_for_more_trials():
    assert planned_trials(1.0) >= FEWEST_TRIALS
    assert planned_trials(0.2) > planned_trials(0.3) > planned_trials(1.0)
    with pytest.raises(ValueError, match="precision"):
        planned_trials(0.0)


def test_the_planned_trials_reach_the_precision():
    rng, levels = np.random.default_rng(4), [n - 4.0 for n in range(9)]
    halves = []
    for seed in range(12):
        shown, accepted = adaptive(rng, levels, 0.3, 0.5, planned_trials(0.3), seed)
        found = fitted([levels[n] for n in shown], accepted).noise_log2
        halves.append((found.high - found.low) / 2)
    assert np.median(halves) == pytest.approx(0.3, rel=0.35)


@pytest.mark.parametrize("rungs", [7, 12, 20])
def test_sixty_answers_tell_the_line_to_a_third_of_a_stop(rungs):
    """Simulated graders whose line is known, on ladders of so many rungs over up to twelve stops, noise growing by 0.6 stops a
    stop of ISO: three in four within a third of a stop of ISO, and as many intervals hold as they say."""
    rng, grows = np.random.default_rng(rungs), 0.6
    isos = np.linspace(0, min(rungs - 1, 12), rungs)
    levels, near, held, graders = (grows * isos).tolist(), 0, 0, 60
    for seed in range(graders):
        truth = grows * rng.uniform(0.15, 0.85) * isos[-1]
        shown, accepted = adaptive(rng, levels, truth, grows * rng.choice([0.25, 0.5, 0.8]), 60, seed)
        found = fitted([levels[n] for n in shown], accepted).noise_log2
        near += abs(found.value - truth) / grows < 1 / 3
        held += found.low <= truth <= found.high
    assert near / graders >= 0.75
    assert 0.88 <= held / graders <= 1.0


def test_what_comes_next_is_near_the_line_seldom_twice_and_never_certain():
    rng, levels = np.random.default_rng(9), [0.5 * n for n in range(13)]
    shown, _ = adaptive(rng, levels, 3.0, 0.3, 60, 1)
    late = np.array([levels[n] for n in shown[20:]])
    assert np.mean(np.abs(late - 3.0) <= 1.0) > 0.75
    assert all(a != b for a, b in pairwise(shown))
    assert len(set(late)) > 4
    with pytest.raises(ValueError, match="needs a stimulus"):
        next_stimulus([], [], [], random.Random(1))


def test_a_known_threshold_lies_in_the_interval_as_often_as_said():
    rng, held, errors = np.random.default_rng(6), [], []
    for seed in range(300):
        truth = rng.uniform(-1.5, 1.5)
        levels = [one.stimulus - 4.0 for one in order_of(9, 45, seed)]
        found = fitted(levels, grader(rng, levels, truth, width=rng.choice([0.25, 0.5, 0.8]))).noise_log2
        held.append(found.low <= truth <= found.high)
        errors.append(found.value - truth)
    assert 0.92 <= np.mean(held) <= 0.98
    assert abs(np.mean(errors)) < 0.05


def test_grades_that_separate_cleanly_have_an_answer_all_the_same():
    levels = [n % 8 - 4.0 for n in range(32)]
    found = fitted(levels, [level < 0.5 for level in levels])
    # Between the last that was accepted and the first that was not, give or take the prior's width.
    assert -0.2 < found.noise_log2.low < found.noise_log2.value < found.noise_log2.high < 1.2
    assert found.noise_log2.value == pytest.approx(0.5, abs=0.15)
    assert found.consistency.value == 1.0


@pytest.mark.parametrize(
    ("answers", "words"),
    [
        ([True, False] * 9, "18 of at least 20"),
        ([True] * 30, "everything was accepted"),
        ([False] * 30, "nothing was accepted"),
    ],
)
def test_too_little_says_so(answers, words):
    found = fitted([n % 6 for n in range(len(answers))], answers)
    assert found.noise_log2.value is None
    assert words in found.noise_log2.reason
    with pytest.raises(ValueError, match="every trial"):
        fitted([1.0], [])


def test_consistency_is_the_share_of_repeats_answered_alike():
    found = fitted([0.0] * 5, [True, True, False, True, True], [1, 1, 1, 2, 2])
    assert found.consistency.value == pytest.approx(2 / 3)
    assert found.consistency.n == 3
    assert "twice" in fitted([0.0, 1.0], [True, True], [1, 2]).consistency.reason


def test_guessing_is_told_from_seeing():
    share, chance = told_apart(5, 10)
    assert share.value == 0.5
    assert chance > 0.5
    _, sure = told_apart(10, 10)
    # Ten of ten by guessing: 1/1024.
    assert sure == pytest.approx(2**-10)
    with pytest.raises(ValueError, match="one trial"):
        told_apart(1, 0)


def test_agreement_beyond_habit():
    assert kappa([1, 2, 3, 4, 5], [1, 2, 3, 4, 5]).value == pytest.approx(1.0)
    near = kappa([1, 2, 3, 4, 5, 3], [1, 3, 3, 5, 5, 2])
    far = kappa([1, 2, 3, 4, 5, 3], [5, 3, 1, 1, 2, 5])
    assert near.value > 0.7 > far.value
    assert near.low < near.value <= near.high
    assert "same grade throughout" in kappa([2, 2, 2], [2, 2, 2]).reason
    assert "two of the same rungs" in kappa([1], [1]).reason
    with pytest.raises(ValueError, match="same pictures"):
        kappa([1], [1, 2])
