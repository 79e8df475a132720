"""What is read of a rung beyond single patches: at sizes of use, along exposure, in the scene, from darks; against truth."""

from dataclasses import dataclass, field

import numpy as np
import pytest

from tests import darks, making
from tests.making import CHANNELS
from yellowjacket.core.darks.exposure_group import DarkGroup, measured
from yellowjacket.core.darks.series import DarkLadder, Known
from yellowjacket.core.latitude.exposure_ladder import ExposureSignals, RungNoise, relate_exposures
from yellowjacket.core.limits.output_size import LookedAt
from yellowjacket.core.metrology.estimate import Quantity, missing, with_error
from yellowjacket.core.metrology.measurands import ALL, Measurand
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.output_size import UseSize, detail_readings, sizes_of
from yellowjacket.core.readings.patch import PatchSpec, noise_of
from yellowjacket.core.readings.rung import RungTask, measure_frames
from yellowjacket.core.readings.scene import Known as SceneKnown
from yellowjacket.core.readings.scene import scene_readings
from yellowjacket.core.readings.sensor import headroom

STEP_PX = making.WIDTH // making.STEPS


def test_a_use_is_read_at_its_own_pixels_and_nothing_is_enlarged():
    sizes = sizes_of(24_000_000, [UseSize("web", 6_000_000), UseSize("wall", 48_000_000)])
    assert [(size.use, size.raw_px, size.share) for size in sizes] == [("", 1.0, 1.0), ("web", 2.0, 0.25)]


