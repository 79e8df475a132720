import re
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yellowjacket.core.exposure import dial, notation
from yellowjacket.core.planning.body_limits import BodyLimits, PlanError
from yellowjacket.core.planning.cautions import Surroundings
from yellowjacket.core.planning.ladder import Exposure, Filter, LadderSpec
from yellowjacket.core.planning.plan import nearest_filters, plan_ladder
from yellowjacket.core.planning.plan_file import (
    PlanFileError,
    PlannedFor,
    plan_document,
    read_plan,
    spec_as_dict,
    spec_from,
)
from yellowjacket.core.planning.refit import fit_to_body

BODY = BodyLimits(50, 102400, 100, 25600, 1 / 8000, 30.0, pixel_pitch_um=4.08, raw_modes=("full", "small"))
METERED = Exposure(100, 1 / 8, 8)


def planned(kind="iso", method="shutter", body=BODY, around=None, **changes):
    values = {"metered": METERED} | changes
    return plan_ladder(LadderSpec(kind, method, **values), body, around)


def cautions(plan, code):
    return [rung.key for rung in plan.rungs if any(one.code == code for one in rung.warnings)]


def test_the_ladder_runs_from_the_lowest_to_the_highest_mark_in_whole_stops():
    plan = planned()
    assert [rung.settings.exposure.iso for rung in plan.rungs] == [50 * 2**n for n in range(12)]
    labels = [notation.shutter_label(rung.settings.exposure.exposure_s) for rung in plan.rungs]
    assert labels[:5] == ["1/4 s", "1/8 s", "1/15 s", "1/30 s", "1/60 s"]
    assert plan.shootable


@given(
    st.sampled_from([mark.nominal for mark in dial.SHUTTER_MARKS if 1 / 100 < mark.nominal <= 1]),
    st.sampled_from(["full", "third", "two", "three"]),
)
def test_every_rung_that_can_be_shot_is_equally_bright(metered_s, step):
    metered = Exposure(100, metered_s, 8)
    for rung in planned(metered=metered, step=step).rungs:
        if rung.shootable:
            assert rung.settings.level_stops == pytest.approx(metered.level_stops, abs=1e-6)
            assert rung.expected_stops == pytest.approx(0, abs=1e-6)
            assert abs(rung.rounding_stops) < 1e-6


def test_steps_of_two_and_three_stops_keep_base_iso():
    assert [rung.key for rung in planned(step="two").rungs] == ["100", "400", "1600", "6400", "25600", "102400"]
    assert "100" in [rung.key for rung in planned(step="three").rungs]


def test_brightness_is_held_by_the_lamp_in_stops_and_lux():
    plan = planned(method="lamp", lux=800.0)
    by_key = {rung.key: rung for rung in plan.rungs}
    assert by_key["400"].settings.lamp_stops == -2
    assert by_key["400"].target_lux == pytest.approx(200)
    assert all(rung.settings.exposure.exposure_s == 1 / 8 for rung in plan.rungs)
    assert "colour" in plan.advice[0]


def test_filters_come_near_and_the_shutter_takes_the_rest():
    filters = (Filter("ND8", 3, 2.8, "warm"), Filter("ND64", 6, 6.2))
    rung = next(rung for rung in planned(method="nd", filters=filters).rungs if rung.key == "1600")
    assert [one.name for one in rung.settings.filters] == ["ND8"]
    # Four stops wanted, 2.8 by the filter, the rest by the shutter's nearest mark.
    assert rung.expected_stops == pytest.approx(0, abs=1 / 6)
    assert any("takes 2.8 stop, engraved 3, tint warm" in one.text for one in rung.warnings)
    assert nearest_filters(filters, 9.1) == filters
    assert nearest_filters(filters, 0.5) == ()


def test_a_fixed_ladder_brightens_with_iso():
    assert [round(rung.expected_stops) for rung in planned(method="fixed").rungs][:4] == [-1, 0, 1, 2]


