"""Dark current, doubling temperature, glow and hot pixels of simulated bodies, against their truth.

Bounds are those of "Accuracy wanted" in docs/methods.md.
"""

from datetime import datetime, timedelta

import numpy as np
import pytest

from tests import darks as made
from yellowjacket.core.darks.dark_current import THERMOMETER_C, dark_current, dark_tiles, doubling_c
from yellowjacket.core.darks.exposure_group import DarkGroup, measured
from yellowjacket.core.darks.hot_pixels import HOT, TRANSIENT, hot_pixels
from yellowjacket.core.metrology.estimate import Quantity, missing, with_relative_error
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.survey.dark_series import DarkTask, conclude
from yellowjacket.simcam.bodies import HEATH, TARN
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.scene import HEIGHT_PX, WIDTH_PX
from yellowjacket.simcam.sensor import DOUBLING_C, ExposureSettings, _fixed_pattern

TIMES = (1.0, 15.0, 60.0, 240.0)


def darks(body, folder, seconds, celsius=20.0, count=2, iso=800):
    camera, paths = SimulatedCamera(body, seed=4), []
    for n in range(count):
        path = folder / f"{body.key}-{seconds:g}-{celsius:g}-{n}.dng"
        moment = datetime(2026, 3, 14, 20, 0) + timedelta(seconds=300 * n)
        camera.shoot(ExposureSettings(iso, seconds, 8.0, True, celsius), path, int(seconds) * 10 + n, moment)
        paths.append(read_frame(path))
    return paths


def gain_of(body, iso=800):
    return with_relative_error(1 / body.gain_dn_per_e(iso), 0.003, 1000)


@pytest.fixture(scope="module")
def heath(tmp_path_factory):
    folder = tmp_path_factory.mktemp("heath")
    return {t: [dark_tiles(s, darks(HEATH, folder, s, t)) for s in TIMES] for t in (20.0, 29.0)}


def test_dark_current_is_that_of_ordinary_pixels(heath):
    found = dark_current(heath[20.0], gain_of(HEATH), 20.0)
    truth = HEATH.dark_current_e_per_s
    assert found.current.value == pytest.approx(truth, rel=0.02)
    assert found.current.low * 0.99 < truth < found.current.high * 1.01
    assert found.from_noise.value == pytest.approx(truth, rel=0.15)
    assert not found.hidden
    for channel in found.by_channel.values():
        assert channel.value == pytest.approx(truth, rel=0.04)


def test_dark_current_doubles_as_the_body_does(heath):
    both = [dark_current(tiles, gain_of(HEATH), t) for t, tiles in heath.items()]
    found = doubling_c(both)
    assert found.value == pytest.approx(DOUBLING_C, abs=0.15)
    assert found.low < DOUBLING_C < found.high
    assert "two temperatures" in doubling_c(both[:1]).reason


def test_without_light_frames_dark_electrons_tell_the_gain(heath):
    found = dark_current(heath[29.0], missing(Missing.NO_LIGHT_FRAMES_MEASURED), 29.0)
    truth = HEATH.dark_current_e_per_s * 2 ** (9 / DOUBLING_C)
    # A single case: within three standard errors. How often intervals hold is asked of many below.
    assert found.current.value == pytest.approx(truth, abs=3 * found.current.se)
    assert found.current.se < 0.005 * truth


def test_glow_is_found_where_it_is_and_left_out_of_the_current(tmp_path):
    tiles = [dark_tiles(s, darks(TARN, tmp_path, s, iso=1600)) for s in (1.0, 30.0, 120.0)]
    found = dark_current(tiles, gain_of(TARN, 1600), 20.0)
    # The strongest whole tile lies near the right edge: 3 e⁻/s there, falling off over 8 % of the width.
    side, left = 64 / WIDTH_PX / TARN.glow_reach, WIDTH_PX % 64 / WIDTH_PX / TARN.glow_reach
    assert found.glow.value == pytest.approx(TARN.glow_e_per_s * np.exp(-left) * (1 - np.exp(-side)) / side, rel=0.1)
    assert found.current.value == pytest.approx(TARN.dark_current_e_per_s, rel=0.6)
    assert found.current.value < 0.3


def test_too_few_times_say_so(heath):
    found = dark_current(heath[20.0][:2], gain_of(HEATH))
    assert "3 exposure times" in found.current.reason
    with pytest.raises(ValueError, match="at least one frame"):
        dark_tiles(1.0, [])


