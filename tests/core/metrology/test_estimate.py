"""Arithmetic of values with their intervals."""

import math

import pytest

from yellowjacket.core.metrology.estimate import Z95, difference, missing, ratio, with_error
from yellowjacket.core.metrology.notes import Missing


def test_a_ratio_and_a_difference_carry_both_errors():
    """Independent errors add in squares (common practice, no source): 3 % and 4 % are 5 % of a ratio."""
    one, other = with_error(10.0, 0.3, 9), with_error(5.0, 0.2, 4)
    share = ratio(one, other)
    assert share.value == pytest.approx(2.0)
    assert math.log(share.high / share.value) == pytest.approx(Z95 * 0.05)
    apart = difference(one, other)
    assert (apart.value, apart.n) == (5.0, 4)
    assert apart.se == pytest.approx(math.hypot(0.3, 0.2))


def test_of_what_is_not_known_the_reason_comes_along():
    assert ratio(missing(Missing.NO_DARK_PAIR), with_error(1.0, 0.1, 2)).has(Missing.NO_DARK_PAIR)
    assert difference(with_error(1.0, 0.1, 2), missing(Missing.CLIPPED)).has(Missing.CLIPPED)
    assert ratio(with_error(1.0, 0.1, 2), with_error(0.0, 0.1, 2)).value is None
