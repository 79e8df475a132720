"""Advice: predictions from a body's findings, held-out rungs, options in order, and the meter's arithmetic."""

import math
from dataclasses import replace

import numpy as np
import pytest

from yellowjacket.core.colour.colorimetry import SRGB_TO_XYZ, neutral_under
from yellowjacket.core.limits.ending import fails
from yellowjacket.core.limits.exposure_advice import (
    NOT_USABLE,
    Asked,
    BodyFindings,
    MarkFindings,
    at_iso,
    ev100_of_lux,
    faster_by,
    in_light,
    iso_for,
    option_at,
    options,
    predicted,
)
from yellowjacket.core.limits.iso_limits import Limit
from yellowjacket.core.limits.tolerance import Profile
from yellowjacket.core.metrology.estimate import Quantity, with_error
from yellowjacket.core.metrology.notes import Note, Remark
from yellowjacket.simcam.bodies import BODIES, HEATH
from yellowjacket.simcam.sensor import Lamp, neutral_response

PROFILE = Profile("default")


def findings(body, marks=(100, 200, 400, 800, 1600, 3200, 6400, 12800), without=()):
    """A simulated body's own numbers, as exact findings."""
    return BodyFindings([
        MarkFindings(
            mark, float(mark), with_error(body.read_noise_e(mark), 0.01, 99), with_error(body.saturation_e(mark), 1.0, 99),
        )
        for mark in marks if mark not in without and body.lowest_iso <= mark <= body.highest_iso
    ])  # fmt: skip


def test_the_meter():
    """Sunny-16 (common practice, no source): ISO 100, 1/100 s, f/16 is EV 14.6; 2.5 lux is EV 0 (ISO 2720; from memory)."""
    assert iso_for(16, 1 / 100, math.log2(16**2 * 100)) == pytest.approx(100)
    assert ev100_of_lux(2.5) == 0
    assert ev100_of_lux(81_920) == pytest.approx(15)
    # One stop faster is one stop more ISO.
    assert iso_for(8, 1 / 250, 8) / iso_for(8, 1 / 125, 8) == pytest.approx(2)
    for bad in ((0, 1, 1), (8, 0, 1)):
        with pytest.raises(ValueError, match="positive"):
            iso_for(*bad)
    with pytest.raises(ValueError, match="more than 0 lux"):
        ev100_of_lux(0)


@pytest.mark.parametrize("key", list(BODIES))
def test_held_out_rungs_are_predicted_within_a_tenth_of_a_stop(key):
    """Leave one rung out: SNR of grey from its neighbours against the sensor's own numbers (the second base is a step, so the
    rungs beside it are left aside)."""
    body = BODIES[key]
    base = 200 if body.lowest_iso > 100 else 100
    marks = [mark for mark in (base * 2**n for n in range(7)) if mark <= body.highest_iso]
    step = [mode.from_iso for mode in body.gain_modes[1:]]
    for mark in marks[1:-1]:
        if any(mark / 2.1 < iso <= mark * 2.1 for iso in step):
            continue
        part = findings(body, marks, without=(mark,))
        got = predicted(part, mark, mark)
        saturation, read = body.saturation_e(mark), body.read_noise_e(mark)
        for name, n in (("grey_snr", 0.127 * saturation), ("shadow_snr", 0.127 * saturation / 8)):
            truth = n / math.sqrt(n + read**2)
            assert abs(math.log2(getattr(got, name).value / truth)) < 0.1, (mark, name)
        assert got.remarks[0].kind is Remark.BETWEEN


def test_brightening_changes_no_snr_where_read_noise_does_not_matter():
    body = BodyFindings([
        MarkFindings(mark, float(mark), with_error(1.0, 0.01, 9), with_error(50_000 * 100 / mark, 1.0, 9))
        for mark in (100, 400, 1600)
    ])  # fmt: skip
    shots = [predicted(body, mark, 1600) for mark in (100, 400, 1600)]
    assert shots[0].grey_snr.value == pytest.approx(shots[2].grey_snr.value, rel=1e-6)
    # Four stops under keep four stops of highlights.
    assert shots[0].highlight_stops.value - shots[2].highlight_stops.value == pytest.approx(4)


def test_poisson_alone_gives_root_two_a_stop():
    body = BodyFindings([MarkFindings(100, 100.0, with_error(1e-6, 1e-9, 9), with_error(80_000.0, 1.0, 9))])
    full, half = predicted(body, 100, 100), predicted(body, 100, 200)
    assert full.grey_snr.value / half.grey_snr.value == pytest.approx(math.sqrt(2), rel=1e-6)
    assert predicted(body, 100, 100, noise_factor=3.0).grey_snr.value == pytest.approx(3 * full.grey_snr.value)


