"""Noise against SciPy and scikit-image on the same arrays, against Poisson statistics and ISO 12232."""

from importlib import import_module

import numpy as np
import pytest
from scipy import linalg, optimize, stats
from skimage.restoration import estimate_sigma

from yellowjacket.core.limits.tolerance import profile_from
from yellowjacket.core.metrology.intervals import proportion
from yellowjacket.core.noise.two_frame import pair_noise
from yellowjacket.core.photon_transfer.fit import TransferPoint, fit_transfer

pytestmark = pytest.mark.outside


def poisson_pair(rng, electrons, shape=(128, 128)):
    """Two frames of pure photon noise at one electron a number."""
    return (rng.poisson(electrons, shape).astype(np.uint16) for _ in range(2))


def test_pair_noise_equals_scipys_residual_of_the_same_difference(rng):
    a, b = poisson_pair(rng, 500)
    difference = a.astype(float) - b
    rows, columns = np.mgrid[0:128, 0:128]
    design = np.column_stack([np.ones(a.size), rows.ravel(), columns.ravel()])
    _, squares, *_ = linalg.lstsq(design, difference.ravel())
    result = pair_noise(a, b, 0.0)
    assert result.excluded == 0
    assert result.k == 1.0
    # Two frames: half the variance of the difference, three degrees of freedom spent on the plane.
    assert result.variance_dn2 == pytest.approx(squares / (a.size - 3) / 2, rel=1e-9)
    assert result.signal.value == pytest.approx(stats.tmean(np.concatenate([a, b], axis=None).astype(float)), rel=1e-12)


@pytest.mark.parametrize("electrons", [60, 400, 6000])
def test_photon_noise_is_the_root_of_the_count(rng, electrons):
    # Poisson statistics: variance equals mean, so SNR is √N.
    result = pair_noise(*poisson_pair(rng, electrons), 0.0)
    assert result.noise.low**2 < electrons < result.noise.high**2
    assert result.snr.low < np.sqrt(electrons) < result.snr.high


def test_the_interval_of_the_noise_is_that_of_a_chi_square(rng):
    a, b = poisson_pair(rng, 5000)
    noise = pair_noise(a, b, 0.0).noise
    freedom = a.size - 3
    low, high = np.sqrt(stats.chi2.ppf((0.025, 0.975), freedom) / freedom)
    assert noise.low / noise.value == pytest.approx(low, rel=2e-3)
    assert noise.high / noise.value == pytest.approx(high, rel=2e-3)


def test_noise_agrees_with_a_wavelet_estimate_of_one_frame(rng):
    a, b = poisson_pair(rng, 2000)
    # The wavelet estimator's own scatter at this size is about 1 % (median of 4096 coefficients).
    assert pair_noise(a, b, 0.0).noise.value == pytest.approx(estimate_sigma(a.astype(float)), rel=0.04)


def test_the_photon_transfer_line_is_scipys_weighted_line(rng):
    signal = np.geomspace(50, 9000, 15)
    variance = (9 + signal / 1.7) * rng.chisquare(4000, 15) / 4000
    relative = np.sqrt(2 / 4000)
    fit = fit_transfer(
        [TransferPoint(s, v, relative * v, 4000) for s, v in zip(signal, variance, strict=True)], None, 1e6
    )

    def line(s, intercept, slope):
        return intercept + slope * s

    model = 9 + signal / 1.7
    for _ in range(10):
        (intercept, slope), _ = optimize.curve_fit(line, signal, variance, (9, 0.6), relative * model)
        model = intercept + slope * signal
    assert fit.gain_e_per_dn.value == pytest.approx(1 / slope, rel=1e-5)
    assert fit.read_noise_dn.value == pytest.approx(np.sqrt(intercept), rel=1e-4)


def test_noise_bands_of_the_grey_patch_are_those_of_the_standard():
    # ISO 12232 (from memory): 40:1 excellent, 10:1 acceptable. 4:1 is common practice, no source.
    migration = import_module("yellowjacket.bench.migrations.0017_colour_separation")
    profile = profile_from(migration.STANDARD, migration.AFTER_STANDARD)
    grey = profile.criteria[0]
    assert [one.key for one in profile.criteria] == ["grey_snr", "neutral_drift"]
    assert grey.thresholds == (40, 10, 4)
    assert grey.holds(40, "clean")
    assert not grey.holds(39.9, "clean")
    assert grey.holds(10, "usable")
    assert not grey.holds(9.9, "usable")


@pytest.mark.parametrize(("count", "n"), [(0, 4096), (3, 4096), (2048, 4096), (4096, 4096)])
def test_clipped_shares_have_wilsons_interval(count, n):
    share = proportion(count / n, n)
    reference = stats.binomtest(count, n).proportion_ci(method="wilson")
    assert share.low == pytest.approx(reference.low, abs=1e-12)
    assert share.high == pytest.approx(reference.high, abs=1e-12)