def test_an_exposure_ladder_runs_from_under_to_over():
    plan = planned("exposure", "shutter")
    assert [rung.key for rung in plan.rungs] == ["−5", "−4", "−3", "−2", "−1", "0", "+1", "+2", "+3", "+4", "+5"]
    assert [round(rung.expected_stops) for rung in plan.rungs] == list(range(-5, 6))


@given(st.sampled_from(["third", "full", "two"]), st.floats(0, 6), st.floats(0, 4))
def test_stops_of_an_exposure_ladder_add_up(step, under, over):
    rungs = planned("exposure", "shutter", step=step, under=under, over=over).rungs
    assert [rung.at_stops for rung in rungs] == sorted(rung.at_stops for rung in rungs)
    for rung in rungs:
        assert rung.expected_stops == pytest.approx(rung.at_stops + rung.rounding_stops, abs=1e-6)


def test_an_uneven_list_is_taken_as_it_is_with_the_correct_exposure_in_it():
    assert [rung.key for rung in planned("exposure", "shutter", picked=(-4.0, -1.5, 2.0)).rungs] == [
        "−4",
        "−1.5",
        "0",
        "+2",
    ]
    assert [rung.key for rung in planned(picked=(400.0, 100.0)).rungs] == ["100", "400"]


def test_a_time_ladder_doubles_and_goes_past_the_dial_by_bulb():
    plan = planned("time", "capped", longest_s=240.0, lenr="pairs")
    keys = [rung.key for rung in plan.rungs]
    assert keys == ["1", "2", "4", "8", "15", "30", "1min", "2min", "4min"] + [
        f"{key}+LENR" for key in ("1", "2", "4", "8", "15", "30", "1min", "2min", "4min")
    ]
    assert cautions(plan, "bulb") == ["1min", "2min", "4min", "1min+LENR", "2min+LENR", "4min+LENR"]


def test_a_shuffled_ladder_has_the_same_rungs_and_the_same_order_each_time():
    one, other = (planned("time", "capped", shuffled=True) for _ in range(2))
    assert [rung.key for rung in one.rungs] == [rung.key for rung in other.rungs]
    assert {rung.key for rung in one.rungs} == {rung.key for rung in planned("time", "capped").rungs}


def test_crossed_ladders_go_to_and_fro():
    keys = [rung.key for rung in planned("exposure", "shutter", under=1, over=1, crossed=("full", "small")).rungs]
    assert keys == ["−1·full", "0·full", "+1·full", "+1·small", "0·small", "−1·small"]


def test_a_ladder_too_bright_for_the_shutter_says_by_how_much_and_what_to_do():
    plan = planned(metered=Exposure(100, 1 / 32, 8))
    assert [round(rung.short_by_stops) for rung in plan.rungs[-3:]] == [0, 1, 2]
    assert cautions(plan, "reach") == ["51200", "102400"]
    assert "Meter the fastest rung first" in plan.advice[1]
    assert "f/16" in plan.advice[1]
    # The remedy must work: two stops less light and the whole ladder fits.
    assert planned(metered=Exposure(100, 1 / 8, 16)).shootable


def test_without_bulb_long_times_are_out_of_reach():
    body = BodyLimits(50, 102400, 100, 25600, 1 / 8000, 30.0, bulb=False)
    plan = planned(body=body, metered=Exposure(100, 30, 8))
    assert plan.rungs[0].short_by_stops == pytest.approx(-1, abs=0.05)
    assert "open up to f/5.6" in plan.advice[1]


