"""Range from a wedge whose light, noise and stray light are known."""

import math

import numpy as np
import pytest

from yellowjacket.core.image_quality.step_wedge import wedge_range
from yellowjacket.core.noise.two_frame import pair_noise

BLACK, GAIN, READ = 1024, 0.8, 2.5
TOP_DN = 12000.0


def steps(rng, count=16, stray=0.0, clip=16383, side=40):
    """Pair noise of one-stop steps, the lightest first; ``stray``: share of the lightest that lies on all."""
    found = []
    for n in range(count):
        light = TOP_DN * (2.0**-n + stray)
        frames = [
            np.clip(np.rint(rng.poisson(light * GAIN, (side, side)) / GAIN + rng.normal(BLACK, READ, (side, side))), 0, clip)
            for _ in range(2)
        ]  # fmt: skip
        found.append(pair_noise(*(frame.astype(np.uint16) for frame in frames), BLACK, clip_dn=clip))
    return found


def depth_at(snr):
    """Closed form: N_s = (s² + √(s⁴ + 4 s² R²))/2 in electrons (docs/methods.md), stops under the lightest."""
    noise_e = math.hypot(READ, math.sqrt(1 / 12)) * GAIN
    electrons = (snr**2 + math.sqrt(snr**4 + 4 * snr**2 * noise_e**2)) / 2
    return math.log2(TOP_DN * GAIN / electrons)


@pytest.mark.parametrize("snr", [1.0, 4.0])
def test_range_to_an_snr_is_that_of_the_noise_model(snr):
    found = wedge_range(steps(np.random.default_rng(1)), 1.0).at_snr[snr]
    assert found.value == pytest.approx(depth_at(snr), abs=0.12)
    assert found.low - 0.1 < depth_at(snr) < found.high + 0.1


def test_a_short_wedge_is_at_least():
    found = wedge_range(steps(np.random.default_rng(2), count=6), 1.0)
    assert found.at_snr[1.0].value == pytest.approx(5.0, abs=0.05)
    assert found.at_snr[1.0].reason.startswith("at least")
    assert found.told_apart.value == 5.0
    assert "every step" in found.told_apart.reason
    assert "to the end" in found.floor.reason


def test_more_steps_can_be_told_apart_than_have_snr_one():
    # The mean of a patch is finer than a pixel.
    found = wedge_range(steps(np.random.default_rng(3)), 1.0)
    assert found.told_apart.value > found.at_snr[1.0].value


@pytest.mark.parametrize("stray", [2.0**-7, 2.0**-9])
def test_stray_light_holds_the_dark_steps_up(stray):
    found = wedge_range(steps(np.random.default_rng(4), stray=stray), 1.0)
    assert "stray light" in found.floor.reason
    # The floor itself is the depth of the stray light under the lightest step.
    assert found.floor.value == pytest.approx(-math.log2(stray), abs=1.1)
    assert found.floor.value < -math.log2(stray) + 0.1


def test_clipped_steps_at_the_light_end_are_passed_over():
    found = wedge_range(steps(np.random.default_rng(5), clip=7000), 1.0)
    assert found.at_snr[1.0].value == pytest.approx(depth_at(1.0) - 2, abs=0.15)


def test_fewer_than_three_steps_are_no_wedge():
    assert "at least 3 steps" in wedge_range(steps(np.random.default_rng(6), count=2), 1.0).floor.reason
