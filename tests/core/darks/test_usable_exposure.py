"""How long a body may expose, what LENR buys, and how many darks a stack wants."""

import math

import numpy as np
import pytest

from tests import darks
from yellowjacket.core.darks.exposure_group import DarkGroup, measured
from yellowjacket.core.darks.hot_pixels import hot_pixels, standing_at
from yellowjacket.core.darks.lenr import darks_wanted, lenr_times, lenr_verdict
from yellowjacket.core.darks.usable_exposure import (
    ANSWERS,
    AS_SHOT,
    REPAIRED,
    WITH_LENR,
    WITH_MASTER,
    Counted,
    Course,
    Shadow,
    by_channel,
    courses,
    growth,
    left_after_darks,
    lifted_signal_e,
    longest,
    per_area,
)
from yellowjacket.core.limits.tolerance import LONG_CRITERIA, Profile, profile_from
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.intervals import density

RATES = [0.6 * 1.25**n for n in range(24)]
HOT = [(12 + 15 * n, 20 + (7 * n) % 200, rate) for n, rate in enumerate(RATES)]
HOT_ONLY = LONG_CRITERIA[:1]


def findings(rng, seconds, celsius=20.0, lenr=False, count=2):
    frames = darks.frames(rng, count, seconds=seconds, rate_e=0.1, hot=HOT)
    if lenr:
        for frame in frames:
            other = darks.dark(rng, seconds, 0.1, HOT).astype(np.int32)
            frame.mosaic[:] = np.clip(frame.mosaic.astype(np.int32) - other + 512, 0, 16383)
    return measured(DarkGroup(seconds, celsius, ("a.dng",) * count, lenr), frames, darks.GAIN)


def power_course(power=0.5, at_minute=100.0):
    times = (1.0, 4.0, 15.0, 60.0, 240.0)
    return Course(tuple(Counted(t, density(at_minute * (t / 60) ** power, 1.0)) for t in times))


def test_counts_are_read_off_between_times():
    course = power_course()
    assert course.at(30.0) == pytest.approx(100 * 0.5**0.5, rel=0.01)
    assert course.at(0.25) == pytest.approx(100 * (0.25 / 60) ** 0.5, rel=0.01)
    assert course.at(960.0) == pytest.approx(400, rel=0.01)
    # Past the last dark the interval widens with every stop.
    spread_at = [course.at(t, "high") / course.at(t, "low") for t in (240.0, 960.0)]
    assert spread_at[1] > spread_at[0] * 1.5


def test_the_time_at_which_the_profile_gives_out():
    found = longest(AS_SHOT, power_course(), None, HOT_ONLY, "usable")
    assert found.seconds == pytest.approx(60.0, rel=0.02)
    assert found.low < 60 < found.high
    assert found.criterion == "hot pixels per megapixel"
    assert not found.beyond
    later = longest(AS_SHOT, power_course(at_minute=30.0), None, HOT_ONLY, "usable")
    assert later.seconds == pytest.approx(60 * (100 / 30) ** 2, rel=0.02)
    assert later.beyond
    assert "past the longest dark" in later.quantity.reason


def test_warmth_shortens_it_as_it_gathers():
    plain = longest(AS_SHOT, power_course(), None, HOT_ONLY, "usable", celsius=20.0, reference_c=20.0)
    warm = longest(AS_SHOT, power_course(), None, HOT_ONLY, "usable", celsius=26.0, reference_c=20.0, doubling_se_c=0.5)
    assert warm.seconds == pytest.approx(plain.seconds / 2)
    assert warm.high / warm.low > plain.high / plain.low


def test_the_lifted_shadow_ends_it_where_hot_pixels_do_not():
    # S = 40 e⁻, R = 3 e⁻, 1 e⁻/s: SNR 2 where 40/√(49 + t) = 2, at t = 351 s.
    shadow = Shadow(40.0, 3.0, Quantity(1.0, 0.95, 1.05, 100))
    few = power_course(at_minute=0.5)
    found = longest(AS_SHOT, few, shadow, LONG_CRITERIA, "usable")
    assert found.seconds == pytest.approx((40 / 2) ** 2 - 49, rel=1e-3)
    assert found.criterion == "lifted-shadow SNR"
    assert found.low == pytest.approx(found.seconds / 1.05, rel=0.01)
    # LENR adds the same noise once more: 40 + 2 (9 + t) = 400.
    assert longest(WITH_LENR, few, shadow, LONG_CRITERIA, "usable").seconds == pytest.approx(171, rel=0.01)
    # At a use's size SNR is f times as high.
    assert longest(AS_SHOT, few, shadow, LONG_CRITERIA, "usable", factor=2.0).seconds > 4 * found.seconds


