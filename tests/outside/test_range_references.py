"""Range, fit and outliers against closed forms and reference libraries."""

import math

import numpy as np
import pytest
import statsmodels.api as sm
from astropy.stats import sigma_clip
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import brentq

from yellowjacket.core.metrology.estimate import Quantity, with_relative_error
from yellowjacket.core.noise.banding import banding_of
from yellowjacket.core.noise.fixed_pattern import fixed_pattern, prnu
from yellowjacket.core.noise.two_frame import pair_noise
from yellowjacket.core.photon_transfer.dynamic_range import (
    dynamic_range_stops,
    engineering_range_stops,
    signal_at_snr_e,
)
from yellowjacket.core.photon_transfer.fit import TransferPoint, fit_transfer
from yellowjacket.core.raw.histograms import tile_means_and_noise, tile_sums


@given(st.floats(0.5, 40), st.floats(0, 60))
def test_the_signal_at_an_snr_solves_the_noise_model(snr, read_noise_e):
    """SNR(N) = N/√(N + R²) solved by SciPy's root finder (EMVA 1288 linear model; from memory)."""
    root = brentq(lambda n: n / math.sqrt(n + read_noise_e**2) - snr, 1e-9, 1e7)
    assert signal_at_snr_e(snr, read_noise_e) == pytest.approx(root, rel=1e-6)


def test_iso_12232_noise_criteria_without_read_noise_need_square_electrons():
    """40:1 and 10:1 (ISO 12232; from memory): with photon noise alone 1600 and 100 electrons."""
    assert signal_at_snr_e(40, 0.0) == pytest.approx(1600)
    assert signal_at_snr_e(10, 0.0) == pytest.approx(100)


def test_handbook_range_of_a_noiseless_and_a_noisy_pixel():
    """Engineering range is log2(full well / read noise): 48 000 e⁻ over 3 e⁻ is 13.97 stops (arithmetic)."""
    exact = [Quantity(v, v, v, 9) for v in (48_000.0, 1.0, 3.0)]
    assert engineering_range_stops(exact[0], exact[2]).value == pytest.approx(math.log2(16_000))
    assert dynamic_range_stops(1, *exact).value == pytest.approx(math.log2(48_000 / ((1 + math.sqrt(37)) / 2)))
    # Halving a picture's pixels to one output pixel in four wins one stop where photon noise rules.
    wide = dynamic_range_stops(10, exact[0], exact[1], Quantity(1e-6, 1e-6, 1e-6, 9), use_share=0.25).value
    plain = dynamic_range_stops(10, exact[0], exact[1], Quantity(1e-6, 1e-6, 1e-6, 9)).value
    assert wide - plain == pytest.approx(2.0, abs=1e-3)


def test_the_interval_of_a_range_is_that_of_repeated_draws(rng):
    parts = [with_relative_error(value, se, 9) for value, se in ((15_000.0, 0.004), (0.4, 0.01), (3.0, 0.02))]
    drawn = [
        math.log2(s * g / signal_at_snr_e(2, n * g))
        for s, g, n in np.exp(rng.normal(np.log([15_000, 0.4, 3.0]), [0.004, 0.01, 0.02], (4000, 3)))
    ]
    found = dynamic_range_stops(2, *parts)
    assert found.se == pytest.approx(np.std(drawn), rel=0.05)


def test_the_transfer_fit_is_statsmodels_weighted_least_squares(rng):
    signal = np.linspace(50, 8000, 40)
    variance = 9 + signal / 2.0
    relative = np.full(40, 0.02)
    seen = variance * (1 + relative * rng.standard_normal(40))
    points = [TransferPoint(s, v, v * r, 4000) for s, v, r in zip(signal, seen, relative, strict=True)]
    fit = fit_transfer(points, None, 15_000)
    # Weights from the model that our iteration ends at.
    model = 9.0 + signal / 2.0
    for _ in range(12):
        result = sm.WLS(seen, sm.add_constant(signal), weights=1 / (relative * model) ** 2).fit()
        model = result.predict(sm.add_constant(signal))
    assert fit.gain_e_per_dn.value == pytest.approx(1 / result.params[1], rel=1e-6)
    scale = max(1.0, result.scale)
    expected_se = np.sqrt(result.normalized_cov_params[1, 1] * scale) / result.params[1]
    assert fit.gain_e_per_dn.se / fit.gain_e_per_dn.value == pytest.approx(expected_se, rel=0.02)