def test_a_use_larger_than_the_picture_has_visual_noise_and_nothing_else(rng):
    """The eye sees each pixel the larger; everything else is that of the pixels."""
    light = [making.frame_of(making.shot(100, rng)) for _ in range(2)]
    step = making.WIDTH // making.STEPS
    grey = PatchSpec("grey", "grey", Rect(making.GREY_STEP * step + 8, 16, step - 16, 96))
    pixels = making.WIDTH * making.HEIGHT
    uses = UseSize("half", pixels // 2, LookedAt(40.0)), UseSize("double", pixels * 2, LookedAt(40.0))
    found = measure_frames(light, (), RungTask(1, (), (), (grey,), uses))
    assert {one.quantity for one in found if one.use == "double"} == {Measurand.NOISE_VISUAL}
    seen = {one.use: one.result.value for one in found if one.quantity is Measurand.NOISE_VISUAL}
    assert seen["half"] < seen["double"]


@pytest.mark.parametrize(("cycles", "at_use"), [(0.1, 100.0), (0.4, 400.0), (0.6, 500.0)])
def test_an_output_shows_no_more_detail_than_its_pixels_can(cycles, at_use):
    """Half a cycle to a pixel is the most (Nyquist); a picture 2000 px high at half size has 1000."""
    sizes = sizes_of(6_000_000, [UseSize("web", 1_500_000)])
    found = with_error(cycles, 0.001, 100)
    readings = list(detail_readings("texture", found, "coherence", sizes, 2000, coloured=False))
    assert readings[0].result.value == pytest.approx(cycles * 1000)
    assert readings[1].result.value == pytest.approx(at_use)


STOPS = (-3.0, -1.0, 0.0, 1.0)
PATCHES = {"grey": 2000.0, "shadow": 250.0, "white": 6000.0, "field": 1000.0}


def exposed(stops, error_dn, off=0.0):
    """A rung whose true step is ``stops`` + ``off``, its black wrong by ``error_dn``."""

    def level(value):
        found = value * 2 ** (stops + off) + error_dn
        return with_error(found, max(0.05, 0.001 * found), 4000)

    signals = {name: {channel: level(value) for channel in CHANNELS} for name, value in PATCHES.items()}
    black = dict.fromkeys(CHANNELS, 512.0)
    noise = RungNoise(clip_dn=Quantity(15871.0, 15871.0, 15871.0, 1))
    return ExposureSignals(int(10 * stops), stops, signals, black, black, noise)


def test_steps_and_the_black_error_come_out_as_they_went_in():
    off = {-3.0: 0.2, -1.0: 0.0, 0.0: 0.0, 1.0: -0.1}
    rungs = [exposed(stops, 4.0, off[stops]) for stops in STOPS]
    found = relate_exposures(rungs, 0, {"grey": "grey", "shadow": "shadow"}, making.MATRIX)
    for stops in STOPS:
        step = next(one.result for one in found[int(10 * stops)] if one.quantity == "step_stops")
        assert step.value == pytest.approx(stops + off[stops], abs=0.01)
    errors = [one.result for one in found[0] if one.quantity == "black_error_dn"]
    assert len(errors) == 4
    for one in errors:
        assert one.value == pytest.approx(4.0, abs=1.0)
    with pytest.raises(KeyError):
        relate_exposures(rungs, 99, {}, None)


def patch(name, role, step, **more):
    return PatchSpec(name, role, Rect(step * STEP_PX + 8, 8, 64, 400), **more)


@pytest.fixture(scope="module")
def pair(card):
    return [read_frame(card / f"F00{n}.DNG") for n in (1, 2)]


def test_the_scene_is_read_where_it_was_marked(pair):
    """Wedge steps a stop apart down to where noise is all that is left; a black patch is no texture."""
    steps = [patch(f"w{n}", "wedge", n + 1, step_stops=1.0) for n in range(7)]
    patches = (patch("grey", "grey", making.GREY_STEP), *steps, patch("weave", "texture", making.STEPS - 1))
    black = dict.fromkeys(CHANNELS, float(making.BLACK))
    noise = noise_of(pair, patches, black)
    grey = {c: making.GREY_DN * making.RESPONSE[c[0]] for c in CHANNELS}
    known = SceneKnown(black, grey, 0.0, float(making.WHITE - making.BLACK))
    found = scene_readings(pair, patches, noise, known, sizes_of(making.WIDTH * making.HEIGHT, []), making.HEIGHT)
    by_name = {(one.patch, one.quantity): one.result for one in found}
    assert by_name["grey", "noise_luma"].value > 0
    told = by_name[None, "wedge_told_apart"]
    assert told.value == pytest.approx(6, abs=1)
    # An even field has no detail beyond chance.
    assert (by_name["weave", "detail"].value or 0) < making.HEIGHT / 4


@dataclass
class Findings:
    """The part of a rung's findings that headroom asks for."""

    channels: dict = field(default_factory=dict)


@dataclass
class Channel:
    quantities: dict


def test_headroom_is_told_by_the_channel_that_clips_first(pair):
    patches = (patch("grey", "grey", making.GREY_STEP),)
    noise = noise_of(pair, patches, dict.fromkeys(CHANNELS, float(making.BLACK)))
    top = with_error(float(making.WHITE - making.BLACK), 1.0, 100)
    found = Findings({channel: Channel({"saturation_dn": top}) for channel in CHANNELS})
    # Green is the brightest channel; grey stands at 12.7 % of the range (ISO 12232:2019, saturation-based speed).
    stops = headroom(found, patches, noise)
    assert stops.result.value == pytest.approx(np.log2(1 / 0.127), abs=0.01)
    assert (stops.channel, stops.quantity) == (ALL, "headroom_stops")
    assert "draw one" in headroom(found, (), noise).result.reason


def test_dark_current_and_shadow_follow_from_darks_of_several_times():
    rng = np.random.default_rng(8)
    rate_e = 0.4
    times = [
        measured(DarkGroup(s, 20.0, (f"a{s}", f"b{s}")), darks.frames(rng, 2, seconds=s, rate_e=rate_e), darks.GAIN)
        for s in (1.0, 30.0, 120.0)
    ]
    gain = with_error(darks.GAIN, 0.001, 1000)
    ladder = DarkLadder(times, Known(gain, with_error(1.5, 0.01, 100), with_error(8000.0, 10.0, 100)))
    assert [one.group.exposure_s for one in ladder.off] == [1.0, 30.0, 120.0]
    current = ladder.current_at(20.0)
    assert abs(current.value - rate_e) < 3 * current.se
    signal = ladder.signal_e(ladder.off[-1])
    assert signal.value == pytest.approx(rate_e * 119, rel=0.05)
    assert ladder.reference_c == 20.0
    assert ladder.faults == ()
    nothing = DarkLadder(times, Known(missing(Missing.NO_PAIR), missing(Missing.NO_PAIR), missing(Missing.NO_PAIR)))
    assert nothing.gain.value is None or nothing.gain.value == pytest.approx(darks.GAIN, rel=0.2)
