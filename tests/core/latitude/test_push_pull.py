"""Push and pull limits, casts, and ISO against push, against closed forms and counted pixels."""

import math

import numpy as np
import pytest

from tests import making
from tests.profiles import ROUND
from yellowjacket.core.colour.cast import cast_of
from yellowjacket.core.latitude.iso_invariance import IsoNoise, ShadowNoise, highlight_gained, invariant_from, penalties
from yellowjacket.core.latitude.push_pull import (
    ExposedRung,
    PatchChannel,
    clips_at,
    first_to_clip,
    pull_limits,
    push_limits,
)
from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA
from yellowjacket.core.metrology.estimate import Quantity, missing, with_error, with_relative_error
from yellowjacket.core.metrology.notes import Missing

PROFILE = ROUND


def rung(stops, shadow, drift=0.5):
    findings = {
        "shadow_snr": with_relative_error(shadow, 0.01, 900),
        "neutral_drift": with_relative_error(drift, 0.02, 900),
    }
    findings |= {"grey_snr": with_relative_error(99.0, 0.01, 9), "chroma_noise": with_relative_error(0.5, 0.01, 9)}
    findings |= {"colour_separation": with_relative_error(99.0, 1e-3, 9), "detail": with_relative_error(1.0, 1e-3, 9)}
    return ExposedRung(with_error(stops, 0.004, 99), f"{stops:+.0f}", findings)


def test_the_push_limit_is_interpolated_over_measured_stops():
    # Shot noise alone: SNR falls by √2 a stop. From 16 at the correct exposure the clean bar of 10 is met at 2·log2(1.6).
    rungs = [rung(-n, 16 / math.sqrt(2) ** n) for n in range(6)]
    limits = push_limits(rungs, PROFILE)
    assert limits["clean"].stops == pytest.approx(2 * math.log2(1.6), abs=1e-6)
    assert limits["clean"].criterion == "shadow SNR"
    assert limits["clean"].mark == "-1"
    assert limits["clean"].low < limits["clean"].stops < limits["clean"].high
    assert limits["usable"].stops == pytest.approx(2 * math.log2(4), abs=1e-6)


def test_steps_count_as_measured_and_not_as_planned():
    rungs = [rung(0, 40.0), rung(-0.97, 30.0), rung(-2.7, 8.0)]
    found = push_limits(rungs, PROFILE)["clean"].stops
    share = math.log2(30 / 10) / math.log2(30 / 8)
    assert found == pytest.approx(0.97 + share * (2.7 - 0.97), abs=1e-6)


def test_a_cast_can_end_a_push_before_noise_does():
    rungs = [rung(-n, 60.0, drift) for n, drift in enumerate((0.1, 0.4, 1.0, 3.0, 6.0))]
    limit = push_limits(rungs, PROFILE)["clean"]
    assert limit.criterion == "neutral drift"
    assert 2 < limit.stops < 3


def test_a_ladder_that_ends_first_is_at_least_and_frames_over_are_no_pushes():
    limits = push_limits([rung(3, 1.0), rung(0, 60.0), rung(-1, 50.0), rung(-2, 45.0)], PROFILE)
    assert limits["clean"].at_least
    assert limits["clean"].stops == 2.0
    assert limits["clean"].high is None


def test_a_correct_frame_that_fails_already_has_no_push():
    limit = push_limits([rung(0, 5.0), rung(-1, 3.0)], PROFILE)["clean"]
    assert limit.stops is None
    assert "fails on the lowest rung already" in limit.reason


def part(signal=1600.0, clip=15000.0, stops=0.0, gain=2.0, read=3.0, prnu=0.006):
    return PatchChannel(
        with_error(stops, 0.003, 9), with_error(signal, 0.5, 9000), Quantity(clip, clip, clip, 9),
        with_relative_error(gain, 0.004, 9), read, prnu,
    )  # fmt: skip


@pytest.mark.parametrize(("signal", "gain"), [(1600.0, 2.0), (6000.0, 0.3), (400.0, 0.05)])
def test_a_patch_clips_where_a_thousandth_of_its_pixels_do(signal, gain):
    """The stop found, tried out: pixels drawn at that exposure, those at the clip point counted."""
    one = part(signal=signal, gain=gain)
    found = clips_at(one)
    mean = signal * 2.0**found.value
    rng = np.random.default_rng(1)
    response = rng.normal(1, one.prnu, 2_000_000)
    pixels = rng.normal(mean * response, np.sqrt(mean / gain + one.read_noise_dn**2))
    assert np.mean(pixels > 15000) == pytest.approx(1e-3, rel=0.1)


def test_the_pull_limit_is_told_from_the_brightest_rung_that_is_whole():
    # Seen from one stop over or from the correct frame it is the same.
    near, far = clips_at(part(signal=3200.0, stops=1.0)), clips_at(part(signal=1600.0))
    assert near.value == pytest.approx(far.value, abs=1e-5)


def test_the_first_channel_to_clip_decides():
    found, name = first_to_clip({"R": part(800.0), "G1": part(1600.0), "B": part(1200.0)})
    assert name == "G1"
    assert found.value == clips_at(part(1600.0)).value
    nothing, name = first_to_clip(
        {
            "R": PatchChannel(
                missing(Missing.NOT_MEASURED),
                missing(Missing.CLIPPED),
                missing(Missing.NOT_MEASURED),
                missing(Missing.NOT_MEASURED),
                1.0,
            )
        }
    )
    assert nothing.has(Missing.CLIPPED)


