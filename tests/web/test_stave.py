"""The stave's own words: heads of columns for every kind of ladder, and which lines a plan shows."""

import pytest

from yellowjacket.bench.models import Body, Ladder, Rung
from yellowjacket.bench.plan.sittings import unsaved_rungs
from yellowjacket.core.planning.body_limits import BodyLimits
from yellowjacket.core.planning.ladder import Exposure, Filter, LadderSpec
from yellowjacket.core.planning.plan import plan_ladder
from yellowjacket.web.plan.views import plan_lines, warnings_by_text
from yellowjacket.web.sheet.stave import Stave, columns_of

BODY = BodyLimits(50, 102400, 100, 25600, 1 / 8000, 30.0)
METERED = Exposure(100, 1 / 8, 8)


def stave(kind, method, **changes):
    plan = plan_ladder(LadderSpec(kind, method, METERED, **changes), BODY)
    ladder = Ladder(body=Body(make="Ostrel", model="Heath"), f_number=8.0, kind=kind, method=method)
    rungs = unsaved_rungs(ladder, plan)
    return Stave(ladder, columns_of(rungs, None), plan_lines(rungs, capped=method == "capped")), rungs


def heads(one):
    return [(column.label, column.sub) for column in one.columns]


def test_iso_columns_show_the_mark_and_the_shutter():
    one, _ = stave("iso", "shutter")
    assert heads(one)[:2] == [("50", "1/4 s"), ("100", "1/8 s")]
    assert one.held == "f/8, by shutter"


def test_exposure_columns_show_stops_and_what_is_held():
    one, _ = stave("exposure", "shutter", under=1, over=1)
    assert heads(one) == [("−1", "1/15 s"), ("0", "1/8 s"), ("+1", "1/4 s")]
    assert one.held == "ISO 100, f/8, by shutter"


def test_time_columns_show_the_time_and_whether_lenr_is_on():
    one, _ = stave("time", "capped", picked=(1.0, 60.0), lenr="pairs")
    assert heads(one) == [("1 s", "no LENR"), ("1 min", "no LENR"), ("1 s", "LENR"), ("1 min", "LENR")]
    assert "expected" not in [line.key for line in one.lines]


def test_setting_columns_show_the_setting():
    one, _ = stave("setting", "noise_reduction", values=("off", "high"))
    assert heads(one) == [("off", "1/8 s"), ("high", "1/8 s")]


@pytest.mark.parametrize(
    ("method", "changes", "lines"),
    [
        ("shutter", {}, {"expected", "rounding", "notes"}), ("lamp", {}, {"lamp", "expected", "rounding", "notes"}),
        ("lamp", {"lux": 500.0}, {"lamp", "lux", "expected", "rounding", "notes"}),
        ("nd", {"filters": (Filter("ND8", 3, 3),)}, {"filter", "expected", "rounding", "notes"}),
    ],
)  # fmt: skip
def test_a_plan_shows_the_lines_it_needs_and_no_empty_one(method, changes, lines):
    one, _ = stave("iso", method, **changes)
    assert {line.key for line in one.lines} == lines
    assert all(len(line.cells) == 12 for line in one.lines)


def test_each_caution_is_told_once_with_the_rungs_it_concerns():
    _, rungs = stave("iso", "shutter")
    told = warnings_by_text(rungs)
    assert [who for who, _ in told] == ["50", "51200, 102400"]
    same = [Rung(label=f"ISO {n}", warnings=[{"code": "x", "short": "x", "text": "mind"}]) for n in range(9)]
    assert warnings_by_text(same) == [("Every rung", "mind")]
    assert warnings_by_text([*same, Rung(label="ISO 9")])[0][0] == "0, 1 … 8 (9 rungs)"


def test_many_columns_are_narrower():
    assert stave("iso", "shutter")[0].column_px > stave("iso", "shutter", step="third")[0].column_px
