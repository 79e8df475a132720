"""What hot pixels show in a picture, with and without a dark taken off, against pictures that were taken of known pixels."""

from __future__ import annotations

from datetime import datetime, timedelta

import numpy as np
import pytest

from yellowjacket.core.darks.exposure_group import DarkGroup, measured
from yellowjacket.core.darks.hot_pixels import cut_off, hot_pixels, points_per_frame, showing_at
from yellowjacket.core.darks.lenr import lenr_times
from yellowjacket.core.darks.usable_exposure import left_after_darks, lifted_signal_e
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.simcam.bodies import HEATH
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.scene import HEIGHT_PX, WIDTH_PX, Scene
from yellowjacket.simcam.sensor import SRGB_TO_XYZ, ExposureSettings, Lamp, expose, hot_rates_e_per_s, metered_electrons

ISO, SECONDS = 800, 240.0
GAIN = 1 / HEATH.gain_dn_per_e(ISO)
SHADOW_E = lifted_signal_e(HEATH.gain_mode(ISO).full_well_e)
SHADOW_DN2 = SHADOW_E / GAIN**2
# Of such a colour that all filters let the same through.
_TO_CAMERA = HEATH.matrix @ SRGB_TO_XYZ
_COLOUR = np.linalg.solve(_TO_CAMERA / _TO_CAMERA[1].sum(), np.full(3, 0.18))
_FLAT = Scene("flat", np.tile(_COLOUR.astype(np.float32), (HEIGHT_PX, WIDTH_PX, 1)))


def darks(folder, seconds=SECONDS, count=4, lenr=False):
    camera, frames = SimulatedCamera(HEATH, seed=4), []
    for n in range(count):
        settings = ExposureSettings(ISO, seconds, 8.0, True, 20.0, lenr=lenr)
        path = folder / f"{seconds:g}-{lenr}-{n}.dng"
        camera.shoot(settings, path, 100 * lenr + int(seconds) + n, datetime(2026, 3, 14) + timedelta(minutes=9 * n))
        frames.append(read_frame(path))
    return frames


@pytest.fixture(scope="module")
def taken(tmp_path_factory):
    """Darks off and on at a minute and at four."""
    folder = tmp_path_factory.mktemp("showing")
    return {(s, on): darks(folder, s, lenr=on) for s in (60.0, SECONDS) for on in (False, True)}


def lamp_of(electrons: float) -> Lamp:
    """A lamp without colour under which a pixel gathers so many."""
    reached = metered_electrons(HEATH, ExposureSettings(ISO, SECONDS, 8.0), Lamp(0.0, (1.0, 1.0, 1.0)))
    return Lamp(float(np.log2(electrons / reached)), (1.0, 1.0, 1.0))


def marks_in_pictures(*, lenr: bool, count: int = 6, electrons: float = SHADOW_E) -> tuple[float, float]:
    """Points and holes per picture of a flat field: pixels more than eight σ of it off the middle of their channel."""
    points = holes = 0
    for n in range(count):
        settings = ExposureSettings(ISO, SECONDS, 8.0, False, 20.0, lenr=lenr)
        picture = expose(HEATH, _FLAT, settings, lamp_of(electrons), np.random.default_rng(900 + n)).astype(float)
        for row in (0, 1):
            for column in (0, 1):
                plane = picture[row::2, column::2]
                apart = plane - np.median(plane)
                sigma = 1.4826 * np.median(np.abs(apart))
                points += int((apart > 8 * sigma).sum())
                holes += int((apart < -8 * sigma).sum())
    return points / count, holes / count


