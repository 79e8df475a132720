import math
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.profiles import ROUND
from yellowjacket.core.limits.iso_limits import (
    GradedRung,
    Limit,
    RungFindings,
    disagreement_stops,
    graded_limits,
    measured_limits,
)
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA, profile_from
from yellowjacket.core.metrology.estimate import Quantity, missing, with_relative_error
from yellowjacket.core.metrology.notes import Missing

PROFILE = ROUND
ISOS = [100 * 2**n for n in range(8)]


def rungs(grey, shadow=None, drift=None, **others):
    """Rungs from lists of grey SNR, shadow SNR, drift and other criteria; each 1 % uncertain."""
    count = len(grey)
    courses = {
        "grey_snr": grey, "shadow_snr": shadow or [100.0] * count, "neutral_drift": drift or [0.1] * count,
        "chroma_noise": [0.5] * count, "colour_separation": [99.0] * count, "detail": [1.0] * count, **others,
    }  # fmt: skip
    return [
        RungFindings(iso, iso, {key: _known(course[n]) for key, course in courses.items()})
        for n, iso in enumerate(ISOS[:count])
    ]


def _known(value):
    return missing(Missing.CLIPPED) if value is None else with_relative_error(value, 0.01, 1000)


def test_the_limit_is_the_last_mark_that_holds_and_names_what_failed():
    limits = measured_limits(rungs([80, 56, 40, 28, 20, 14, 9.9, 7]), PROFILE)
    assert (limits["clean"].mark, limits["clean"].criterion) == (400, "grey SNR")
    assert limits["usable"].mark == 3200
    assert limits["emergency"].mark == 12800
    assert limits["emergency"].at_least


def test_the_crossing_is_interpolated_in_the_logarithms():
    limits = measured_limits(rungs([80.0, 20.0]), PROFILE)
    # From 80 at ISO 100 to 20 at ISO 200, straight in the logarithms, 40 lies half a stop on.
    assert limits["clean"].crossing == pytest.approx(100 * math.sqrt(2))
    assert limits["clean"].low < limits["clean"].crossing < limits["clean"].high


def test_the_first_criterion_to_fail_decides():
    shadow = [30, 20, 14, 9, 6, 4.5, 3, 2.2]
    limits = measured_limits(rungs([80, 70, 60, 55, 50, 45, 41, 39], shadow), PROFILE)
    assert (limits["clean"].mark, limits["clean"].criterion) == (400, "shadow SNR")


def test_a_criterion_where_less_is_better_can_fail_first():
    limits = measured_limits(rungs([80.0] * 8, drift=[0.1, 0.2, 0.5, 1.5, 3.0, 6.0, 11.0, 20.0]), PROFILE)
    assert [limits[level].mark for level in ("clean", "usable", "emergency")] == [800, 1600, 3200]
    assert limits["clean"].criterion == "neutral drift"


@pytest.mark.parametrize(
    ("course", "marks"),
    [
        ({"chroma_noise": [0.7, 1.0, 1.4, 2.1, 3.0, 5.2, 7.0, 11.0]}, (400, 1600, 6400)),
        ({"colour_separation": [50.0, 30.0, 16.0, 9.0, 6.0, 3.9, 3.0, 1.9]}, (800, 1600, 6400)),
        ({"detail": [1.0, 1.0, 1.0, 0.92, 0.8, 0.65, 0.55, 0.4]}, (800, 1600, 6400)),
    ],
)
def test_every_criterion_of_the_profile_can_be_the_first_to_fail(course, marks):
    limits = measured_limits(rungs([80.0] * 8, **course), PROFILE)
    assert tuple(limits[level].mark for level in ("clean", "usable", "emergency")) == marks
    label = next(c.label for c in DEFAULT_CRITERIA if c.key in course)
    assert {limit.criterion for limit in limits.values()} == {label}


def test_a_criterion_without_readings_says_what_would_give_them():
    found = rungs([80.0, 20.0])
    without = [RungFindings(r.iso, r.mark, {k: q for k, q in r.findings.items() if k != "detail"}) for r in found]
    (doubt,) = measured_limits(without, PROFILE)["clean"].doubts
    assert doubt == "detail has no readings: mark a fine texture on the Measure page"


def test_a_ladder_that_fails_from_the_start_has_no_mark():
    limit = measured_limits(rungs([5.0, 4.5, 4.2]), PROFILE)["clean"]
    assert limit.mark is None
    assert "lowest rung already" in limit.reason


def test_rungs_without_a_reading_leave_a_doubt():
    limit = measured_limits(rungs([80, None, 45, 20]), PROFILE)["clean"]
    assert limit.mark == 400
    assert limit.doubts == ("no reading at ISO 200",)


def test_a_criterion_without_any_reading_is_a_doubt_with_its_reason():
    limit = measured_limits(rungs([80, 20], shadow=[None, None]), PROFILE)["clean"]
    assert "shadow SNR has no readings: clipped" in limit.doubts


def test_nothing_measured_is_said():
    empty = [RungFindings(100, 100, {})]
    assert measured_limits(empty, PROFILE)["usable"].reason == "nothing measured yet"