@pytest.mark.parametrize(
    ("changes", "field", "words"),
    [
        ({"repeats": 0}, "repeats", "0 frames a rung"), ({"darks": -1}, "darks", "-1 frames"),
        ({"metered": Exposure(110, 1 / 8, 8)}, "metered_iso", "nearest mark is 100"),
        ({"picked": (230.0,)}, "picked", "nearest mark is 250"), ({"rest_s": -3}, "rest_s", "choose 0 to 86400"),
        ({"metered": Exposure(100, 1 / 8000, 8), "picked": (3200.0, 6400.0)}, "metered", "No rung fits"),
        ({"kind": "time", "method": "capped", "longest_s": 0.5}, "longest_s", "not be shorter"),
        ({"kind": "time", "method": "capped", "longest_s": 1e6}, "longest_s", "too long"),
        ({"kind": "setting", "method": "raw_mode", "values": ("full",)}, "values", "at least two"),
        ({"kind": "setting", "method": "raw_mode", "values": ("full", "huge")}, "values", "no raw mode 'huge'"),
        ({"kind": "iso", "method": "capped"}, "method", "no iso ladder"), ({"step": "giant"}, "step", "one of"),
        ({"kind": "exposure", "under": 40.0}, "under", "40 cannot be planned"), ({"lenr": "maybe"}, "lenr", "one of"),
    ],
)  # fmt: skip
def test_plans_that_cannot_be_are_refused_at_their_field(changes, field, words):
    with pytest.raises(PlanError, match=words) as caught:
        planned(**changes)
    assert caught.value.field == field


def test_lenr_needs_a_body_that_has_it():
    with pytest.raises(PlanError, match="no long-exposure"):
        planned("time", "capped", body=BodyLimits(100, 400, 100, 400, 1 / 4000, 30, lenr_from_s=None), lenr="on")
    with pytest.raises(PlanError, match="cannot be switched"):
        planned(
            "time", "capped", body=BodyLimits(100, 400, 100, 400, 1 / 4000, 30, lenr_switchable=False), lenr="pairs"
        )


def test_cautions_stand_on_the_rungs_they_concern():
    around = Surroundings(mains_hz=50, tripod=False, focal_length_mm=135, widest_f=2.8, narrowest_f=16)
    body = BodyLimits(50, 102400, 100, 25600, 1 / 8000, 30.0, crop_factor=1.6, pixel_pitch_um=4.0)
    plan = planned(body=body, around=around, metered=Exposure(100, 1 / 60, 8))
    assert cautions(plan, "extended") == ["50", "51200", "102400"]
    # Common practice, no source: 135 mm on a 1.6× body asks for about 1/215 s.
    assert cautions(plan, "hand-held") == ["50", "100", "200"]
    text = next(one.text for one in plan.rungs[0].warnings if one.code == "hand-held")
    assert "1/216 s" in text
    assert cautions(plan, "flicker")[0] == "100"
    assert cautions(planned(around=around, metered=Exposure(100, 1 / 8, 2.8)), "wide-open")
    assert cautions(planned(metered=Exposure(100, 1 / 8, 16)), "diffraction")
    assert not cautions(planned(metered=Exposure(100, 1 / 8, 5.6)), "diffraction")
    assert cautions(planned(around=around, metered=Exposure(100, 1 / 8, 22)), "narrow")
    lenr = planned("time", "scene", shortest_s=0.5, longest_s=4.0, lenr="on")
    assert cautions(lenr, "lenr") == ["1/2+LENR"]
    assert cautions(planned("setting", "raw_mode", values=("full", "small")), "reduced") == ["small"]


def test_a_plan_survives_its_document():
    spec = LadderSpec(
        "iso", "nd", METERED, picked=(100.0, 400.0), filters=(Filter("ND8", 3, 2.8, "warm"),), crossed=("full",)
    )
    assert spec_from(spec_as_dict(spec)) == spec
    name, held, ladders = read_plan(plan_document("Night", [PlannedFor("Ostrel", "Heath", "1", spec)], "light"))
    assert (name, held, ladders[0].spec) == ("Night", "light", spec)


