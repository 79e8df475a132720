"""Battery life from levels noted: against straight arithmetic and simulated displays of known batteries."""

import numpy as np
import pytest

from yellowjacket.core.planning.battery import LevelNote, charge_minutes


def test_a_straight_run_gives_the_minutes_of_a_full_charge():
    # 30 min of exposure took a quarter of the charge: two hours a charge.
    found = charge_minutes([[LevelNote(0, 100), LevelNote(1800, 75)]])
    assert found.value == pytest.approx(120)
    assert found.low < 120 < found.high


def test_a_fresh_battery_begins_another_run():
    notes = [LevelNote(0, 100), LevelNote(1800, 75), LevelNote(1800, 100), LevelNote(3600, 75)]
    assert charge_minutes([notes]).value == pytest.approx(120)
    assert charge_minutes([notes[:2], notes[:2]]).value == pytest.approx(120)


@pytest.mark.parametrize(
    "notes", [[], [LevelNote(0, 80)], [LevelNote(0, 80), LevelNote(600, 75)], [LevelNote(0, 80)] * 2]
)
def test_too_small_a_drop_is_no_measurement(notes):
    found = charge_minutes([notes])
    assert found.value is None
    assert "10 %" in found.reason


def test_the_interval_holds_the_truth_of_coarse_displays():
    rng = np.random.default_rng(5)
    hits = 0
    for _ in range(400):
        minutes, step = rng.uniform(60, 300), rng.choice([1, 5, 10])
        busy_s = np.sort(rng.uniform(0, 0.95 * 60 * minutes, 12))
        shown = np.round((100 - busy_s / 60 / minutes * 100) / step) * step
        found = charge_minutes([[LevelNote(float(b), float(p)) for b, p in zip(busy_s, shown, strict=True)]])
        hits += found.value is not None and found.low <= minutes <= found.high
    assert hits >= 0.92 * 400
