"""Smoothing is found and undone; white noise is left alone."""

import numpy as np
import pytest

from yellowjacket.core.noise.autocorrelation import lag_sums, pooled
from yellowjacket.core.noise.smoothing import verdict, white_variance


def smoothed(noise: np.ndarray, share: float) -> np.ndarray:
    for axis in (0, 1):
        noise = (1 - 2 * share) * noise + share * (np.roll(noise, 1, axis) + np.roll(noise, -1, axis))
    return noise


def rung(rng, share, count=40, side=48):
    return [lag_sums(smoothed(rng.standard_normal((side + 8, side + 8)), share)[4:-4, 4:-4]) for _ in range(count)]


def test_white_noise_is_never_called_cooked(rng):
    flags = [verdict(pooled(rung(rng, 0.0, 12))).flag for _ in range(120)]
    assert not any(flags)


@pytest.mark.parametrize("rho", [0.02, 0.05, 0.4])
def test_smoothing_from_a_correlation_of_two_per_cent_on_is_found(rng, rho):
    # [s, 1 − 2s, s] correlates neighbours by 4s(1 − 2s)/…; solved on a grid, so that the check does not share code.
    shares = np.linspace(0, 0.2, 400)
    kernels = np.stack([shares, 1 - 2 * shares, shares])
    lag1 = 2 * kernels[0] * kernels[1] / (kernels**2).sum(axis=0)
    share = shares[np.argmin(np.abs(lag1 - rho))]
    parts = rung(rng, share, 90)
    found = verdict(pooled(parts))
    assert found.flag
    assert abs(found.lag1.value - rho) < 4 * found.lag1.se


@pytest.mark.parametrize("side", [24, 32, 64])
@pytest.mark.parametrize("share", [0.0, 0.08, 0.16])
def test_the_noise_before_smoothing_is_recovered(rng, share, side):
    values = [white_variance(part) for part in rung(rng, share, 700, side)]
    mean = np.mean([value for value, _ in values])
    se = np.std([value for value, _ in values]) / np.sqrt(len(values))
    assert mean == pytest.approx(1.0, abs=4 * se + 0.004)
    if share == 0.0:
        return
    # The stated error is that of the scatter seen, within a quarter. It is made for smoothed noise alone.
    assert np.mean([error for _, error in values]) == pytest.approx(np.std([v for v, _ in values]), rel=0.25)


def test_row_noise_is_not_taken_for_smoothing(rng):
    parts = [lag_sums(rng.standard_normal((64, 64)) + 0.5 * rng.standard_normal((64, 1))) for _ in range(60)]
    assert verdict(pooled(parts)).flag is False


def test_nothing_to_compare_is_no_verdict():
    assert verdict(pooled([])).flag is None