def counted(*per_mpix, times=(1.0, 4.0, 15.0, 60.0, 240.0), megapixels=1.0):
    return Course(tuple(Counted(t, density(n, megapixels)) for t, n in zip(times, per_mpix, strict=True)))


def test_more_time_never_makes_fewer_hot_pixels():
    """Counts that scatter about a course that stays: the first failure counts, and no interval reaches over the whole night."""
    course = counted(80, 130, 95, 140, 400)
    found = [course.at(t) for t in (1.0, 2.0, 4.0, 8.0, 15.0, 60.0, 240.0)]
    assert found == sorted(found)
    assert course.at(4.0) == course.at(15.0) == pytest.approx((130**2 + 95**2) / (130 + 95), rel=1e-6)
    along = np.geomspace(1, 240, 30)
    lows, values, highs = ([course.at(t, end) for t in along] for end in ("low", "value", "high"))
    assert lows == sorted(lows)
    assert highs == sorted(highs)
    assert all(low <= value <= high for low, value, high in zip(lows, values, highs, strict=True))
    ended = longest(AS_SHOT, course, None, HOT_ONLY, "usable")
    assert 1.0 < ended.low < ended.seconds < ended.high < 60


def test_where_the_darks_cannot_say_it_is_not_known_and_which_times_would_tell():
    # Around the threshold over most of the ladder: anything from the first seconds to the minutes.
    flat = longest(AS_SHOT, counted(92, 95, 99, 104, 110), None, HOT_ONLY, "usable")
    assert (flat.seconds, flat.known) == (None, False)
    assert flat.to_shoot[0] < 4 < 60 < flat.to_shoot[1]
    assert "shoot darks between" in flat.reason
    # Far past the longest dark: a course that goes on as it did is no measurement.
    far = longest(AS_SHOT, counted(1, 2, times=(1.0, 4.0), megapixels=0.1), None, HOT_ONLY, "emergency")
    assert not far.known
    assert far.to_shoot[0] == 4.0


def test_two_criteria_that_may_both_end_it_are_both_named():
    shadow = Shadow(40.0, 3.0, Quantity(6.0, 4.0, 8.0, 100))
    found = longest(AS_SHOT, power_course(), shadow, LONG_CRITERIA, "usable")
    assert found.criterion == "lifted-shadow SNR or hot pixels per megapixel"


def test_hot_pixels_at_another_temperature_have_a_doubling_of_their_own():
    """Seven degrees off, hot pixels that double every 5 °C where ordinary ones do every 6: inside the interval."""
    found = longest(AS_SHOT, power_course(), None, HOT_ONLY, "usable", celsius=27.0, reference_c=20.0)
    assert found.low < 60 / 2 ** (7 / 5) < found.high
    near = longest(AS_SHOT, power_course(), None, HOT_ONLY, "usable", celsius=20.0, reference_c=20.0)
    assert found.high / found.low > near.high / near.low


def test_nothing_can_hold_and_nothing_can_fail():
    none = longest(AS_SHOT, power_course(at_minute=1e6), None, HOT_ONLY, "clean")
    assert none.seconds is None
    assert none.quantity.reason == "already over the limit at 1/8 s; limited by hot pixels per megapixel"
    all_night = longest(
        AS_SHOT, Course(tuple(Counted(t, density(0, 1.0)) for t in (1.0, 60.0))), None, HOT_ONLY, "usable"
    )
    assert all_night.seconds == 60.0
    assert "at least" in all_night.quantity.reason
    assert "two or more exposure times" in longest(AS_SHOT, Course(()), None, HOT_ONLY, "usable").reason


def test_four_answers_in_their_order(rng):
    off = [(t, findings(rng, t)) for t in (4.0, 15.0, 60.0)]
    found = courses(off, [], darks.GAIN, 1.0)
    assert set(found) == set(ANSWERS)
    assert not found[WITH_LENR].measured
    last = {answer: course.points[-1].per_mpix.value for answer, course in found.items()}
    assert last[AS_SHOT] > last[WITH_LENR] >= last[WITH_MASTER]
    assert last[AS_SHOT] > last[REPAIRED]
    on = [(t, findings(rng, t, lenr=True)) for t in (4.0, 15.0, 60.0)]
    assert courses(off, on, darks.GAIN, 1.0)[WITH_LENR].measured


