"""Intervals of shares and counts against Astropy's, which follow Wilson (1927) and Gehrels (1986)."""

import pytest
from astropy.stats import binom_conf_interval, poisson_conf_interval
from hypothesis import given
from hypothesis import strategies as st

from yellowjacket.core.metrology.estimate import Z95
from yellowjacket.core.metrology.intervals import density, proportion


@given(st.integers(1, 5000).flatmap(lambda n: st.tuples(st.integers(0, n), st.just(n))))
def test_a_share_has_the_interval_of_the_reference(seen):
    k, n = seen
    found = proportion(k / n, n)
    low, high = binom_conf_interval(k, n, confidence_level=0.95, interval="wilson")
    assert (found.low, found.high) == pytest.approx((min(low, k / n), max(high, k / n)), abs=1e-12)
    assert 0 <= found.low <= found.value <= found.high <= 1


@given(st.integers(0, 200_000), st.floats(0.01, 100))
def test_a_count_has_the_interval_of_the_reference(count, megapixels):
    found = density(count, megapixels)
    low, high = poisson_conf_interval(count, interval="frequentist-confidence", sigma=Z95)
    assert (found.low, found.high) == pytest.approx((low / megapixels, high / megapixels), rel=1e-9)