def test_the_count_is_that_of_pixels_over_the_shadow(taken):
    """Against the truth: what each pixel gathers is known."""
    table = hot_pixels(taken[SECONDS, False], GAIN)
    extra = hot_rates_e_per_s(HEATH, (HEIGHT_PX, WIDTH_PX))
    ordinary = HEATH.dark_current_e_per_s * SECONDS
    sigma = np.sqrt(SHADOW_E + ordinary + HEATH.read_noise_e(ISO) ** 2 + HEATH.dsnu_e**2 + HEATH.row_noise_e**2)
    truth = int((extra * SECONDS > 8 * sigma).sum())
    assert truth > 500
    assert showing_at(table, SHADOW_DN2) == pytest.approx(truth, rel=0.03)


def test_more_repeats_count_the_same(taken):
    for seconds in (60.0, SECONDS):
        few, many = (showing_at(hot_pixels(taken[seconds, False][:n], GAIN), SHADOW_DN2) for n in (2, 4))
        assert few == pytest.approx(many, rel=0.02)


def test_pictures_show_as_many_points_as_darks_say(taken):
    table = hot_pixels(taken[SECONDS, False], GAIN)
    points, holes = marks_in_pictures(lenr=False, count=2)
    # Hits and blinking stand in pictures too.
    assert points_per_frame(table, SHADOW_DN2) == pytest.approx(points, rel=0.04)
    assert holes == pytest.approx(0, abs=2)


def test_a_dark_taken_off_leaves_points_and_holes_as_predicted(taken):
    """Residuals go both ways in a shadow; what a clipped pixel stood over is lost, and a hole wherever there was more light."""
    table = hot_pixels(taken[SECONDS, False], GAIN)
    on = hot_pixels(taken[SECONDS, True], GAIN)
    points, holes = marks_in_pictures(lenr=True)
    # Either is the count of a few pixels that come and go: Poisson, over six pictures.
    assert holes == pytest.approx(points, abs=4 * np.sqrt((points + holes) / 6))
    assert points_per_frame(on, SHADOW_DN2) == pytest.approx(points + holes, abs=4 * np.sqrt((points + holes) / 3))
    lost = cut_off(table)
    assert lost > 5
    lasting = left_after_darks(table, GAIN, 1, 1.0, SHADOW_DN2)
    assert lost < lasting <= 1.1 * (points + holes + lost)
    # In mid-grey, five stops brighter, every clipped one is a hole.
    points, holes = marks_in_pictures(lenr=True, count=2, electrons=32 * SHADOW_E)
    assert holes - points == pytest.approx(lost, abs=3 * np.sqrt((holes + points) / 2))


def test_lenr_is_not_said_to_take_clipped_ones_away(taken):
    def found(seconds, lenr):
        return measured(DarkGroup(seconds, 20.0, ("a", "b", "c", "d"), lenr), taken[seconds, lenr], GAIN)

    rows = lenr_times(
        [found(s, False) for s in (60.0, SECONDS)], [found(s, True) for s in (60.0, SECONDS)], shadow_dn2=SHADOW_DN2
    )
    last = rows[-1]
    assert last.lost.value * WIDTH_PX * HEIGHT_PX / 1e6 == pytest.approx(
        cut_off(hot_pixels(taken[SECONDS, False], GAIN))
    )
    assert last.removed.value == pytest.approx(1 - (last.on.value + last.lost.value) / last.off.value)
    assert last.removed.value < 1 - last.lost.value / last.off.value + 1e-9


def test_the_population_has_a_tail_by_a_power_law():
    """Few points after a second, hundreds to the megapixel after minutes (common practice, no source)."""
    extra = hot_rates_e_per_s(HEATH, (HEIGHT_PX, WIDTH_PX))
    megapixels = extra.size / 1e6
    bar_e = 8 * np.sqrt(SHADOW_E)
    assert (extra > bar_e).sum() / megapixels < 12
    assert (extra * SECONDS > bar_e).sum() / megapixels > 300
    above = [int((extra > rate).sum()) for rate in (0.5, 5.0, 50.0)]
    assert above[0] / above[1] == pytest.approx(10, rel=0.2)
    assert above[1] / above[2] == pytest.approx(10, rel=0.5)