def test_what_a_dark_leaves_is_predicted(rng):
    """The expectation against hot pixels that are subtracted for good, over many seeds."""
    expected, seen = 0.0, 0
    for _ in range(12):
        frames = darks.frames(rng, 3, seconds=60.0, rate_e=0.1, hot=HOT)
        table = hot_pixels(frames[:2], darks.GAIN)
        expected += left_after_darks(table, darks.GAIN, 1)
        rows = table.of(("hot", "stuck"))
        residual = frames[2].mosaic.astype(int) - frames[0].mosaic
        bar = 8 * rows["sigma_dn"] * math.sqrt(2)
        seen += int((np.abs(residual[rows["y"], rows["x"]]) > bar).sum())
    assert seen > 10
    assert expected == pytest.approx(seen, abs=3 * math.sqrt(seen + expected))
    # The pixel's own shot noise stays, however many darks are averaged.
    assert left_after_darks(table, darks.GAIN, 16) == pytest.approx(left_after_darks(table, darks.GAIN, 1))
    with pytest.raises(ValueError, match="one dark"):
        left_after_darks(table, darks.GAIN, 0)


def test_the_growth_law_is_a_power():
    found = growth(power_course(power=0.4))
    assert found.power.value == pytest.approx(0.4, abs=0.01)
    assert found.power.low < 0.4 < found.power.high
    assert found.at_minute == pytest.approx(100, rel=0.02)
    assert "three or more exposure times" in growth(Course(power_course().points[:2])).power.reason


def test_counts_by_area_and_colour(rng):
    # A pitch of 4 µm: a megapixel covers 16 mm².
    assert per_area(density(160, 1.0), 4.0).value == pytest.approx(10.0)
    assert per_area(density(160, 1.0), None).value is None
    table = hot_pixels(darks.frames(rng, hot=[(100, 50, 3.0), (140, 90, 3.0), (101, 50, 3.0)]), darks.GAIN)
    assert by_channel(table) == {"R": 2, "G1": 1, "G2": 0, "B": 0}


def test_thresholds_of_long_exposures_belong_to_the_profile():
    own = profile_from("mine", {"hot_pixels": [1, 5, 50]})
    assert own.long_exposure[0].thresholds == (1.0, 5.0, 50.0)
    assert own.criteria == Profile("x").criteria
    with pytest.raises(ValueError, match="rise"):
        profile_from("mine", {"hot_pixels": [50, 5, 1]})
    # Saturation 32000 e⁻: grey at 12.7 %, five stops under it.
    assert lifted_signal_e(32_000) == pytest.approx(127.0)


# LENR


def test_lenr_takes_hot_pixels_and_adds_noise(rng):
    times = (4.0, 60.0)
    rows = lenr_times([findings(rng, t) for t in times], [findings(rng, t, lenr=True) for t in times])
    assert [row.exposure_s for row in rows] == [4.0, 60.0]
    last = rows[-1]
    assert last.at_work
    assert last.removed.value > 0.6
    assert last.removed.low < last.removed.value < last.removed.high
    # One dark taken off adds the frame's own variance once more.
    assert last.noise_ratio.value == pytest.approx(math.sqrt(2), rel=0.05)
    assert last.cost_s == 60.0


def test_the_verdict_names_the_time_from_which_it_pays(rng):
    # At 1/4 s none of these pixels stands out yet.
    times = (0.25, 60.0)
    rows = lenr_times([findings(rng, t) for t in times], [findings(rng, t, lenr=True) for t in times])
    found = lenr_verdict(rows, HOT_ONLY[0], "usable")
    assert found.from_s == 60.0
    assert (
        found.words == "worth it from 1 min at 20 °C (it begins between 1/4 s and 1 min); below that it only costs time"
    )
    lenient = profile_from("x", {"hot_pixels": [1000, 2000, 3000]}).long_exposure[0]
    assert "only costs time" in lenr_verdict(rows, lenient, "usable").words
    assert "both off and on yet" in lenr_verdict([], HOT_ONLY[0], "usable").words


def test_lenr_that_was_off_all_along_is_noticed(rng):
    rows = lenr_times([findings(rng, 60.0)], [findings(rng, 60.0)])
    assert not rows[0].at_work
    assert rows[0].cost_s == 0
    assert "was it on?" in lenr_verdict(rows, HOT_ONLY[0], "usable").words


def test_times_without_a_partner_are_left_out(rng):
    assert lenr_times([findings(rng, 60.0)], [findings(rng, 15.0, lenr=True)]) == []
    assert lenr_times([findings(rng, 60.0)], [findings(rng, 60.0, lenr=True, count=1)]) == []


def test_noise_of_darks_in_a_stack():
    """One dark off one frame: √2. M darks add 1/M. The same master under N frames does not average out."""

    def growth(darks: int, stacked: int) -> float:
        return math.sqrt(1 + stacked / darks)

    assert growth(1, 1) == pytest.approx(math.sqrt(2))
    assert growth(darks_wanted(20), 20) <= 1.05 < growth(darks_wanted(20) - 1, 20)


def test_a_larger_picture_hides_fewer(rng):
    table = findings(rng, 60.0).pixels
    assert standing_at(table, 1.0) >= standing_at(table, 3.0)
