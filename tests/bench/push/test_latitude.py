"""Exposure, setting and fixed ISO ladders shot by the simulated camera, measured, and what is said of them."""

import math
from datetime import date

import pytest

from tests.profiles import ROUND
from yellowjacket.bench.measure import patches, run
from yellowjacket.bench.models import Ladder, Patch, Problem, Reading, Sitting, ToleranceProfile
from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec, create_sitting
from yellowjacket.bench.push import iso_invariance, latitude, raw_modes
from yellowjacket.bench.simulation import shoot
from yellowjacket.core.limits.tolerance import Profile
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.simcam.bodies import HEATH, MOOR

pytestmark = pytest.mark.django_db

METERED = Exposure(100, 1 / 8, 8.0)
TEXTURE = (1008, 938, 224, 224)


def shot(ladders, name="Pushes"):
    """A sitting whose ladders are shot and measured."""
    profile, _ = ToleranceProfile.objects.get_or_create(name="Default")
    sitting = Sitting(
        name=name, scene="drawer", question="q", expectation="e", held_on=date(2026, 3, 14), profile=profile
    )
    requests = [LadderRequest(shoot.register_simulated(body), spec) for body, spec in ladders]
    create_sitting(sitting, [UseSpec("Pixel level", None), UseSpec("Web", 2_000_000)], requests)
    shoot.accept_without_looking(sitting)
    for ladder in sitting.ladders.all():
        ladder.sitting.refresh_from_db()
        job = shoot.start_shooting(ladder)
        job.refresh_from_db()
        assert job.state == "done", job.message
        patches.propose(ladder)
        patches.place_patch(ladder, "grain", *TEXTURE, role="texture")
    job = run.start_measuring(sitting)
    job.refresh_from_db()
    assert job.state == "done", job.message
    return sitting


def test_an_exposure_ladder_gives_steps_black_limits_and_what_if(data_folder):
    sitting = shot([(MOOR, LadderSpec("exposure", "shutter", METERED, under=4.0, over=1.0, darks=0))])
    ladder, use = sitting.ladders.get(), sitting.uses.get(name="Pixel level")
    steps = Reading.objects.filter(rung__ladder=ladder, quantity="step_stops")
    assert [row.value for row in steps.order_by("rung__position")] == pytest.approx([-4, -3, -2, -1, 0, 1], abs=0.005)
    black = {row.channel: row.value for row in Reading.objects.filter(rung__ladder=ladder, quantity="black_error_dn")}
    assert list(black.values()) == pytest.approx(MOOR.black_error_dn, abs=0.1)
    found = latitude.exposed(ladder, use)
    profile = Profile("Default")
    recovery = latitude.recovery(found, profile)
    assert recovery.push["usable"].stops > recovery.push["clean"].stops
    # By the noise model: three stops under a grey of 12.7 % of 30 000 e⁻, a raw SNR s is reached at (s² + √(s⁴ + 4 s² R²))/2; by
    # how much the developed shadow is better or worse than its pixels was read beside it.
    read_e = MOOR.read_noise_e(100)
    rows = Reading.objects.filter(rung__ladder=ladder, rung__at_stops=-3, quantity="shadow_snr", use=None)
    seen, raw = (rows.get(channel=channel).value for channel in ("all", "G"))
    square = (4 * raw / seen) ** 2
    electrons = (square + (square**2 + 4 * square * read_e**2) ** 0.5) / 2
    truth = math.log2(0.127 * 30_000 / 8 / electrons)
    shadow = Profile("Shadow alone", tuple(one for one in ROUND.criteria if one.key == "shadow_snr"))
    limit = latitude.recovery(found, shadow).push["usable"]
    assert limit.criterion == "shadow SNR"
    assert abs(limit.stops - truth) < max(0.06, 0.75 * (limit.high - limit.low))
    # A green patch that clips in its full well says so, though the file has room above it.
    over = Reading.objects.get(rung__ladder=ladder, rung__at_stops=1, patch__role="highlight", channel="G1",
                               quantity="clipped_share")  # fmt: skip
    assert over.value > 0.9
    assert 0.3 < recovery.pull["usable"].stops < 0.9
    # Moving a threshold moves the bracket; with the black corrected the cast no longer decides.
    strict = latitude.profile_with(
        profile, {"neutral_drift": 0.5, "chroma_noise": 50.0, "shadow_snr": 0.5, "grey_snr": 1}, "usable"
    )
    moved = latitude.recovery(found, strict)
    assert moved.push["usable"].criterion == "neutral drift"
    assert moved.push["usable"].stops < recovery.push["usable"].stops
    assert moved.corrected["usable"].stops > moved.push["usable"].stops + 1
    assert moved.push["clean"] == recovery.push["clean"]
    assert latitude.profile_with(profile, {"grey_snr": -1.0, "unheard": 3.0}, "usable") == profile


