"""Electrons kept with a chance follow the binomial distribution: handbook moments, and SciPy's distribution function."""

import math

import numpy as np
import pytest
from scipy import stats

from yellowjacket.core.prediction.exposing import expose

SIDE = 700


def thinned(electrons, light, read_e=0.0, seed=5):
    """Electrons of a quarter of a DN each, so that parts of one can be written; nothing else comes to them."""
    share = np.atleast_2d(np.float32(light))
    shares, which = np.unique(share, return_inverse=True)
    tiles = np.stack([np.full_like(share, 400), np.full_like(share, 0.25)])
    mosaic, left = np.full((SIDE, SIDE), 400 + 4 * electrons, np.uint16), np.empty((SIDE, SIDE), np.float32)
    nothing, rng = np.zeros(SIDE, np.float32), np.random.default_rng(seed)
    expose(mosaic, tiles, shares, which.reshape(share.shape), read_e, nothing, nothing, rng, left)
    return left.astype(float)


@pytest.mark.outside
@pytest.mark.parametrize(
    ("electrons", "light"),
    [
        (1, 0.3),
        (6, 0.5),
        (30, 0.9),
        (19, 0.5),
        (41, 0.5),
        (400, 1 / 32),
        (330, 1 / 32),
        (4000, 1 / 512),
        (1800, 1 / 512),
        (5000, 1 / 1024),
        (3000, 0.97),
    ],
)
def test_what_is_left_is_binomial(electrons, light):
    """Mean, variance and skew (handbook) within their errors, and counts by SciPy's binomial, on both sides of the variance
    from which a normal stands for it."""
    light = float(np.float32(light))
    left, one = thinned(electrons, light), stats.binom(electrons, light)
    mean, variance, skew = (float(q) for q in one.stats("mvs"))
    n = left.size
    assert left.mean() == pytest.approx(mean, abs=4 * math.sqrt(variance / n))
    assert left.var() == pytest.approx(variance, rel=4 * math.sqrt((2 + 1 / variance) / n))
    assert stats.skew(left.ravel()) == pytest.approx(skew, abs=4 * math.sqrt(6 / n) + 0.01 * abs(skew))
    edges = np.unique(one.ppf(np.linspace(0.01, 0.99, 20)))
    seen = np.histogram(left, [-np.inf, *(edges + 0.5), np.inf])[0]
    expected = np.diff([0.0, *one.cdf(edges), 1.0]) * n
    kept = expected > 20
    # A normal between whole numbers is off by less than half a per cent of a bin's count.
    assert np.abs(seen[kept] - expected[kept]).max() < (4.5 * np.sqrt(expected[kept]) + 0.005 * expected[kept]).max()


def test_everything_stays_where_no_light_is_lost_and_noise_under_nothing_shrinks():
    assert thinned(123.25, 1.0) == pytest.approx(123.25)
    assert thinned(-8.0, 0.25) == pytest.approx(-2.0)
    assert thinned(0.0, 0.5) == pytest.approx(0.0)


def test_a_part_of_an_electron_is_one_as_often_as_it_says():
    left = thinned(2.25, 0.5)
    assert set(np.unique(left)) <= {0.0, 1.0, 2.0, 3.0}
    assert left.mean() == pytest.approx(1.125, abs=4 * math.sqrt(0.8 / left.size))


def test_each_place_of_the_tile_has_its_own_share():
    left = thinned(1000.0, [[1.0, 0.5], [0.25, 0.125]])
    means = [[left[y::2, x::2].mean() for x in range(2)] for y in range(2)]
    assert np.array(means) == pytest.approx(np.array([[1000, 500], [250, 125]]), rel=2e-3)


@pytest.mark.parametrize(("electrons", "light"), [(900, 0.5), (1200, 1 / 64), (120, 1 / 16)])
def test_noise_that_comes_with_light_adds_in_cumulants(electrons, light):
    """Mean, variance and third cumulant of a sum are the sums of its parts' (handbook)."""
    left = thinned(electrons, light, read_e=2.0)
    mean, variance, skew = (float(q) for q in stats.binom(electrons, light).stats("mvs"))
    n = left.size
    assert left.mean() == pytest.approx(mean, abs=4 * math.sqrt((variance + 4) / n))
    assert left.var() == pytest.approx(variance + 4, rel=4 * math.sqrt(2 / n) + 1e-3)
    third = skew * (variance / (variance + 4)) ** 1.5
    assert stats.skew(left.ravel()) == pytest.approx(third, abs=4 * math.sqrt(6 / n) + 0.01 * abs(third))