def test_outliers_are_those_that_astropy_clips(rng):
    a, b = (np.rint(rng.normal(1000, 8, (200, 200))).astype(np.uint16) for _ in range(2))
    for n in range(25):
        b[n * 7, n * 5] += 300
    found = pair_noise(a, b, 512.0)
    clipped = sigma_clip(a.astype(float) - b, sigma=6, maxiters=5)
    assert found.excluded == int(np.ma.count_masked(clipped)) == 25
    assert found.noise.value == pytest.approx(np.ma.std(clipped) / np.sqrt(2), rel=2e-3)


def test_compiled_sums_are_numpys(rng):
    a, b = (rng.integers(0, 65535, (70, 90)).astype(np.uint16) for _ in range(2))
    mean, noise = tile_means_and_noise(tile_sums(a[::2], b[::2], 16), 16)
    part_a, part_b = a[::2][16:32, 32:48].astype(float), b[::2][16:32, 32:48].astype(float)
    assert mean[1, 2] == pytest.approx((part_a.mean() + part_b.mean()) / 2)
    assert noise[1, 2] == pytest.approx(np.var(part_a - part_b, ddof=1) / 2)


def test_banding_is_found_and_its_absence_is_bounded(rng):
    def frame(rows):
        return np.rint(1000 + rng.normal(0, 5, (400, 500)) + rows * rng.standard_normal((400, 1))).astype(np.uint16)

    found = banding_of(frame(2.0), frame(2.0))
    assert found.row_dn.low < 2.0 < found.row_dn.high
    assert found.column_dn.value == 0
    assert 0 < found.column_dn.high < 0.4
    hits = [b.row_dn.low <= 0.5 <= b.row_dn.high for b in (banding_of(frame(0.5), frame(0.5)) for _ in range(60))]
    assert np.mean(hits) >= 0.85


def test_prnu_is_the_spread_that_stays(rng):
    share, patterns = 0.008, []
    for level in (2000, 4000, 6000, 8000):
        response = 1 + share * rng.standard_normal((96, 96))
        pair = [np.rint(rng.poisson(level * response) + 512).astype(np.uint16) for _ in range(2)]
        patterns.append((float(level), fixed_pattern(*pair)))
    dark = fixed_pattern(*[np.rint(rng.normal(512, 3, (96, 96))).astype(np.uint16) for _ in range(2)])
    found = prnu(patterns, dark)
    assert abs(found.value - share) < 3.5 * found.se
    assert prnu(patterns[:2], dark).value is None


@pytest.mark.parametrize("stops", [0.0, 0.5, 1.0])
def test_light_that_falls_off_is_no_spread_of_response(rng, stops):
    """Patches that lose up to a stop from one side to the other."""
    share, patterns = 0.006, []
    fall = 2.0 ** -np.linspace(0, stops, 128)[None, :]
    for level in (3000, 4500, 6000, 7500, 9000, 10500):
        light = level * fall * (1 + share * rng.standard_normal((128, 128)))
        pair = [np.rint(rng.poisson(4 * light) / 4 + 512).astype(np.uint16) for _ in range(2)]
        patterns.append((float((level * fall).mean()), fixed_pattern(*pair)))
    dark = fixed_pattern(*[np.rint(rng.normal(512, 2, (128, 128))).astype(np.uint16) for _ in range(2)])
    assert prnu(patterns, dark).value == pytest.approx(share, rel=0.02 + 0.01 * stops)
