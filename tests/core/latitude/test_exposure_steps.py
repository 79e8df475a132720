"""True steps and black error of an exposure ladder whose truth is known."""

import numpy as np
import pytest

from yellowjacket.core.latitude.exposure_steps import RungLevels, fit_steps
from yellowjacket.core.metrology.estimate import missing, with_error
from yellowjacket.core.metrology.notes import Missing

TRUE_STEPS = {-5: -5.02, -4: -3.97, -3: -2.7, -2: -2.0, -1: -1.03, 0: 0.0, 1: 0.98, 2: 2.05}
BLACK_ERROR = {"R": 1.6, "G1": -0.7, "G2": -0.7, "B": 1.1}
TAG = dict.fromkeys(BLACK_ERROR, 512.0)
RESPONSE = {"R": 0.6, "G1": 1.0, "G2": 1.0, "B": 0.5}
CLIP_DN, GAIN, READ = 15000.0, 1.9, 2.7


def ladder(rng, patches=45, pixels=1500, spread=0.0, steps=None):
    """Levels of patches from bright to dark; ``spread``: relative error of a patch that stays along the ladder."""
    light = 9000 * 2.0 ** -np.linspace(0, 7, patches)
    found = []
    for nominal, true in (steps or TRUE_STEPS).items():
        levels = {}
        for p, strength in enumerate(light):
            levels[f"p{p}"] = {}
            for channel, response in RESPONSE.items():
                signal = strength * response * 2.0**true
                if signal > CLIP_DN:
                    levels[f"p{p}"][channel] = missing(Missing.CLIPPED)
                    continue
                se = np.sqrt((signal / GAIN + READ**2) / (2 * pixels))
                mean = 512 + BLACK_ERROR[channel] + signal + rng.normal(0, se)
                # A dust speck or a hair moves in one frame: common to a patch, unknown to its own error.
                levels[f"p{p}"][channel] = with_error(mean + spread * signal * rng.normal(), se, 2 * pixels)
        found.append(RungLevels(nominal, float(nominal), levels))
    return found


def test_a_step_that_was_set_wrong_is_measured_as_it_was():
    found = fit_steps(ladder(np.random.default_rng(1)), 0, TAG)
    for nominal, true in TRUE_STEPS.items():
        step = found.steps[nominal]
        assert abs(step.value - true) < max(3.5 * step.se, 1e-9), nominal
        assert step.se < 0.01
    assert found.patches == 45
    assert found.steps[0].reason == "the reference rung"


def test_the_black_error_of_every_channel_is_found_to_a_tenth():
    found = fit_steps(ladder(np.random.default_rng(2)), 0, TAG)
    for channel, error in BLACK_ERROR.items():
        black = found.black_dn[channel]
        assert black.value - 512 == pytest.approx(error, abs=0.1)
        assert black.low < 512 + error < black.high


def test_intervals_hold_the_truth_as_often_as_they_say():
    rng, inside, tried = np.random.default_rng(3), 0, 0
    for _ in range(60):
        found = fit_steps(ladder(rng, patches=30, spread=0.002), 0, TAG)
        for nominal, true in TRUE_STEPS.items():
            if nominal:
                inside += found.steps[nominal].low <= true <= found.steps[nominal].high
                tried += 1
        for channel, error in BLACK_ERROR.items():
            inside += found.black_dn[channel].low <= 512 + error <= found.black_dn[channel].high
            tried += 1
    assert tried > 500
    assert 0.92 <= inside / tried <= 0.985


def test_a_nominal_step_that_is_far_off_does_not_lead_astray():
    rungs = ladder(np.random.default_rng(4), steps={-4: -1.0, -1: -1.0, 0: 0.0})
    found = fit_steps(rungs, 0, TAG)
    assert found.steps[-4].value == pytest.approx(-1.0, abs=0.01)


def test_a_bent_response_shows_as_departure_from_the_line():
    straight = ladder(np.random.default_rng(5))
    bent = [
        RungLevels(r.key, r.nominal_stops, {
            name: {c: q if q.value is None or r.key != 1 else with_error(512 + (q.value - 512) * (1 - 4e-6 * (q.value - 512)),
                                                                     q.se, q.n) for c, q in channels.items()}
            for name, channels in r.levels.items()
        })
        for r in straight
    ]  # fmt: skip
    plain, curved = (fit_steps(rungs, 0, TAG).linearity[1].value for rungs in (straight, bent))
    assert curved > 3 * plain


def test_a_rung_where_everything_clips_says_so():
    rungs = ladder(np.random.default_rng(6), steps={-1: -1.0, 0: 0.0})
    blind = RungLevels(5, 5.0, {name: dict.fromkeys(RESPONSE, missing(Missing.CLIPPED)) for name in rungs[0].levels})
    found = fit_steps([*rungs, blind], 0, TAG)
    assert "every patch clips" in found.steps[5].reason
    assert found.steps[-1].known


def test_too_little_to_fit_gives_a_reason():
    few = ladder(np.random.default_rng(7), patches=3)
    assert "at least 4 are needed" in fit_steps(few, 0, TAG).steps[-1].reason
    alone = ladder(np.random.default_rng(8), steps={0: 0.0})
    assert "two rungs" in fit_steps(alone, 0, TAG).steps[0].reason