def test_long_exposures_add_their_dark_signal_or_say_that_it_is_unknown():
    known = BodyFindings(findings(HEATH).marks, dark_e_per_s=5.0)
    short, long = predicted(known, 800, 800, 0.1), predicted(known, 800, 800, 240)
    assert long.shadow_snr.value < 0.9 * short.shadow_snr.value
    assert predicted(findings(HEATH), 800, 800, 60).remarks == (Note(Remark.WITHOUT_DARK_SIGNAL),)


def test_extrapolation_is_said_and_ends():
    body = findings(HEATH, marks=(800, 1600))
    found, remarks = at_iso(body, 3200)
    assert found is not None
    assert str(remarks[0]) == "extrapolated by 1.0 stop from ISO 1600"
    got = predicted(body, 25600, 25600)
    assert got.grey_snr.value is None
    assert "stops beyond ISO 1600" in got.grey_snr.reason
    assert at_iso(BodyFindings([]), 100)[0] is None


def test_a_smoothed_mark_is_pointed_out():
    mark = findings(HEATH, marks=(800,)).marks[0]
    body = BodyFindings([MarkFindings(mark.mark, mark.iso, mark.read_noise_e, mark.saturation_e, smoothed=True)])
    assert predicted(body, 800, 800).remarks[0].kind is Remark.SMOOTHED_THERE


def asked(**more):
    return Asked(PROFILE, **more)


def test_without_readings_levels_follow_the_model():
    """SNR 40 and 10 are the two noise criteria of ISO 12232 (from memory)."""
    body = findings(HEATH)
    assert option_at(body, 100, 100, 100, asked()).level == "clean"
    assert option_at(body, 12800, 12800, 204_800, asked()).level == NOT_USABLE
    option = option_at(body, 12800, 12800, 12800, asked())
    assert option.level in ("usable", "emergency")
    assert option.held_by in ("grey SNR", "shadow SNR")


def seen(body, **by_mark):
    """The same body with readings at its marks: {criterion: value at ISO 100}, noise growing with the root of ISO."""
    marks = [
        replace(
            one, seen={key: with_error(value * math.sqrt(one.mark / 100), 0.01, 99) for key, value in by_mark.items()}
        )
        for one in body.marks
    ]
    return BodyFindings(marks)


def test_a_mark_that_is_shot_as_wanted_has_what_was_read_of_it():
    body = seen(findings(HEATH), chroma_noise=0.4)
    own = next(one for one in body.marks if one.mark == 1600)
    option = option_at(body, 1600, 1600, 1600, asked())
    assert option.seen["chroma_noise"] == own.seen["chroma_noise"]
    noisy = seen(findings(HEATH), chroma_noise=2.0)
    assert option_at(noisy, 6400, 6400, 6400, asked()).held_by == "chroma noise"


def test_a_push_adds_noise_of_colour_and_its_cast():
    body = seen(findings(HEATH), chroma_noise=0.4, neutral_drift=0.1)
    shot, pushed = option_at(body, 6400, 6400, 6400, asked()), option_at(body, 800, 800, 6400, asked())
    by = shot.prediction.grey_snr.value / pushed.prediction.grey_snr.value
    assert by > 1
    assert pushed.seen["chroma_noise"].value == pytest.approx(by * shot.seen["chroma_noise"].value)
    magenta = asked(cast_at=lambda stops: with_error(8 * stops, 0.1, 9))
    cast = option_at(body, 800, 800, 6400, magenta)
    assert cast.seen["neutral_drift"].value == pytest.approx(math.hypot(24, 0.8))
    assert cast.held_by == "neutral drift"
    assert option_at(body, 6400, 6400, 6400, magenta).seen["neutral_drift"] == shot.seen["neutral_drift"]


def test_nothing_is_graded_better_than_the_record_lets_it():
    """A smoothed mark reads well; the record has ended below it, and advice does not begin again."""
    limits = {
        "clean": Limit("clean", 800, 900.0, 850.0, 950.0, ended=fails(PROFILE.criteria[0])),
        "usable": Limit("usable", 3200, 3600.0, 3400.0, 3800.0, ended=fails(PROFILE.criteria[2])),
        "emergency": Limit("emergency", 12800, at_least=True),
    }
    body = seen(findings(HEATH), grey_snr=400.0, shadow_snr=100.0)
    told = {iso: option_at(body, iso, iso, iso, asked(limits=limits)) for iso in (800, 1600, 3200, 6400)}
    assert [one.level for one in told.values()] == ["clean", "usable", "usable", "emergency"]
    assert [one.held_by for one in told.values()] == ["", "grey SNR", "grey SNR", "chroma noise"]


def test_a_mark_to_be_avoided_comes_after_its_equals_and_says_so():
    marks = [
        replace(one, avoid=(Note(Remark.UNDER_BASE),)) if one.mark == 800 else one for one in findings(HEATH).marks
    ]
    found = options(BodyFindings(marks), 6400, asked())
    assert found[0].mark == 1600
    under = next(one for one in found if one.mark == 800)
    assert "to be avoided: under base" in under.reason


