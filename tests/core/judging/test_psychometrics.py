"""Blind rounds: order, threshold of a simulated grader, agreement, guessing."""

from itertools import pairwise

import numpy as np
import pytest

from yellowjacket.core.judging.psychometrics import (
    FEWEST_TRIALS,
    fitted,
    kappa,
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


def test_more_precision_asks_for_more_trials():
    assert planned_trials(8, 1.0) >= FEWEST_TRIALS
    assert planned_trials(8, 0.25) > planned_trials(8, 0.5) > planned_trials(8, 1.0)
    assert planned_trials(16, 0.25, 1 / 3) < planned_trials(16, 0.25)
    with pytest.raises(ValueError, match="precision"):
        planned_trials(8, 0.0)


def test_the_planned_trials_reach_the_precision():
    rng = np.random.default_rng(4)
    count = planned_trials(9, 0.35)
    halves = []
    for seed in range(20):
        levels = [one.stimulus - 4.0 for one in order_of(9, count, seed)]
        found = fitted(levels, grader(rng, levels, 0.3)).noise_log2
        halves.append((found.high - found.low) / 2)
    assert np.median(halves) == pytest.approx(0.35, rel=0.45)


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
    [([True, False] * 9, "18 of 20"), ([True] * 30, "everything was accepted"), ([False] * 30, "nothing was accepted")],
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
    assert "two rungs" in kappa([1], [1]).reason
    with pytest.raises(ValueError, match="same pictures"):
        kappa([1], [1, 2])
