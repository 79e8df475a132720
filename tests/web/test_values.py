from datetime import timedelta

import pytest

from yellowjacket.core.limits.ending import fails
from yellowjacket.core.limits.iso_limits import Limit
from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA
from yellowjacket.web.templatetags import values


@pytest.mark.parametrize(
    ("value", "text"),
    [(1234.5, "1230"), (0.003261, "0.00326"), (12800, "12\u2009800"), (-3.14159, "−3.14"), (0, "0"), (None, ""),
     (9.999, "10.0"), (26.3, "26.3"), (99.96, "100")],
)  # fmt: skip
def test_numbers_have_three_digits_and_no_exponent(value, text):
    assert values.number(value) == text


def test_the_trades_own_units():
    assert values.aperture(8.0) == "f/8"
    assert values.aperture(5.6) == "f/5.6"
    assert values.shutter(1 / 60) == "1/60 s"
    assert values.stops_signed(0.314) == "+0.31"
    assert values.share(0.0003) == "0.030 %"
    assert values.letter(5) == "E"
    assert values.duration(timedelta(seconds=40)) == "40 s"
    assert values.duration(timedelta(minutes=3)) == "3 min"


FAILED = fails(DEFAULT_CRITERIA[0])


def test_limits_read_as_dial_marks():
    assert values.dial_mark(Limit("clean", 3200, 3410, 3200, 3650, ended=FAILED)) == "ISO 3200"
    assert values.dial_mark(Limit("clean", 3200, at_least=True)) == "at least ISO 3200"
    assert values.dial_mark(Limit("clean", None, ended=FAILED)) == "none"
    assert values.dial_mark(Limit("clean", None)) == "–"
    assert values.iso_range(Limit("clean", 3200, 3412, 3200, 3649)) == "3410 (3200 … 3650)"
    assert values.apart(-2.0) == "graded 2 stops lower than measured"
    assert values.apart(1.0) == "graded 1 stop higher than measured"


@pytest.mark.parametrize(
    ("seconds", "text"),
    [(1.44, "1.4 s"), (35.2, "35 s"), (89.4, "89 s"), (290.0, "4 min 50 s"), (3600.0, "60 min"), (7500.0, "2 h 05 min"),
     (None, "")],
)  # fmt: skip
def test_interpolated_times_are_finer_than_marks(seconds, text):
    assert values.exposure_time(seconds) == text
