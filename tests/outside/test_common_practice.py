"""What testers call clean, usable and the last resort, looking pixel by pixel, on bodies with as many pixels on as much sensor as
theirs: the defaults must come out there (common practice, no source; the bodies are invented)."""

import math
from itertools import pairwise

import numpy as np
import pytest

from yellowjacket.benchmarks.truths.practice import (
    FULL_FRAME_45,
    NEAR_STOPS,
    PRACTICE,
    SMALLER_26,
    ladder_of,
    limits_of,
)
from yellowjacket.core.limits.tolerance import LEVELS, Profile, profile_from

pytestmark = pytest.mark.outside


@pytest.fixture(scope="module", params=[FULL_FRAME_45, SMALLER_26], ids=lambda body: body.key)
def ladder(request):
    """Readings of every full stop at correct exposure, and the body."""
    return request.param, ladder_of(request.param, np.random.default_rng(27))


def test_the_defaults_come_out_where_testers_do(ladder):
    body, readings = ladder
    found = limits_of(readings, Profile("Default"))
    for level, iso in zip(LEVELS, PRACTICE[body.key], strict=True):
        assert abs(math.log2(found[level].crossing / iso)) < NEAR_STOPS, (level, found[level])


def test_every_size_has_limits_of_its_own_and_the_smaller_the_picture_the_higher(ladder):
    _, readings = ladder
    at = [limits_of(readings, Profile("Default"), use)["usable"].crossing for use in ("", "print", "web")]
    assert all(smaller > 1.05 * larger for larger, smaller in pairwise(at))


def test_colours_are_told_apart_less_with_every_stop(ladder):
    _, readings = ladder
    for use in ("", "print", "web"):
        apart = [
            one.result.value
            for rows in readings.values()
            for one in rows
            if one.quantity == "colour_separation" and one.use == use
        ][:7]
        assert all(1.2 < before / after < 1.8 for before, after in pairwise(apart))


def test_the_standard_asks_for_more_of_a_pixel_than_testers_do(ladder):
    """Grey SNR 40 and 10 of ISO 12232 (from memory): its excellent picture ends two stops under what testers call clean."""
    _, readings = ladder
    alone = dict.fromkeys(("shadow_snr", "chroma_noise", "colour_separation", "detail"))
    standard = limits_of(readings, profile_from("After ISO 12232", {"grey_snr": [40, 10, 4], **alone}))
    own = limits_of(readings, Profile("Default"))
    assert standard["clean"].crossing < own["clean"].crossing / 3