def test_iso_ladders_of_one_light_tell_invariance_and_setting_ladders_their_effects(data_folder):
    dark_shot = Exposure(3200, 1 / 250, 8.0)
    noisy = Exposure(3200, 1 / 250, 8.0)
    sitting = shot([
        (HEATH, LadderSpec("iso", "fixed", dark_shot, picked=(100, 800, 3200), darks=0)),
        (HEATH, LadderSpec("setting", "noise_reduction", noisy, values=("off", "high"), darks=0)),
        (HEATH, LadderSpec("setting", "raw_mode", noisy, values=("full", "half"), darks=0)),
    ])  # fmt: skip
    assert not Problem.objects.exists()
    fixed, reduction, modes = sitting.ladders.all()
    found = iso_invariance.iso_against_push(iso_invariance.IsoReadings.of(fixed))
    assert found.isos == [100, 800, 3200]
    assert found.measured
    assert found.invariance.from_iso.value == 800
    assert found.penalties[100, 3200].stops.value == pytest.approx(1.07, abs=0.06)
    assert found.highlights[100].value == pytest.approx(5.0, abs=0.05)

    plain, high = raw_modes.setting_effects(reduction)
    assert plain.noise_ratio.value == 1.0
    assert high.noise_ratio.value == pytest.approx(1 - 4 * 0.2 + 6 * 0.2**2, rel=0.06)
    assert high.correlation.value > 0.4
    assert high.hidden_stops.value == pytest.approx(1.2, abs=0.25)

    # Patches shrink with the frames of the reduced mode.
    full, half = raw_modes.setting_effects(modes)
    assert half.noise_ratio.value == pytest.approx(0.5, abs=0.06)
    assert half.megabytes < 0.3 * full.megabytes
    (same,) = raw_modes.same_pixels_of(modes)
    assert same.rung.label == "half"
    assert set(same.rows) == {"same_equal", "same_edge", "same_luma", "same_chroma", "same_detail"}
    assert same.differences["same_luma"].high < 0
    assert abs(same.differences["same_equal"].value) < 6
    assert same.saved_share == pytest.approx(0.74, abs=0.05)


def _equalised(sitting):
    ladders = list(sitting.ladders.select_related("body"))
    readings = iso_invariance.IsoReadings.of(ladders[0], ladders, raw_modes.EQUALISED, of_others=True)
    return raw_modes.equalised(ladders, readings.spoken.per_pixel)


def test_without_ladders_there_is_nothing_to_say(sitting):
    ladder = sitting.ladders.get()
    assert iso_invariance.iso_against_push(iso_invariance.IsoReadings.of(ladder)) is None
    assert raw_modes.setting_effects(ladder) == []
    assert raw_modes.same_pixels_of(ladder) == []
    assert _equalised(sitting) == []
    found = latitude.exposed(ladder, sitting.uses.first())
    limits = latitude.recovery(found, Profile("Default"))
    assert limits.push["usable"].stops is None
    assert "no highlight patch" in limits.pull["usable"].reason
    assert Ladder.objects.count() == 1
    assert not Patch.objects.exists()


def test_two_bodies_are_made_equal_before_their_ranges_are_compared(sitting, make_sitting):
    """Readings as they would stand there: one body smooths and seems to hold more."""
    one = sitting.ladders.get()
    other = make_sitting("Other").ladders.get()
    other.body.pk = None
    other.body.serial = "another"
    other.body.save()
    Ladder.objects.filter(pk=other.pk).update(sitting=sitting, body=other.body)
    for ladder, stops, rho in ((one, 12.0, 0.0), (other, 12.9, 0.3008)):
        rung = ladder.rungs.get(iso=100)
        for quantity, value, half in (("range_engineering", stops, 0.02), ("neighbour_correlation", rho, 0.002)):
            Reading.objects.create(rung=rung, channel="all", quantity=quantity, value=value, low=value - half, high=value + half,
                                   n=1000)  # fmt: skip
    (found,) = _equalised(sitting)
    assert found.difference.value == pytest.approx(-0.9)
    # A correlation of 0.301 is the filter [0.12, 0.76, 0.12], which leaves 0.606 of the noise: log2 of it is −0.72.
    assert found.processing.value == pytest.approx(-0.722, abs=0.005)