@pytest.mark.parametrize(
    ("document", "words"),
    [
        ([], "not a plan"), ({"schema": "yellowjacket-plan/9"}, "version 'yellowjacket-plan/9'"),
        ({"schema": "yellowjacket-plan/1", "ladders": []}, "ladders must have 1 entries or more"),
        ({"schema": "yellowjacket-plan/1"}, "ladders is missing"),
        ({"schema": "yellowjacket-plan/1", "ladders": [{"body": {"make": "a", "model": "b"}, "ladder": {"zoom": 1}}]},
         "ladders 1, ladder.zoom is not one of its fields: leave it out"),
        ({"schema": "yellowjacket-plan/1", "ladders": [{"body": {"make": "a", "model": "b"}, "ladder": {"kind": "iso"}}]},
         "ladders 1, ladder.method is missing"),
    ],
)  # fmt: skip
def test_documents_that_cannot_be_read_say_where(document, words):
    with pytest.raises(PlanFileError, match=words):
        read_plan(document)


def test_numbers_in_a_document_must_be_numbers():
    values = spec_as_dict(LadderSpec("iso", "shutter", METERED)) | {"repeats": "two"}
    with pytest.raises(PlanFileError, match="repeats must be a whole number, not 'two'"):
        spec_from(values)


def test_what_a_document_leaves_out_is_as_planning_has_it():
    values = {"kind": "iso", "method": "shutter", "metered": {"iso": 100, "exposure_s": 0.125, "f_number": 8}}
    assert spec_from(values) == LadderSpec("iso", "shutter", Exposure(100, 0.125, 8))


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({"metered": {"iso": -1, "exposure_s": 1, "f_number": 8}}, "metered.iso must be above 0, not -1"),
        ({"picked": [100, "x"]}, "picked 2 must be a number, not 'x'"), ({"picked": 100}, "picked must be a list, not 100"),
        ({"shuffled": 1}, "shuffled must be true or false, not 1"), ({"under": float("nan")}, "under must be a finite number"),
        ({"kind": "zoom"}, "kind must be 'iso', 'exposure', 'time' or 'setting', not 'zoom'"),
        ({"filters": [{"name": "ND8", "nominal_stops": 3, "true_stops": True, "tint": ""}]},
         "filters 1, true_stops must be a number, not True"),
        ({"repeats": 10**400}, "repeats must be smaller, not one so large"),
        ({"values": ["a\0"]}, "holds a character that is not text"),
    ],
)  # fmt: skip
def test_the_first_mistake_is_named_with_its_place(changed, words):
    values = spec_as_dict(LadderSpec("iso", "shutter", METERED)) | changed
    with pytest.raises(PlanFileError, match=re.escape(words)):
        spec_from(values)


def test_a_plan_is_fitted_to_another_dial_and_says_how():
    spec = LadderSpec(
        "iso", "shutter", Exposure(50, 1 / 4, 8), picked=(50.0, 100.0, 51200.0), lenr="on", crossed=("full", "small")
    )
    small = BodyLimits(100, 25600, 100, 25600, 1 / 4000, 30, lenr_from_s=None, raw_modes=("full",))
    fitted, differences = fit_to_body(spec, small)
    assert fitted.metered == Exposure(100, 1 / 8, 8)
    assert fitted.picked == (100.0,)
    assert (fitted.lenr, fitted.crossed) == ("off", ("full",))
    assert len(differences) == 4
    assert plan_ladder(fitted, small).shootable
    assert fit_to_body(LadderSpec("iso", "shutter", METERED), BODY)[1] == ()


@pytest.mark.parametrize("highest", [40000, 50000, 51200, 819200, 1638400, 3276800])
def test_the_last_setting_of_a_dial_is_never_dropped_without_a_word(highest):
    """Whatever is printed at the end of a dial is on it; steps that miss it say so."""
    body = replace(BODY, highest_iso=highest, native_highest_iso=highest, fastest_shutter_s=1 / 64000)
    by_step = {
        step: plan_ladder(LadderSpec("iso", "shutter", Exposure(100, 30.0, 8.0), step=step), body)
        for step in ("third", "full")
    }
    last = {step: plan.rungs[-1].settings.exposure.iso for step, plan in by_step.items()}
    assert last["third"] == highest
    told = [one for one in by_step["full"].advice if f"goes on to ISO {highest}" in one]
    assert bool(told) == (last["full"] < highest)
    assert body.has_iso(highest)
