import numpy as np
import pytest

from yellowjacket.core.photon_transfer.fit import TransferPoint, fit_transfer, snr_at

GAIN, READ = 2.0, 3.0
SIGNALS = np.geomspace(20, 12000, 20)
N = 4096


def points(rng, signals=SIGNALS, gain=GAIN, n=N):
    """Patches whose measured variance scatters as a χ² of n samples does."""
    truth = READ**2 + signals / gain
    measured = truth * rng.chisquare(n, len(signals)) / n
    return [TransferPoint(s, v, v * np.sqrt(2 / n), n) for s, v in zip(signals, measured, strict=True)]


def dark_point(rng, n=50_000):
    value = READ**2 * rng.chisquare(n) / n
    return TransferPoint(0.0, value, value * np.sqrt(2 / n), n)


def test_gain_and_read_noise_hold_the_truth_as_often_as_they_say():
    seeds, gains, reads = 500, 0, 0
    for seed in range(seeds):
        rng = np.random.default_rng(seed)
        fit = fit_transfer(points(rng), dark_point(rng), 15_000)
        gains += fit.gain_e_per_dn.low < GAIN < fit.gain_e_per_dn.high
        reads += fit.read_noise_e.low < READ * GAIN < fit.read_noise_e.high
    # Intervals are widened by χ²/dof when points scatter more, so they err on the wide side.
    assert 0.92 <= gains / seeds <= 0.99
    assert 0.92 <= reads / seeds <= 0.99


def test_the_gain_is_not_biased_by_points_that_scattered_low():
    values = [
        fit_transfer(points(np.random.default_rng(seed), n=200), None, 15_000).gain_e_per_dn.value
        for seed in range(300)
    ]
    # Weights from measured variances would read about 1 % high at n = 200 (2/n per point, from the weights' bias).
    assert np.mean(values) == pytest.approx(GAIN, rel=0.005)


def test_without_darks_the_intercept_gives_the_read_noise(rng):
    fit = fit_transfer(points(rng), None, 15_000)
    assert fit.read_noise_source == "intercept"
    assert fit.read_noise_dn.low < READ < fit.read_noise_dn.high


def test_an_intercept_within_its_error_of_zero_is_no_read_noise(rng):
    fit = fit_transfer(points(rng, np.geomspace(4000, 12000, 6)), None, 15_000)
    assert fit.gain_e_per_dn.known
    assert "shoot a dark pair" in fit.read_noise_dn.reason
    assert not fit.read_noise_e.known


def test_points_near_saturation_are_left_out_when_they_break_the_line(rng):
    good = points(rng)
    bent = [
        TransferPoint(s, 0.2 * s / GAIN, 0.2 * s / GAIN * np.sqrt(2 / N), N) for s in (13_000.0, 14_000.0, 14_500.0)
    ]
    fit = fit_transfer(good + bent, dark_point(rng), 15_000)
    assert "below 70 %" in fit.gain_e_per_dn.reason
    assert fit.gain_e_per_dn.low < GAIN < fit.gain_e_per_dn.high


def test_points_that_follow_no_line_carry_a_remark(rng):
    wild = [
        TransferPoint(s, v * f, v * np.sqrt(2 / N), N)
        for (s, v), f in zip(
            ((p.signal_dn, p.variance_dn2) for p in points(rng)), rng.uniform(0.5, 2.0, len(SIGNALS)), strict=True
        )
    ]
    fit = fit_transfer(wild, dark_point(rng), 1e9)
    assert "scatter more" in fit.gain_e_per_dn.reason


@pytest.mark.parametrize(
    ("signals", "words"), [([100.0, 200.0], "2 usable patches"), ([100.0, 110.0, 120.0], "equally bright")]
)
def test_too_little_to_fit_says_what_is_missing(rng, signals, words):
    fit = fit_transfer(points(rng, np.array(signals)), None, 15_000)
    assert words in fit.gain_e_per_dn.reason
    assert not fit.read_noise_e.known


def test_noise_that_falls_with_signal_gives_no_gain(rng):
    falling = [TransferPoint(s, 5000 / s, 50 / s, N) for s in SIGNALS]
    assert "does not rise" in fit_transfer(falling, None, 15_000).gain_e_per_dn.reason


def test_snr_follows_the_noise_model():
    # 400 e⁻ with 10 e⁻ read noise: 400 / sqrt(400 + 100).
    assert snr_at(200, 2.0, 5.0) == pytest.approx(400 / np.sqrt(500))
