"""Sensor warmth: the fit against numerical integration of Newton's law of cooling (SciPy), and its honesty."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from yellowjacket.core.planning.sensor_warming import TemperatureNote, WarmRun, learn

RISE_C, TAU_S = 12.0, 900.0
BUSY = tuple((240.0 * k, 240.0 * k + 200) for k in range(12))


def truth(at_s, busy=BUSY, start=0.0):
    """Excess at moments by integrating the differential equation in small steps."""

    def slope(t, excess):
        working = any(begin <= t < end for begin, end in busy)
        return (RISE_C * working - excess) / TAU_S

    return solve_ivp(slope, (0, max(at_s) + 1), [start], t_eval=at_s, max_step=5).y[0]


def notes(at_s, values):
    return tuple(TemperatureNote(float(t), float(v)) for t, v in zip(at_s, values, strict=True))


def test_exact_temperatures_give_rise_and_prediction_back():
    at = np.arange(60.0, 2800, 240)
    record = learn([WarmRun(BUSY, notes(at, truth(at)))])
    later = ((0.0, 3600.0),)
    expected = RISE_C * (1 - np.exp(-3600 / TAU_S))
    found = record.rises(later, [3600.0])[0]
    assert found.value == pytest.approx(expected, abs=0.25)
    assert found.low <= expected <= found.high


def test_the_prediction_holds_the_truth_of_whole_degrees():
    rng = np.random.default_rng(2)
    hits, trials = 0, 60
    expected = RISE_C * (1 - np.exp(-1800 / TAU_S))
    exact = {start: truth(np.arange(100.0, 2800, 300), start=start) for start in (0.0, 2.0)}
    for _ in range(trials):
        start = rng.choice([0.0, 2.0])
        shown = np.round(exact[start] + rng.normal(0, 0.2, len(exact[start])))
        record = learn([WarmRun(BUSY, notes(np.arange(100.0, 2800, 300), shown))])
        found = record.rises(((0.0, 1800.0),), [1800.0])[0]
        hits += found.low <= expected <= found.high
    assert hits >= 0.9 * trials


@pytest.mark.parametrize("count", [0, 1, 3])
def test_too_few_notes_teach_nothing(count):
    at = np.linspace(60, 600, count)
    assert learn([WarmRun(BUSY, notes(at, np.ones(count)))]) is None


def test_a_body_that_stays_cool_has_no_record():
    at = np.arange(60.0, 2800, 240)
    assert learn([WarmRun(BUSY, notes(at, np.zeros(len(at))))]) is None