def test_pulls_end_at_the_highlight_or_at_a_cast_before_it():
    highlight = with_error(2.4, 0.02, 9000)
    rungs = [rung(n, 60.0, drift) for n, drift in enumerate((0.1, 0.5, 3.0, 9.0))]
    limits = pull_limits(highlight, "G1", rungs, PROFILE)
    assert 1 < limits["clean"].stops < 2
    assert limits["clean"].criterion == "neutral drift"
    assert limits["emergency"].stops == 2.4
    assert limits["emergency"].criterion == "highlight clips in G1"
    assert pull_limits(with_error(-0.2, 0.01, 9), "R", rungs, PROFILE)["clean"].stops is None
    assert DEFAULT_CRITERIA[3].key == "neutral_drift"


def levels(scale=1.0, offsets=(0, 0, 0, 0), error=0.05):
    grey = 2000 * np.array([0.55, 1, 1, 0.7]) * scale + np.array(offsets)
    return {c: with_error(v, error, 4000) for c, v in zip(("R", "G1", "G2", "B"), grey, strict=True)}


@pytest.mark.parametrize(
    ("offsets", "word"),
    [((0, 8, 8, 0), "green"), ((6, 0, 0, 6), "magenta"), ((0, 0, 0, 9), "blue"), ((5, 5, 5, 0), "yellow")],
)
def test_a_cast_has_a_strength_and_a_direction(offsets, word):
    found, direction = cast_of(levels(1 / 16, offsets), levels(), making.MATRIX)
    assert found.low > 1
    assert direction == word


def test_a_push_without_black_error_has_no_cast():
    found, direction = cast_of(levels(1 / 16), levels(), making.MATRIX)
    assert "not distinguishable" in found.reason
    assert direction == ""
    assert cast_of({"R": missing(Missing.CLIPPED)}, levels(), making.MATRIX)[0].has(Missing.CLIPPED)


def noise(iso, read_e, full=48000.0, patches=()):
    """A body at an ISO, exactly; ``patches``: electrons of patches shot in the common light."""
    gain = 3.3 * 100 / iso
    seen = {}
    for n, electrons in enumerate(patches):
        sigma = math.sqrt(electrons + read_e**2) / gain
        seen[f"p{n}", "G1"] = ShadowNoise(
            with_relative_error(electrons / gain, 1e-3, 4000), with_relative_error(sigma, 0.004, 4000)
        )
    return IsoNoise(
        iso, with_relative_error(read_e, 0.005, 9999), with_relative_error(full * 100 / iso, 0.003, 9),
        with_relative_error(gain, 0.003, 9), seen,
    )  # fmt: skip


def exact(read_a, read_b, level):
    return 0.5 * math.log2((read_a**2 + level) / (read_b**2 + level))


def test_the_penalty_of_pushing_is_the_closed_form():
    found = penalties([noise(100, 7.0), noise(400, 3.0), noise(1600, 1.3)])
    assert [(p.shot_iso, p.wanted_iso) for p in found] == [(100, 400), (100, 1600), (400, 1600)]
    for p, (a, b) in zip(found, ((7.0, 3.0), (7.0, 1.3), (3.0, 1.3)), strict=True):
        assert p.level_e == pytest.approx(0.127 * 48000 * 100 / p.wanted_iso / 16)
        assert p.stops.value == pytest.approx(exact(a, b, p.level_e))
        assert p.kind == "predicted"


def test_where_both_were_shot_the_penalty_is_measured_and_agrees():
    # A patch half a stop over the level is moved to it along the noise model.
    level = 0.127 * 48000 * 100 / 1600 / 16
    found = penalties([noise(100, 7.0, patches=(level * 1.4, 9999)), noise(1600, 1.3, patches=(level * 1.4, 9999))])
    assert found[0].kind == "measured"
    assert found[0].stops.value == pytest.approx(exact(7.0, 1.3, level), abs=1e-6)
    assert found[0].stops.se < 0.03


def test_invariance_begins_where_no_push_costs_more_than_allowed():
    rungs = [noise(100, 7.0), noise(200, 4.2), noise(800, 1.35), noise(1600, 1.28), noise(6400, 1.22)]
    found = invariant_from(rungs, penalties(rungs))
    assert found.from_iso.value == 800
    assert not found.undecided
    assert found.highlight_stops.value == pytest.approx(3.0)
    assert found.worst.value < 0.25


def test_a_body_whose_every_push_costs_is_invariant_nowhere():
    rungs = [noise(100 * 4**n, 14.0 / 2**n) for n in range(4)]
    found = invariant_from(rungs, penalties(rungs))
    assert found.from_iso.value is None
    assert "every push costs more" in found.from_iso.reason


def test_an_interval_across_the_bar_is_undecided():
    wide = IsoNoise(100, with_relative_error(3.45, 0.1, 9), noise(100, 2.0).saturation_e, noise(100, 2.0).gain, {})
    rungs = [wide, noise(1600, 1.2)]
    found = invariant_from(rungs, penalties(rungs))
    assert found.undecided
    assert "either side of the bar" in found.from_iso.reason


def test_highlights_gained_are_the_ratio_of_saturations():
    assert highlight_gained(noise(100, 5), noise(800, 1)).value == pytest.approx(3.0)
