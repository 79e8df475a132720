"""Foreign curves: units and decimal signs are turned or refused, never guessed."""

import contextlib
import math

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from yellowjacket.core.limits.foreign_curves import QUANTITIES, ForeignError, read_curve


def test_a_plain_curve_comes_in_as_it_is():
    curve = read_curve("ISO,range (stops)\n400,11.2\n100,12.5\n", "range")
    assert curve.points == ((100, 12.5), (400, 11.2))
    assert curve.remarks == ()


@pytest.mark.outside
def test_decibels_are_turned_by_what_a_factor_of_ten_is():
    """20 dB are a factor of ten in amplitude (IEC 60027-3 and every handbook; from memory): 6.02 dB are a stop."""
    curve = read_curve("ISO;range [dB]\n100;72,25\n", "range")
    assert curve.points[0][1] == pytest.approx(72.25 / 6.0206, rel=1e-4)
    assert curve.remarks == ("turned from dB into stops", "decimal commas read as such")
    assert read_curve("ISO,snr (dB)\n100,40\n", "snr").points == ((100, pytest.approx(100.0)),)


def test_the_unit_may_be_said_beside_the_file():
    assert read_curve("iso\tnoise\n100\t2.5\n", "read_noise", "e-").points == ((100, 2.5),)


@pytest.mark.parametrize(
    ("text", "quantity", "words"),
    [
        ("ISO,read noise (DN)\n100,3\n", "read_noise", "without the gain"),
        ("ISO,read noise\n100,3\n", "read_noise", "has no unit"),
        ("ISO,range (stops)\n100,12,5\n", "range", "which is which"),
        ("ISO;range (stops)\n100;1.234,5\n", "range", "points and commas mixed"),
        ("ISO;range (stops)\n100;12;5\n", "range", "3 fields"),
        ("ISO,range (stops)\n100,high\n", "range", "line 2, 'high' is not a number"),
        ("ISO,range (stops)\n100,nan\n", "range", "not a number that can be drawn"),
        ("ISO,range (stops)\n100,-3\n", "range", "cannot be right"),
        ("ISO,snr (dB)\n100,99999\n", "snr", "too large"),
        ("ISO,range (stops)\n100,12\n100,13\n", "range", "stands twice"),
        ("ISO,range (stops)\n0.5,12\n", "range", "no ISO mark"),
        ("ISO range\n100 12\n", "range", "two columns"),
        ("ISO,range (stops)\n", "range", "at least one line"),
        ("ISO,range (stops)\n" + "100,1\n" * 300, "range", "not a curve"),
        ("ISO,range (stops)\n100,12\n", "sharpness", "no quantity"),
    ],
)
def test_what_is_doubtful_is_refused_with_its_line(text, quantity, words):
    with pytest.raises(ForeignError, match=words):
        read_curve(text, quantity)


@given(st.text(max_size=200), st.sampled_from(sorted(QUANTITIES)))
@example('ISO,"SNR\n100', "snr")
def test_any_text_gives_a_curve_or_a_sentence(text, quantity):
    with contextlib.suppress(ForeignError):
        curve = read_curve(text, quantity)
        assert curve.points
        assert all(math.isfinite(value) and value > 0 for _, value in curve.points)
