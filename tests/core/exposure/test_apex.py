import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yellowjacket.core.exposure import apex, dial, notation


def test_a_third_series_of_iso_marks_is_the_printed_one():
    # Common practice, no source: what dials print.
    printed = "100 125 160 200 250 320 400 500 640 800 1000 1250 1600 2000 2500 3200 4000 5000 6400 8000 10000 12800"
    assert [mark.label for mark in dial.iso_marks_between(100, 12800, "third")] == printed.split()


def test_full_marks_are_powers_of_two_from_100():
    assert [mark.exact for mark in dial.iso_marks_between(50, 102400)] == [50 * 2.0**n for n in range(12)]


def test_every_mark_lies_within_a_sixth_of_a_stop_of_its_exact_value():
    for marks in (dial.SHUTTER_MARKS, dial.ISO_MARKS, dial.APERTURE_MARKS):
        for mark in marks:
            assert abs(math.log2(mark.nominal / mark.exact)) < 1 / 6, mark


@pytest.mark.parametrize(
    ("text", "seconds"),
    [("1/60", 1 / 60), ("0,5", 0.5), ("15 s", 15.0), ("2 min", 120.0), ("4'", 240.0), ('8"', 8.0), (" 1/8 s ", 1 / 8)],
)
def test_exposure_times_are_read_as_testers_type_them(text, seconds):
    assert notation.parse_shutter(text) == pytest.approx(seconds)


@pytest.mark.parametrize("text", ["", "fast", "1/0", "-1", "0", "nan", "1e9"])
def test_what_is_no_exposure_time_is_refused_with_the_text(text):
    with pytest.raises(ValueError, match="is not an exposure time"):
        notation.parse_shutter(text)


@pytest.mark.parametrize(("text", "number"), [("f/8", 8.0), ("5,6", 5.6), ("F 11", 11.0), ("2.8", 2.8)])
def test_apertures_are_read_as_testers_type_them(text, number):
    assert notation.parse_aperture(text) == pytest.approx(number)


@pytest.mark.parametrize("text", ["", "wide", "0", "nan", "f/500"])
def test_what_is_no_aperture_is_refused(text):
    with pytest.raises(ValueError, match="is not an aperture"):
        notation.parse_aperture(text)


@given(st.sampled_from([mark for mark in dial.SHUTTER_MARKS if mark.nominal <= 30]))
def test_a_printed_time_is_found_again_by_its_own_label(mark):
    assert dial.mark_from_nominal(dial.SHUTTER_MARKS, notation.parse_shutter(mark.label)) == mark


@given(st.floats(1e-4, 1e3), st.integers(-20, 20))
def test_shifting_by_stops_and_back_changes_nothing(value, n):
    assert apex.shift(apex.shift(value, n), -n) == pytest.approx(value)
    assert apex.stops_between(value, apex.shift(value, n)) == pytest.approx(n, abs=1e-9)


def test_stops_of_nothing_are_refused():
    with pytest.raises(ValueError, match="positive"):
        apex.stops_between(0, 1)


@pytest.mark.parametrize(("value", "text"), [(0.314, "+0.31"), (-3, "−3.00"), (0.004, "0.00"), (-0.004, "0.00")])
def test_stops_are_written_with_their_sign(value, text):
    assert notation.with_sign(value) == text


@pytest.mark.parametrize(
    ("seconds", "label"), [(1 / 64, "1/60 s"), (16.0, "15 s"), (960.0, "16 min"), (0.5, "1/2 s"), (70.0, "1.17 min")]
)
def test_times_are_labelled_as_the_trade_writes_them(seconds, label):
    assert notation.shutter_label(seconds) == label
