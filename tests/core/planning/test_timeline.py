import pytest
from hypothesis import given
from hypothesis import strategies as st

from yellowjacket.core.planning.body_limits import BodyLimits, PlanError
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.core.planning.plan import plan_ladder
from yellowjacket.core.planning.shot_order import changes, menu_visits, shots_of
from yellowjacket.core.planning.timeline import Pace, Supply, schedule

BODY = BodyLimits(100, 25600, 100, 25600, 1 / 8000, 30.0)
METERED = Exposure(100, 1 / 8, 8)


def ladder(kind="iso", method="shutter", **changes):
    return plan_ladder(LadderSpec(kind, method, METERED, **changes), BODY)


def test_light_frames_go_up_and_darks_come_down_under_one_cap():
    plan = ladder(picked=(100.0, 200.0), repeats=2, darks=1)
    order = [(shot.kind, plan.rungs[shot.rung_index].key, shot.repeat) for shot in shots_of(plan)]
    assert order == [("light", "100", 1), ("light", "100", 2), ("light", "200", 1), ("light", "200", 2),
                     ("dark", "200", 1), ("dark", "100", 1)]  # fmt: skip


def test_the_closing_repeat_is_the_first_rung_again():
    plan = ladder(picked=(100.0, 200.0), repeats=1, darks=0, closing_repeat=True)
    last = shots_of(plan)[-1]
    assert (last.rung_index, last.repeat, last.closing) == (0, 2, True)


@given(
    st.sampled_from([("iso", "shutter"), ("exposure", "shutter"), ("time", "capped"), ("time", "scene")]),
    st.integers(1, 4), st.integers(0, 3), st.booleans(), st.floats(0, 60),
)  # fmt: skip
def test_every_shot_stands_once_and_times_add_up(kind, repeats, darks, closing, rest_s):
    plan = ladder(*kind, repeats=repeats, darks=darks, closing_repeat=closing, rest_s=rest_s)
    shots = shots_of(plan)
    assert len({(shot.rung_index, shot.kind, shot.repeat) for shot in shots}) == len(shots)
    line = schedule([(plan, Supply(50.0, 90, 700))])
    assert sum(line.spent().values()) == pytest.approx(line.total_s)
    assert line.card_mb == pytest.approx(50.0 * len(shots))
    for before, after in zip(line.entries, line.entries[1:], strict=False):
        assert after.begins_s >= before.ends_s
        assert after.begins_s - after.handling_s == pytest.approx(before.ends_s)


# Common practice, no source: LENR takes a second exposure of the same length; 4 min holds the camera for 8 min.
def test_lenr_holds_the_camera_twice_as_long():
    plan = ladder("time", "capped", picked=(240.0,), lenr="on", repeats=1)
    entry = schedule([(plan, Supply())]).entries[0]
    assert entry.ends_s - entry.begins_s == 480


def test_lenr_below_its_threshold_costs_nothing():
    plan = ladder("time", "scene", picked=(0.5, 2.0), lenr="on", repeats=1, darks=0)
    assert [e.lockup_s for e in schedule([(plan, Supply(lenr_from_s=1.0))]).entries] == [0.0, 2.0]


def test_a_battery_change_falls_before_a_thermal_ladder_not_inside_it():
    supply = Supply(battery_minutes=20)
    first, second = (
        ladder("time", "capped", picked=(240.0,), repeats=2),
        ladder("time", "capped", picked=(240.0,), repeats=4),
    )
    line = schedule([(first, supply), (second, supply)])
    fresh = [n for n, entry in enumerate(line.entries) if entry.fresh_battery]
    # Eight of twenty minutes are used; the second ladder needs sixteen: change at its first shot.
    assert fresh == [2]
    assert line.notes == ()
    assert line.entries[2].handling_s == Pace().ladder_s + Pace().battery_s


def test_a_thermal_ladder_longer_than_a_battery_is_said_to_be_split():
    plan = ladder("time", "capped", picked=(240.0,), repeats=8)
    line = schedule([(plan, Supply(battery_minutes=20))])
    assert [n for n, entry in enumerate(line.entries) if entry.fresh_battery] == [5]
    assert "split before shot 6" in line.notes[0]


def test_what_is_not_known_is_not_invented():
    line = schedule([(ladder(), Supply())])
    assert line.card_mb is None
    assert line.entries[0].battery_share is None


def test_changes_name_what_to_set():
    plan = ladder()
    one, two = plan.rungs[0].settings, plan.rungs[1].settings
    assert [(c.what, c.new) for c in changes(one, two)] == [("ISO", "200"), ("shutter", "1/15 s")]
    assert changes(one, one) == ()
    assert changes(one, one, cap=True)[0].new == "on"
    assert [c.what for c in changes(None, one)] == ["ISO", "shutter", "aperture", "LENR"]


def test_crossing_visits_the_menu_once_per_mode_only():
    body = BodyLimits(100, 25600, 100, 25600, 1 / 8000, 30.0, raw_modes=("full", "small", "tiny"))
    spec = LadderSpec("exposure", "shutter", METERED, crossed=("full", "small", "tiny"), darks=0)
    plan = plan_ladder(spec, body)
    assert menu_visits(plan.rungs, shots_of(plan)) == 2


def test_an_endurance_run_is_one_shot_over_and_over_on_one_battery():
    plan = ladder("time", "endurance", shortest_s=30.0, repeats=200, darks=5)
    shots = shots_of(plan)
    assert [shot.kind for shot in shots] == ["dark"] * 200
    assert len(plan.rungs) == 1
    # 30 s is set as the mark and lasts 32 s: 60 min hold 112 of them.
    supply = Supply(50.0, 60.0, None)
    line = schedule([(ladder(picked=(100.0, 200.0)), supply), (plan, supply)])
    assert [entry.fresh_battery for entry in line.entries].count(True) == 1
    assert line.entries[8].fresh_battery
    assert line.notes == ("Endurance run: a full battery is expected to last 112 of the 200 shots.",)


@pytest.mark.parametrize(("changes", "field"), [({"repeats": 1001}, "repeats"), ({"lenr": "pairs"}, "lenr")])
def test_an_endurance_run_that_cannot_be_is_refused_at_its_field(changes, field):
    with pytest.raises(PlanError) as refused:
        ladder("time", "endurance", **changes)
    assert refused.value.field == field
