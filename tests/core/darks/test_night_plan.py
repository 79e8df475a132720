"""Nights laid out by hand arithmetic."""

from dataclasses import replace
from itertools import pairwise

import pytest

from yellowjacket.core.darks.night_plan import (
    DARKS,
    LAPSE,
    LENR,
    NOTHING,
    SINGLE,
    STACK,
    TRAILS,
    NightError,
    NightSpec,
    plan_night,
)
from yellowjacket.core.metrology.estimate import Quantity

HOUR = 3600.0


def test_lenr_halves_what_fits():
    plain = plan_night(NightSpec(HOUR, 240.0, care=NOTHING, gap_s=0.0))
    locked = plan_night(NightSpec(HOUR, 240.0, care=LENR, gap_s=0.0))
    # A 4 min frame holds the camera for 8 min (common practice, no source); a minute goes into setting up.
    assert (plain.lights, locked.lights) == (14, 7)
    assert "doubles the time" in locked.notes[-1]


def test_darks_are_shot_at_once_afterwards():
    night = plan_night(NightSpec(2 * HOUR, 60.0, frames=40, purpose=SINGLE, care=DARKS, gap_s=2.0))
    assert [one.kind for one in night.stretches] == ["set up", "light", "dark"]
    assert night.darks == 10
    assert night.ends_s == pytest.approx(60 + 50 * 62)
    assert night.warnings == ()
    assert "10 darks add 5 %" in night.notes[0]


def test_a_stack_wants_as_many_darks_as_lights():
    night = plan_night(NightSpec(4 * HOUR, 60.0, frames=50, purpose=STACK, care=DARKS))
    assert night.darks == 50
    assert "of a stack of 50" in night.notes[0]
    little = plan_night(NightSpec(4 * HOUR, 60.0, frames=50, purpose=STACK, care=DARKS, dark_share=0.02))
    assert little.darks == 10


@pytest.mark.parametrize("purpose", [STACK, TRAILS, LAPSE])
def test_lenr_is_off_for_stacks_trails_and_lapses(purpose):
    night = plan_night(NightSpec(HOUR, 30.0, purpose=purpose, care=LENR))
    assert any(text.startswith(f"LENR off for {purpose}") for text in night.warnings)


def test_gaps_show_in_trails():
    assert any("gap" in text for text in plan_night(NightSpec(HOUR, 30.0, purpose=TRAILS, gap_s=5.0)).warnings)
    assert not plan_night(NightSpec(HOUR, 30.0, purpose=TRAILS, gap_s=1.0, care=NOTHING)).warnings


def test_air_that_cools_wants_darks_from_both_ends():
    night = plan_night(NightSpec(3 * HOUR, 60.0, frames=60, temperature_begin_c=16.0, temperature_end_c=8.0))
    assert [one.kind for one in night.stretches] == ["set up", "dark", "light", "dark"]
    assert sum(one.frames for one in night.stretches if one.kind == "dark") == night.darks
    # Four degrees to the middle: 2^(4/6) − 1.
    assert any("59 %" in text for text in night.warnings)


def test_batteries_are_changed_between_frames():
    night = plan_night(
        NightSpec(4 * HOUR, 60.0, frames=100, care=NOTHING, battery_minutes=50.0, batteries=2, gap_s=0.0)
    )
    assert [one.kind for one in night.stretches] == ["set up", "light", "battery", "light"]
    assert [one.frames for one in night.stretches] == [0, 50, 0, 50]
    assert not night.warnings
    short = plan_night(NightSpec(4 * HOUR, 60.0, frames=100, care=NOTHING, battery_minutes=30.0, gap_s=0.0))
    assert "takes 4 batteries, you have 1" in short.warnings[-1]


def test_what_does_not_fit_is_said_with_what_does():
    night = plan_night(NightSpec(HOUR, 240.0, frames=30, care=NOTHING, gap_s=0.0))
    assert night.warnings[0] == "It takes 2 h 01 min, and there is 1 h 00 min: 14 frames fit."
    card = plan_night(NightSpec(HOUR, 30.0, frames=60, care=NOTHING, card_gb=2.0, frame_mb=60.0))
    assert any("3.6 GB" in text for text in card.warnings)
    assert any("nothing at this exposure" in text for text in plan_night(NightSpec(HOUR, 0.5, care=LENR)).warnings)


@pytest.mark.parametrize("care", [DARKS, LENR, NOTHING])
@pytest.mark.parametrize("battery", [None, 47.0, 90.0])
@pytest.mark.parametrize("exposure_s", [31.0, 120.0])
def test_all_that_fit_are_planned_and_not_one_more(care, battery, exposure_s):
    spec = NightSpec(5 * HOUR, exposure_s, care=care, purpose=STACK, battery_minutes=battery, batteries=9)
    night = plan_night(spec)
    assert not any("there is" in text for text in night.warnings)
    asked = plan_night(replace(spec, frames=night.lights))
    assert asked.ends_s == night.ends_s <= 5 * HOUR
    more = plan_night(replace(spec, frames=night.lights + 1))
    assert f"{night.lights} frames fit." in more.warnings[0]


def test_lenr_adds_what_was_measured_where_it_was():
    spec = NightSpec(HOUR, 60.0, care=LENR)
    assert "LENR adds 41 % to read and dark noise, as one dark taken off must" in plan_night(spec).notes[-1]
    told = replace(spec, lenr_noise=Quantity(1.7, 1.55, 1.91, 99))
    assert "LENR adds 70 % to the noise of a dark (55 to 91 %, as measured on this body)" in plan_night(told).notes[-1]


@pytest.mark.parametrize("care", [DARKS, LENR, NOTHING])
@pytest.mark.parametrize("minutes", [20, 61, 240])
def test_what_fits_by_itself_ends_in_time(care, minutes):
    night = plan_night(NightSpec(minutes * 60.0, 120.0, care=care, purpose=SINGLE))
    assert night.ends_s <= minutes * 60.0 + 1
    assert night.lights >= 1
    times = [(one.begins_s, one.ends_s) for one in night.stretches]
    assert all(end == begin for (_, end), (begin, _) in pairwise(times))


@pytest.mark.parametrize(
    ("changes", "field"),
    [({"available_s": 5.0}, "available"), ({"exposure_s": 0.0}, "exposure"), ({"frames": 0}, "frames"),
     ({"purpose": "sunrise"}, "purpose"), ({"care": "hope"}, "purpose"), ({"gap_s": -1.0}, "gap"),
     ({"exposure_s": 4000.0, "frames": None}, "available")],
)  # fmt: skip
def test_impossible_nights_name_the_field(changes, field):
    values = {"available_s": HOUR, "exposure_s": 60.0} | changes
    with pytest.raises(NightError) as refused:
        plan_night(NightSpec(**values))
    assert refused.value.field == field
    assert refused.value.reason.endswith(".")