def test_hot_pixels_are_those_of_the_sensor(tmp_path):
    frames = darks(HEATH, tmp_path, 60.0, count=2)
    found = hot_pixels(frames, 1 / HEATH.gain_dn_per_e(800))
    _, _, truth = _fixed_pattern(HEATH, (HEIGHT_PX, WIDTH_PX))
    # What stands 12 spreads over its neighbours: read noise and offset of a mean of two frames, in electrons.
    spread = np.hypot(HEATH.read_noise_e(800) / np.sqrt(2), HEATH.dsnu_e) + np.sqrt(HEATH.dark_current_e_per_s * 60 / 2)
    sure = truth * 60 > 12 * spread * 1.3
    seen = np.zeros(truth.shape, bool)
    for one in found.pixels():
        if one.kind == HOT:
            seen[one.y, one.x] = True
    assert sure.sum() > 100
    assert (seen & sure).sum() / sure.sum() >= 0.99
    assert (seen & (truth > 0)).sum() / seen.sum() >= 0.99


def test_what_shows_once_is_no_hot_pixel(tmp_path):
    frames = darks(HEATH, tmp_path, 1.0, count=2)
    frames[0].mosaic[401, 300] = 9000
    found = {(one.x, one.y): one.kind for one in hot_pixels(frames, 1 / HEATH.gain_dn_per_e(800)).pixels()}
    assert found[300, 401] == TRANSIENT


def test_one_dark_is_not_enough(tmp_path):
    frames = darks(HEATH, tmp_path, 1.0, count=1)
    with pytest.raises(ValueError, match="two or more"):
        hot_pixels(frames, None)


@pytest.mark.parametrize(("true_s", "expected"), [((15.0, 30.0), 15.0), ((16.0, 32.0), 16.0)])
def test_marks_are_told_from_true_times(rng, true_s, expected):
    """15 s on the dial is 16 s on a body that keeps to powers of two; timers keep to 15 s."""
    task = DarkTask(
        800, (), with_relative_error(0.5, 0.002, 1000), missing(Missing.NOT_MEASURED), missing(Missing.NOT_MEASURED)
    )
    measured_times = []
    for printed, true in ((1.0, 1.0), (15.0, true_s[0]), (30.0, true_s[1]), (60.0, 60.0), (120.0, 120.0)):
        frames = made.frames(rng, seconds=true, rate_e=0.5)
        measured_times.append(measured(DarkGroup(printed, 20.0, ("a.dng", "b.dng")), frames, 0.5))
    found = conclude(task, measured_times)
    assert expected in {one.group.exposure_s for one in found.whole.off}
    assert found.whole.current.current.value == pytest.approx(0.5, rel=0.02)


def test_intervals_hold_the_truth_as_often_as_they_say():
    """Current from the mean, by channel and from the noise, and doubling with a thermometer that is off: 95 % each.

    Over 130 seeds at two temperatures each; the bounds are those of "How well it does" in docs/methods.md.
    """
    rng, seeds, rate = np.random.default_rng(5), 130, 0.5
    held = {"current": [], "noise": [], "channel": [], "doubling": []}
    for _ in range(seeds):
        found = []
        for celsius in (20.0, 29.0):
            own = rate * 2 ** ((celsius - 20) / DOUBLING_C)
            tiles = [
                dark_tiles(t, made.frames(rng, seconds=t, rate_e=own, shape=(256, 256))) for t in (1.0, 40.0, 120.0)
            ]
            exact = Quantity(made.GAIN, made.GAIN, made.GAIN, 1)
            one = dark_current(tiles, exact, celsius + rng.normal(0, THERMOMETER_C / 1.96))
            held["current"].append(one.current.low <= own <= one.current.high)
            held["noise"].append(one.from_noise.low <= own <= one.from_noise.high)
            held["channel"] += [q.low <= own <= q.high for q in one.by_channel.values()]
            found.append(one)
        doubling = doubling_c(found)
        held["doubling"].append(doubling.low <= DOUBLING_C <= doubling.high)
    for name, hits in held.items():
        assert 0.90 <= np.mean(hits) <= 0.99, name
    assert 0.92 <= np.mean([hit for hits in held.values() for hit in hits]) <= 0.98
