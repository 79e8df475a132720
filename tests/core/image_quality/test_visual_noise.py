"""Noise in the developed picture, against error propagation through CIELAB and the law of averages."""

import numpy as np
import pytest

from yellowjacket.core.colour.colorimetry import camera_to_srgb, lab_of_linear_srgb
from yellowjacket.core.image_quality.visual_noise import Rendering, appearance, excess_over_white
from yellowjacket.core.noise.autocorrelation import lag_sums

BLACK = 512.0
LEVELS = {"R": 550.0, "G1": 1000.0, "G2": 1000.0, "B": 700.0}
SIGMAS = {"R": 8.0, "G1": 11.0, "G2": 11.0, "B": 9.0}
MATRIX = camera_to_srgb(np.array([[0.72, -0.21, -0.08], [-0.42, 1.21, 0.23], [-0.06, 0.21, 0.58]]))
HOW = Rendering(dict.fromkeys(LEVELS, BLACK), (0.18 / 550, 0.18 / 1000, 0.18 / 700), MATRIX)


def planes(rng, side=96, smooth=False, slope=0.0):
    """One frame of an even grey patch; ``smooth``: neighbours mixed, as a cooked raw has them."""
    found = {}
    for channel, level in LEVELS.items():
        noise = rng.normal(0.0, SIGMAS[channel], (side + 2, side + 2))
        if smooth:
            for axis in (0, 1):
                noise = 0.5 * noise + 0.25 * (np.roll(noise, 1, axis) + np.roll(noise, -1, axis))
        light = level * (1 + slope * np.linspace(-1, 1, side))
        found[channel] = np.rint(BLACK + light + noise[1:-1, 1:-1]).astype(np.uint16)
    return found


def propagated():
    """σ of L*, and hypot of σ_a and σ_b, from the derivative of Lab at the patch."""
    base = np.array([LEVELS["R"], 1000.0, LEVELS["B"]]) * np.array(HOW.gains)
    steps = np.eye(3) * 1e-6
    jacobian = np.array([(lab_of_linear_srgb((base + s) @ MATRIX.T) - lab_of_linear_srgb(base @ MATRIX.T)) / 1e-6
                         for s in steps]).T  # fmt: skip
    # Rounding adds a twelfth of a DN²; a cell's green is the mean of two.
    per_cell = [np.sqrt(s**2 + 1 / 12) for s in (SIGMAS["R"], SIGMAS["G1"], SIGMAS["B"])]
    per_cell[1] /= np.sqrt(2)
    covariance = jacobian @ np.diag((np.array(per_cell) * np.array(HOW.gains)) ** 2) @ jacobian.T
    return float(np.sqrt(covariance[0, 0])), float(np.sqrt(covariance[1, 1] + covariance[2, 2]))


@pytest.mark.parametrize(("cells", "averaged"), [(0.5, 1), (1, 1), (2, 2), (3, 3), (6, 6)])
def test_noise_follows_error_propagation_and_falls_with_averaging(cells, averaged):
    rng = np.random.default_rng(4)
    found = appearance(planes(rng), planes(rng), HOW, cells)
    for quantity, truth in zip((found.luma, found.chroma), propagated(), strict=True):
        assert abs(quantity.value - truth / averaged) < 3 * quantity.se
        assert quantity.se / quantity.value < 1.3 / np.sqrt(2 * (96 / averaged) ** 2)
    assert found.grain.low < 1.0 < found.grain.high


def test_between_whole_factors_noise_lies_between():
    rng = np.random.default_rng(5)
    one, other = planes(rng), planes(rng)
    at = [appearance(one, other, HOW, cells).luma.value for cells in (2, 2.5, 3)]
    assert at[2] < at[1] < at[0]
    assert at[1] == pytest.approx(propagated()[0] / 2.5, rel=0.05)


def test_a_patch_too_small_for_the_use_goes_on_as_white_noise_and_says_so():
    rng = np.random.default_rng(6)
    found = appearance(planes(rng, side=32), planes(rng, side=32), HOW, 12)
    assert found.luma.value == pytest.approx(propagated()[0] / 12, rel=0.2)
    assert "taken as white" in found.luma.reason
    assert "make it larger" in appearance(planes(rng, side=6), planes(rng, side=6), HOW, 1).luma.reason


def test_light_and_shade_is_no_noise():
    rng = np.random.default_rng(7)
    even, sloped = (appearance(planes(rng, slope=s), planes(rng, slope=s), HOW, 1).luma for s in (0.0, 0.2))
    assert sloped.value == pytest.approx(even.value, rel=0.04)


def test_smoothed_noise_has_coarser_grain_and_averages_out_by_less():
    rng = np.random.default_rng(8)
    plain, smooth = ([planes(rng, smooth=s) for _ in range(2)] for s in (False, True))
    white, cooked = (appearance(*pair, HOW, 1) for pair in (plain, smooth))
    assert cooked.grain.low > 1.5
    assert cooked.luma.value < 0.5 * white.luma.value
    # Averaged over many pixels smoothing changes nothing: what it hid at the pixel comes back.
    coarse = [appearance(*pair, HOW, 8).luma for pair in (plain, smooth)]
    assert coarse[1].value == pytest.approx(coarse[0].value, rel=0.3)


def test_intervals_hold_the_truth_as_often_as_they_say():
    truths, inside, tried = propagated(), 0, 0
    rng = np.random.default_rng(9)
    for _ in range(250):
        found = appearance(planes(rng, side=32), planes(rng, side=32), HOW, 1)
        for quantity, truth in zip((found.luma, found.chroma), truths, strict=True):
            inside += quantity.low <= truth <= quantity.high
            tried += 1
    assert 0.92 <= inside / tried <= 0.98


@pytest.mark.parametrize("share", [0.0, 0.1, 0.25])
def test_excess_of_correlated_noise_against_averaging_itself(share):
    """The noise of block means, counted, against what the correlations predict."""
    rng = np.random.default_rng(10)
    noise = rng.normal(0.0, 5.0, (1200, 1200))
    for axis in (0, 1):
        noise = (1 - 2 * share) * noise + share * (np.roll(noise, 1, axis) + np.roll(noise, -1, axis))
    lags = lag_sums(noise)
    for side in (1, 2, 4):
        blocks = noise[: 1200 // side * side, : 1200 // side * side]
        blocks = blocks.reshape(1200 // side, side, 1200 // side, side).mean(axis=(1, 3))
        counted = blocks.std() * side / noise.std()
        # Channel pixels lie two raw pixels apart.
        assert excess_over_white(lags, 2 * side) == pytest.approx(counted, rel=0.01)
