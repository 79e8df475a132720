import pytest
from hypothesis import given
from hypothesis import strategies as st

from yellowjacket.core import stops
from yellowjacket.core.ladder import Exposure
from yellowjacket.core.planning import BodyLimits, iso_ladder_by_shutter

BODY = BodyLimits(50, 102400, 100, 25600, 1 / 8000, 30.0)


def test_the_ladder_runs_from_the_lowest_to_the_highest_mark_in_whole_stops():
    plan = iso_ladder_by_shutter(BODY, Exposure(100, 1 / 8, 8))
    assert [rung.settings.iso for rung in plan.rungs] == [50 * 2**n for n in range(12)]
    assert [stops.shutter_label(rung.settings.exposure_s) for rung in plan.rungs][:5] == [
        "1/4 s", "1/8 s", "1/15 s", "1/30 s", "1/60 s",
    ]  # fmt: skip
    assert plan.shootable
    assert plan.advice == ()


@given(
    st.sampled_from([mark.nominal for mark in stops.SHUTTER_MARKS if 1 / 100 < mark.nominal <= 1]),
    st.sampled_from(["full", "third"]),
)
def test_every_rung_that_can_be_shot_is_equally_bright(metered_s, step):
    metered = Exposure(100, metered_s, 8)
    for rung in iso_ladder_by_shutter(BODY, metered, step).rungs:
        if rung.short_by_stops == 0:
            assert rung.settings.level_stops == pytest.approx(metered.level_stops, abs=1e-6)
            assert abs(rung.rounding_stops) < 1e-6


def test_extended_marks_are_named():
    plan = iso_ladder_by_shutter(BODY, Exposure(100, 1 / 8, 8))
    assert [rung.settings.iso for rung in plan.rungs if rung.extended] == [50, 51200, 102400]
    assert all("menu" in " ".join(rung.warnings) for rung in plan.rungs if rung.extended)


def test_a_ladder_too_bright_for_the_shutter_says_by_how_much_and_what_to_do():
    plan = iso_ladder_by_shutter(BODY, Exposure(100, 1 / 32, 8))
    assert [round(rung.short_by_stops) for rung in plan.rungs[-3:]] == [0, 1, 2]
    assert not plan.shootable
    assert "stop down to f/16" in plan.advice[0]
    # The remedy must work: two stops less light and the whole ladder fits.
    assert iso_ladder_by_shutter(BODY, Exposure(100, 1 / 8, 16)).shootable


def test_a_ladder_too_dim_at_the_bottom_asks_for_light():
    plan = iso_ladder_by_shutter(BODY, Exposure(100, 30, 8))
    assert plan.rungs[0].short_by_stops == pytest.approx(-1, abs=0.05)
    assert "open up to f/5.6" in plan.advice[0]


def test_an_empty_range_is_refused():
    with pytest.raises(ValueError, match="above highest"):
        iso_ladder_by_shutter(BodyLimits(400, 100, 100, 400, 1 / 8000, 30), Exposure(100, 1, 8))
    with pytest.raises(ValueError, match="no ISO mark"):
        iso_ladder_by_shutter(BodyLimits(210, 215, 210, 215, 1 / 8000, 30), Exposure(200, 1, 8))