def test_options_are_ranked_with_their_reasons():
    """The Heath has a second base at ISO 800: in light for ISO 6400 it is as clean there as at 6400 and keeps three stops."""
    found = options(findings(HEATH), 6400, asked())
    assert found[0].mark == 800
    assert found[0].push_stops == pytest.approx(3)
    assert "keeps 3.0 stops more of the highlights" in found[0].reason
    assert found[0].reason.startswith("best")
    assert {one.mark for one in found} == {100, 200, 400, 800, 1600, 3200, 6400}
    low = next(one for one in found if one.mark == 100)
    assert "noisier than the cleanest" in low.reason
    assert options(BodyFindings([]), 800, asked()) == []


def test_a_low_extended_mark_gives_up_highlights_and_gains_no_light():
    """At ISO 50 the Heath's wells are full at the electrons of ISO 100 (common practice, no source: extended marks below base
    give up highlights): the same light gives the same grey there, and no more highlights."""
    body = findings(HEATH, marks=(50, 100, 200, 400, 800, 1600))
    low, base = predicted(body, 50, 400), predicted(body, 100, 400)
    assert low.highlight_stops.value == pytest.approx(base.highlight_stops.value, abs=0.05)
    assert low.grey_snr.value <= base.grey_snr.value
    assert low.grey_snr.value == pytest.approx(base.grey_snr.value, rel=0.1)


def test_how_much_faster():
    assert faster_by(800, 6400) == pytest.approx(3)
    assert faster_by(6400, 3200) == pytest.approx(-1)
    with pytest.raises(ValueError, match="positive"):
        faster_by(0, 1)


def test_uncertainty_comes_through():
    body = BodyFindings([MarkFindings(100, 100.0, with_error(3.0, 0.3, 9), with_error(50_000.0, 500.0, 9))])
    got = predicted(body, 100, 800).shadow_snr
    assert got.low < got.value < got.high
    assert isinstance(got, Quantity)


# Light of another colour


@pytest.mark.outside
@pytest.mark.parametrize("body", list(BODIES.values()), ids=list(BODIES))
@pytest.mark.parametrize("kelvin", [2856, 5003, 6504])
def test_a_lamp_of_a_colour_gives_the_channels_what_is_predicted(body, kelvin):
    """The simulated camera under a lamp of the illuminant's own colour. CIE 15 gives A (2856 K) the place 0.44758, 0.40745,
    D50 0.34567, 0.35850 and D65 0.31272, 0.32903; the white that the files' matrices share is D65 (from memory)."""
    x, y = {2856: (0.44758, 0.40745), 5003: (0.34567, 0.35850), 6504: (0.31272, 0.32903)}[kelvin]
    lamp = Lamp(colour=tuple(np.linalg.solve(SRGB_TO_XYZ, [x / y, 1.0, (1 - x - y) / y])))
    shot = neutral_response(body, lamp)
    predicted_shares = neutral_under(kelvin, body.matrix)
    assert predicted_shares == pytest.approx(tuple(shot), abs=0.006)


@pytest.mark.outside
def test_lamp_light_has_little_blue():
    """White points of CIE 15 with Y = 100 (from memory): A has X 109.85, Z 35.58; D55 has X 95.68, Z 92.14. A body that saw
    X, Y and Z itself would lose 1.4 stops of Z from daylight to lamp light."""
    lamp, day = neutral_under(2856, np.eye(3)), neutral_under(5503, np.eye(3))
    assert lamp == pytest.approx((1.0985, 1.0, 0.3558), abs=0.003)
    assert day == pytest.approx((0.9568, 1.0, 0.9214), abs=0.003)


@pytest.mark.outside
@pytest.mark.parametrize("body", list(BODIES.values()), ids=list(BODIES))
def test_under_lamps_blue_is_the_noisy_channel(body):
    """Common practice, no source."""
    rows = in_light(findings(body), 1600, 1600, neutral_under(2856, body.matrix))
    assert min(rows, key=lambda row: row.shadow_snr.value).name == "blue"


def test_green_in_any_light_is_what_was_predicted_without_a_colour():
    known = findings(HEATH)
    rows = in_light(known, 800, 3200, (0.5, 1.0, 0.25), 1 / 60, 1.4)
    plain = predicted(known, 800, 3200, 1 / 60, 1.4)
    assert rows[1].shadow_snr == plain.shadow_snr
    assert rows[1].highlight_stops == plain.highlight_stops
    # A quarter of the light is two stops more headroom.
    assert rows[2].highlight_stops.value == pytest.approx(plain.highlight_stops.value + 2)
    assert in_light(BodyFindings([]), 800, 800, (1.0, 1.0, 1.0)) == []


@pytest.mark.parametrize("kelvin", [1000, 40_000])
def test_light_that_is_none_is_refused(kelvin):
    with pytest.raises(ValueError, match="light can be stated from 1700 K"):
        neutral_under(kelvin, HEATH.matrix)
