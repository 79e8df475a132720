"""The fast way of measuring against the plain one: the same numbers."""

import numpy as np
import pytest
from scipy.stats import norm

from tests import making
from tests.core.readings.test_rung import patches
from yellowjacket.benchmarks.yardstick import measure_plainly
from yellowjacket.core.metrology.robust import robust_sigma
from yellowjacket.core.noise.fixed_pattern import fixed_pattern
from yellowjacket.core.noise.two_frame import pair_noise
from yellowjacket.core.raw.codes import missing_codes
from yellowjacket.core.raw.histograms import (
    CODES,
    add_histogram,
    line_means,
    middle_of,
    tile_means_and_noise,
    tile_sums,
)
from yellowjacket.core.readings.rung import RungTask, measure_frames


@pytest.fixture(scope="module")
def pair():
    rng = np.random.default_rng(12)
    # A tenth of a stop less, so that no step of the wedge clips in one frame alone.
    return [making.frame_of(making.shot(200, rng, stops=-1.2)) for _ in range(2)]


@pytest.fixture(scope="module")
def plain(pair):
    return measure_plainly(*pair, [patch.rect for patch in patches()])


@pytest.mark.parametrize("channel", ["R", "G1", "G2", "B"])
def test_patches_agree_to_the_last_digits(pair, plain, channel):
    for patch, wanted in zip(patches(), plain[channel].patches, strict=True):
        a, b = (patch.rect.cells(frame, channel) for frame in pair)
        found = pair_noise(a, b, making.BLACK)
        if found.excluded or found.k != 1.0:
            continue
        assert found.signal.value == pytest.approx(wanted.signal_dn, rel=1e-12)
        assert found.noise.value == pytest.approx(wanted.noise_dn, rel=1e-9)
        pattern = fixed_pattern(a, b)
        assert pattern.variance_dn2 + pattern.sloped_dn2 == pytest.approx(wanted.fixed_dn2, rel=1e-6, abs=1e-6)
        # Sums over fewer pairs of pixels at larger lags: divided by their count, not by that of the patch.
        rows, columns = a.shape
        share = np.array([[(rows - dy) * (columns - abs(dx)) for dx in range(-2, 3)] for dy in range(3)]) / a.size
        seen = np.where(found.lags.correlation == 0, 0, found.lags.correlation * share)
        assert np.abs(seen - np.where(seen == 0, 0, wanted.correlation)).max() < 1e-9


@pytest.mark.parametrize("size", [1, 2, 7, 5000, 5001])
def test_a_median_from_counts_is_that_of_all_numbers(rng, size):
    numbers = rng.poisson(40, (1, size)).astype(np.uint16)
    counts = np.zeros(CODES, np.int64)
    add_histogram(numbers, counts)
    codes = np.flatnonzero(counts)
    assert middle_of(codes.astype(np.float64), counts[codes]) == np.median(numbers)


def test_means_of_lines_are_those_of_numpy_to_the_last_digit(rng):
    plane = rng.integers(0, 65535, (222, 306), np.uint16)[::2, 1::3]
    rows, columns = line_means(plane)
    assert np.array_equal(rows, plane.mean(axis=1, dtype=np.float64))
    assert np.array_equal(columns, plane.mean(axis=0, dtype=np.float64))


@pytest.mark.parametrize("step", [1.0, 0.37, 1 / 2])
def test_the_robust_spread_is_that_of_a_histogram_of_rounded_values(rng, step):
    values = rng.normal(-40, 7, (31, 52)) // step * step
    whole = np.rint(values).astype(int)
    counts = np.bincount((whole - whole.min()).ravel())
    edges = whole.min() - 0.5 + np.arange(counts.size + 1)
    low, high = np.interp(norm.cdf([-1, 1]), np.concatenate([[0], counts.cumsum() / whole.size]), edges)
    assert robust_sigma(values) == pytest.approx((high - low) / 2, rel=1e-12)


def test_whole_frame_counts_agree_exactly(pair, plain):
    for channel, wanted in plain.items():
        planes = [frame.cells(channel) for frame in pair]
        means, noise = tile_means_and_noise(tile_sums(*planes, 8), 8)
        assert np.abs(means - making.BLACK - wanted.tile_means).max() < 1e-9
        assert np.abs(noise - wanted.tile_noise).max() < 1e-6
        counts = np.zeros(CODES, np.int64)
        for plane in planes:
            add_histogram(plane, counts)
        assert int(np.flatnonzero(counts)[-1]) == wanted.top_code
        assert int(missing_codes(counts).missing.sum()) == wanted.empty_codes


def test_gain_and_read_noise_agree_within_their_errors(pair, plain):
    readings = measure_frames(pair, (), RungTask(0, (), (), patches()))
    for channel, wanted in plain.items():
        gain = next(r.result for r in readings if (r.quantity, r.channel) == ("gain_e_per_dn", channel))
        assert abs(gain.value - wanted.gain_e_per_dn) < 2 * gain.se
        noise = next(r.result for r in readings if (r.quantity, r.channel) == ("read_noise_dn", channel))
        assert abs(noise.value - wanted.read_noise_dn) < 3 * noise.se
