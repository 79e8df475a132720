"""Dark current and doubling where a body warms up while it is tested; and darks that are none."""

import numpy as np
import pytest

from tests import darks, making
from yellowjacket.core.darks.dark_current import dark_tiles
from yellowjacket.core.darks.exposure_group import DarkGroup, measured
from yellowjacket.core.darks.faults import faults_of
from yellowjacket.core.darks.series import DarkLadder, Known
from yellowjacket.core.darks.temperature import at_temperature, dark_law, warmed_s
from yellowjacket.core.metrology.estimate import Quantity, missing, with_relative_error
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.raw.frame import FrameError

TIMES = (1.0, 8.0, 30.0, 60.0, 120.0, 240.0)
RATE_20 = 0.3
GAIN = with_relative_error(darks.GAIN, 0.002, 1000)


def tiles(rng, seconds, celsius, doubling=6.0):
    rate = RATE_20 * 2 ** ((celsius - 20) / doubling)
    return dark_tiles(seconds, darks.frames(rng, seconds=seconds, rate_e=rate, shape=(512, 512)))


@pytest.mark.parametrize("doubling", [5.0, 7.0])
def test_warmth_is_not_mistaken_for_time(rng, doubling):
    # The long exposures are the warm ones, and some times were shot again when the body was warm.
    run = [(t, 20 + 1.5 * n) for n, t in enumerate(TIMES)] + [(60.0, 29.0), (30.0, 28.5)]
    found, degrees = dark_law([tiles(rng, t, c, doubling) for t, c in run], [c for _, c in run], GAIN)
    assert degrees.low < doubling < degrees.high
    assert degrees.value == pytest.approx(doubling, rel=0.1)
    truth = RATE_20 * 2 ** ((found.temperature_c - 20) / doubling)
    assert found.current.value == pytest.approx(truth, rel=0.03)


def test_without_temperatures_there_is_no_doubling_and_it_says_so(rng):
    some = [tiles(rng, t, 20.0) for t in TIMES]
    found, degrees = dark_law(some, [20.0, None, 20.0, 20.0, 20.0, 20.0], GAIN)
    assert degrees.value is None
    assert "CSV" in degrees.reason
    assert found.current.value == pytest.approx(RATE_20, rel=0.03)


def test_equal_warmth_settles_no_doubling(rng):
    some = [tiles(rng, t, 20.0) for t in TIMES]
    assert "warmer or cooler" in dark_law(some, [20.0] * 6, GAIN)[1].reason
    assert "four times" in dark_law(some[:3], [20.0, 25.0, 29.0], GAIN)[1].reason


def test_temperatures_the_wrong_way_round_are_noticed(rng):
    run = [(t, 20 + 1.5 * n) for n, t in enumerate(TIMES)] + [(60.0, 29.0), (30.0, 28.5)]
    _, degrees = dark_law([tiles(rng, t, c) for t, c in run], [60 - 2 * c for _, c in run], GAIN)
    assert degrees.value is None
    assert "check them" in degrees.reason or "do not settle" in degrees.reason


def test_six_degrees_double_the_signal():
    # Roughly doubles every 6 °C (common practice, no source).
    assert warmed_s(60.0, 26.0, 20.0, 6.0) == pytest.approx(120.0)
    current = Quantity(0.5, 0.49, 0.51, 100)
    warmer = at_temperature(current, 20.0, 26.0, with_relative_error(6.0, 0.02, 4))
    assert warmer.value == pytest.approx(1.0)
    assert warmer.low < 1.0 < warmer.high
    usual = at_temperature(current, 20.0, 32.0, missing(Missing.NOT_MEASURED))
    assert usual.value == pytest.approx(2.0)
    assert "usual doubling" in usual.reason
    # Further away is less sure.
    assert usual.high / usual.low > warmer.high / warmer.low
    assert at_temperature(missing(Missing.NO_DARK_PAIR), 20.0, 26.0, usual).has(Missing.NO_DARK_PAIR)


def faults(rng, spoil=None, spoiled_s=60.0):
    rows = []
    for seconds in (1.0, 15.0, 60.0, 240.0):
        frames = darks.frames(rng, seconds=seconds, rate_e=RATE_20, shape=(512, 768))
        if spoil is not None and seconds == spoiled_s:
            for frame in frames:
                spoil(frame.mosaic)
        rows.append((DarkGroup(seconds, None, (f"{seconds:g}.dng",)), dark_tiles(seconds, frames), 15871.0))
    return list(faults_of(rows))


def test_good_darks_have_no_fault(rng):
    assert faults(rng) == []
    assert list(faults_of([])) == []


def test_light_from_one_side_is_caught(rng):
    def leak(mosaic):
        mosaic += np.linspace(0, 60, mosaic.shape[1]).astype(np.uint16)[None, :]

    (found,) = faults(rng, leak)
    assert (found.code, found.group.exposure_s) == ("leak", 60.0)
    assert "one side" in found.words
    assert "Cover" in found.remedy


def test_an_even_leak_stands_over_the_line(rng):
    def leak(mosaic):
        mosaic += np.uint16(90)

    (found,) = faults(rng, leak)
    assert found.code == "above-line"
    assert "1 min" in found.words


def test_glow_at_an_edge_is_no_leak(rng):
    def glow(mosaic):
        mosaic[:, -80:] += np.uint16(60)

    assert faults(rng, glow, spoiled_s=240.0) == []


def test_one_time_measured(rng):
    group = DarkGroup(60.0, 20.0, ("a.dng", "b.dng"))
    found = measured(group, darks.frames(rng, rate_e=RATE_20, hot=[(100, 100, 4.0)]), darks.GAIN)
    sigma = np.sqrt(darks.READ_DN**2 + RATE_20 * 60 / darks.GAIN**2 + 1 / 12)
    assert found.noise_dn.value == pytest.approx(sigma, rel=0.03)
    assert found.noise_dn.low < sigma < found.noise_dn.high
    assert len(found.pixels.rows) == 1
    assert found.rows_dn.value == 0.0
    assert found.frames == 2
    alone = measured(group, darks.frames(rng, 1), darks.GAIN)
    assert alone.pixels is None
    assert "second one" in alone.noise_dn.reason


def test_a_light_frame_among_darks_is_refused_by_name(rng):
    frames = [*darks.frames(rng, 1), making.frame_of(making.shot(100, rng)[: darks.SHAPE[0], : darks.SHAPE[1]])]
    with pytest.raises(FrameError, match=r"b\.dng: is a light frame among darks"):
        measured(DarkGroup(60.0, None, ("a.dng", "b.dng")), frames, None)


def test_a_picture_among_darks_is_refused_by_name(rng):
    light = [making.frame_of(making.shot(100, rng)) for _ in range(2)]
    for frame in light:
        frame.mosaic[::3, ::2] += 900
    with pytest.raises(FrameError, match=r"a\.dng: is a light frame among darks"):
        measured(DarkGroup(60.0, None, ("a.dng", "b.dng")), light, None)


def test_darks_of_two_temperatures_are_no_leaks(rng):
    """Warmth counts as time: a warm minute and the cool four minutes that gather as much lie on one line."""
    times = []
    for celsius in (20.0, 32.0):
        rate = 0.3 * 2 ** ((celsius - 20.0) / 6.0)
        for seconds in (1.0, 60.0, 240.0):
            frames = darks.frames(rng, seconds=seconds, rate_e=rate)
            times.append(measured(DarkGroup(seconds, celsius, ("a.dng", "b.dng")), frames, darks.GAIN))
    assert DarkLadder(times, Known(GAIN, *[missing(Missing.NOT_MEASURED)] * 2)).faults == ()