@given(st.lists(st.floats(0.5, 200), min_size=2, max_size=8))
def test_levels_are_always_in_order_and_inside_the_ladder(grey):
    limits = measured_limits(rungs(grey), PROFILE)
    marks = [limits[level].mark or 0 for level in ("clean", "usable", "emergency")]
    assert marks == sorted(marks)
    for limit in limits.values():
        assert limit.mark is None or limit.mark in ISOS
        if limit.crossing is not None and limit.low is not None:
            assert limit.low <= limit.crossing <= limit.high


def test_grades_give_the_last_mark_before_the_first_worse_one():
    graded = [
        GradedRung(iso, grade, reason)
        for iso, grade, reason in zip(
            ISOS,
            [1, 1, 2, 3, 3, 4, 5, 5],
            ["", "", "grain", "grain", "grain", "colour blotches", "detail gone", ""],
            strict=True,
        )
    ]
    limits = graded_limits(graded)
    assert [(limits[level].mark, limits[level].criterion) for level in limits] == [
        (200, "grain"), (1600, "colour blotches"), (3200, "detail gone"),
    ]  # fmt: skip


def test_ungraded_rungs_below_the_limit_are_doubts():
    limit = graded_limits([GradedRung(100, 1), GradedRung(200, None), GradedRung(400, 2)])["clean"]
    assert limit.doubts == ("not graded at ISO 200",)
    assert graded_limits([GradedRung(100, None)])["clean"].reason == "not graded yet"


def test_what_was_not_graded_is_no_disagreement():
    """One grade at the foot of a ladder says nothing of where it ends."""
    measured = Limit("clean", 6400, 6800.0, 6500.0, 7100.0)
    one_grade = graded_limits([GradedRung(100, 1), GradedRung(6400, None), GradedRung(12800, None)])["clean"]
    assert disagreement_stops(measured, one_grade) is None
    # So far as the ladder goes everything is clean: the numbers may end later, and not earlier.
    held = Limit("clean", 1600, at_least=True)
    assert disagreement_stops(measured, held) is None
    assert disagreement_stops(held, Limit("clean", 400)) == -2.0
    assert disagreement_stops(Limit("clean", 400), held) == 2.0


def test_disagreement_counts_stops_from_measured_to_graded():
    measured = measured_limits(rungs([80, 56, 40, 28]), PROFILE)["clean"]
    graded = graded_limits([GradedRung(100, 1), GradedRung(200, 2)])["clean"]
    assert disagreement_stops(measured, graded) == -2.0
    assert disagreement_stops(measured, graded_limits([GradedRung(100, None)])["clean"]) is None


def test_own_thresholds_replace_the_defaults_and_must_be_in_order():
    own = profile_from("Mine", {"grey_snr": [30, 12, 5]})
    assert own.criteria[0].thresholds == (30, 12, 5)
    assert own.criteria[1:] == DEFAULT_CRITERIA[1:]
    with pytest.raises(ValueError, match="grey SNR: clean, usable and emergency must fall"):
        profile_from("Mine", {"grey_snr": [5, 12, 30]})
    with pytest.raises(ValueError, match="unknown criteria sharpness"):
        profile_from("Mine", {"sharpness": [1, 2, 3]})
    with pytest.raises(ValueError, match="three numbers"):
        profile_from("Mine", {"grey_snr": [5]})


def test_a_use_larger_than_the_picture_is_measured_per_pixel():
    assert use_noise_factor(24_000_000, 6_000_000) == (2.0, "")
    factor, remark = use_noise_factor(24_000_000, 30_000_000)
    assert factor == 1.0
    assert "per pixel" in remark
    assert use_noise_factor(100, None) == (1.0, "")


def test_a_quantity_never_shows_what_is_not_finite():
    assert with_relative_error(float("nan"), 0.1, 5).value is None
    assert Quantity(2.0, 1.0, 3.0).scaled(2.0) == Quantity(4.0, 2.0, 6.0)


@pytest.mark.parametrize("error", [-2.0, 1.5])
def test_a_rung_exposed_off_by_stops_is_named_and_does_not_decide(error):
    """Two stops under, ISO 400 looks as bad as ISO 1600: the limit is where the others put it."""
    course = [100.0 / 1.4**n for n in range(8)]
    right = measured_limits(rungs(course), PROFILE)
    spoiled = [*course[:2], 1.0, *course[3:]]
    off = [replace(rung, error_stops=error if n == 2 else 0.1) for n, rung in enumerate(rungs(spoiled))]
    for level, limit in measured_limits(off, PROFILE).items():
        assert limit.mark == right[level].mark
        assert limit.doubts[0].startswith(f"ISO 400 was exposed {error:+.1f} stops off".replace("-", "−"))
        assert limit.doubts[0].endswith("it does not decide, unless Check is told that it is right")
    # A third of a stop is no reason, and whoever says that it is right is heard.
    for error_stops in (1 / 3, None):
        told = [replace(rung, error_stops=error_stops) for rung in rungs(spoiled)]
        assert measured_limits(told, PROFILE)["clean"].mark == 200
        assert measured_limits(told, PROFILE)["clean"].doubts == ()
