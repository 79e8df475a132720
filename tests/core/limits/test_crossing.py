"""The first criterion to fail along a ladder, where it crosses its threshold, and what leaves that open."""

import math

import pytest

from yellowjacket.core.limits.crossing import Point, first_failure
from yellowjacket.core.limits.tolerance import profile_from
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing

PROFILE = profile_from("own", {})
CRITERION = PROFILE.criteria[0]


def along(values, key=CRITERION.key):
    return [
        Point(float(n), str(n), {key: Quantity(v, v * 0.9, v * 1.1, 10) if v is not None else missing(Missing.NO_PAIR)})
        for n, v in enumerate(values)
    ]


def only(points):
    profile = PROFILE.__class__(PROFILE.name, (CRITERION,)) if CRITERION else PROFILE
    return first_failure(points, profile, "usable")


def test_the_crossing_is_straight_in_the_logarithm():
    threshold = CRITERION.threshold("usable")
    above, below = (2 * threshold, threshold / 2) if CRITERION.at_least else (threshold / 2, 2 * threshold)
    found = only(along([above, below]))
    assert found.stops == pytest.approx(0.5)
    assert found.low < 0.5 < found.high
    # ±10 % of a value that changes by a factor of four in a stop.
    assert found.high - found.low == pytest.approx((math.log2(1.1) - math.log2(0.9)) / 2, rel=0.05)
    assert (found.last, found.criterion_key) == (0, CRITERION.key)


def test_a_ladder_that_ends_first_is_at_least():
    threshold = CRITERION.threshold("usable")
    good = 2 * threshold if CRITERION.at_least else threshold / 2
    found = only(along([good, good]))
    assert (found.at_least, found.last, found.stops) == (True, 1, None)


def test_what_was_not_read_is_a_doubt_and_never_a_pass():
    threshold = CRITERION.threshold("usable")
    good, bad = (2 * threshold, threshold / 2) if CRITERION.at_least else (threshold / 2, 2 * threshold)
    found = only(along([good, None, bad]))
    assert found.doubts == ("no reading at 1",)
    assert found.last == 0
    assert only(along([None, None])).reason == "nothing measured yet"
    first = only(along([bad, bad]))
    assert (first.last, first.stops) == (None, 0.0)
    assert "lowest rung already" in first.reason
