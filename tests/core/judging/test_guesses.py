"""Errors of guessed ISO: intervals by the textbook, and the miss of somebody who does not look."""

import numpy as np
import pytest
from scipy import stats

from yellowjacket.core.judging.guesses import guesses

MARKS = [0.0, 1.0, 2.0, 3.0]


def test_the_mean_error_is_students():
    """Against SciPy's own interval of a mean (scipy.stats.t.interval)."""
    true, said = [0, 1, 2, 3, 1, 2, 0], [1, 1, 2, 2, 3, 3, 1]
    errors = np.subtract(said, true)
    found = guesses(true, said, MARKS)
    low, high = stats.t.interval(0.95, len(errors) - 1, errors.mean(), stats.sem(errors))
    assert (found.bias.value, found.bias.low, found.bias.high) == pytest.approx((errors.mean(), low, high))
    assert (found.right, found.count) == (2, 7)
    # Third stops are hits where they are nearer than a sixth.
    assert guesses([0.0, 1.0, 2.0], [0.1, 1.34, 2.0], MARKS).right == 2


def test_the_typical_error_holds_the_truth_as_often_as_said():
    """Normal errors of known size: 95 % of 400 intervals, bound from the binomial."""
    rng = np.random.default_rng(4)
    held = 0
    for _ in range(400):
        true = rng.integers(0, 4, 20).astype(float)
        found = guesses(true.tolist(), (true + rng.normal(0, 0.8, 20)).tolist(), MARKS)
        held += found.miss.low <= 0.8 <= found.miss.high
    assert 368 <= held <= 392


def test_who_does_not_look_misses_by_as_much_as_is_said():
    rng = np.random.default_rng(5)
    true, said = rng.choice(MARKS, 40_000), rng.choice(MARKS, 40_000)
    found = guesses(true.tolist(), said.tolist(), MARKS)
    assert found.miss.value == pytest.approx(found.blind, rel=0.02)


def test_two_answers_tell_nothing():
    found = guesses([0.0, 1.0], [0.0, 1.0], MARKS)
    assert found.bias.value is None
    assert "at least 3 answers" in found.miss.reason
