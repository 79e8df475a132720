"""Exposure arithmetic against the Exif annex on APEX (values from memory) and the trade's check values."""

import math

import pytest

from yellowjacket.core.exposure import apex, dial, notation
from yellowjacket.core.planning.body_limits import BodyLimits
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.core.planning.plan import plan_ladder

pytestmark = pytest.mark.outside


# Exif 2.3, annex C, tables of Av, Tv and Sv (from memory).
@pytest.mark.parametrize(
    ("f_number", "av"),
    [(1, 0), (1.4, 1), (2, 2), (2.8, 3), (4, 4), (5.6, 5), (8, 6), (11, 7), (16, 8), (22, 9), (32, 10)],
)
def test_aperture_values_of_the_annex(f_number, av):
    assert apex.aperture_value(dial.exact_f_number(f_number)) == pytest.approx(av)


@pytest.mark.parametrize(
    ("printed", "tv"),
    [("30 s", -5), ("15 s", -4), ("8 s", -3), ("4 s", -2), ("2 s", -1), ("1 s", 0), ("1/2", 1), ("1/4", 2), ("1/8", 3),
     ("1/15", 4), ("1/30", 5), ("1/60", 6), ("1/125", 7), ("1/250", 8), ("1/500", 9), ("1/1000", 10), ("1/2000", 11)],
)  # fmt: skip
def test_time_values_of_the_annex(printed, tv):
    # Tv = −log2 t.
    assert -math.log2(dial.exact_exposure_s(notation.parse_shutter(printed))) == pytest.approx(tv)


def test_the_apex_equation_holds():
    # Av + Tv = Ev: f/8 and 1/125 s are Ev 13.
    assert apex.aperture_value(8) - math.log2(1 / 128) == pytest.approx(13)


# Common practice, no source.
def test_a_quarter_second_less_four_stops_is_one_sixty_fourth_set_as_one_sixtieth():
    exact = apex.shift(0.25, -4)
    assert exact == 1 / 64
    assert dial.shutter_mark(exact).label == "1/60 s"
    assert dial.shutter_mark(apex.shift(0.25, 3)).label == "2 s"


# Common practice, no source.
def test_from_8_s_to_512_s_is_six_stops():
    assert apex.stops_between(8, 512) == 6


# Common practice, no source: one stop more ISO is one stop less light.
def test_one_stop_more_iso_is_one_stop_less_time_all_along_the_ladder():
    body = BodyLimits(50, 102400, 100, 25600, 1 / 8000, 30.0)
    plan = plan_ladder(LadderSpec("iso", "shutter", Exposure(100, 1 / 4, 5.6)), body)
    for before, after in zip(plan.rungs, plan.rungs[1:], strict=False):
        assert after.at_stops - before.at_stops == 1
        assert apex.stops_between(before.wanted_s, after.wanted_s) == pytest.approx(-1)


# Common practice, no source: the printed third-stop series of shutter dials.
def test_the_printed_shutter_series():
    printed = (8, 10, 13, 15, 20, 25, 30, 40, 50, 60, 80, 100, 125, 160, 200, 250)
    for n, mark in enumerate(printed):
        assert dial.shutter_mark(2.0 ** (-3 - n / 3)).label == f"1/{mark} s"
