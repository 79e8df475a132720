"""The sensor model against its own parameters and the physics it claims."""

from dataclasses import replace
from datetime import datetime

import numpy as np
import pytest

from yellowjacket.core.exposure.iso12232 import MID_GREY_SHARE
from yellowjacket.core.raw.first_look import inspect_file
from yellowjacket.simcam.bodies import FEN, HEATH, MOOR, GainMode
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.scene import BLACK_BOX, GREY_BOX, Scene, patch_colours, specimen_drawer, wedge_reflectance
from yellowjacket.simcam.sensor import ExposureSettings, Lamp, _fixed_pattern, expose, poisson

MOMENT = datetime(2026, 3, 14, 20, 0)
METERED = ExposureSettings(100, 1 / 8, 8.0)
FLAT = Scene("flat", np.full((256, 256, 3), 0.18, np.float32))
WHITE_LAMP = Lamp(colour=(1.0, 1.0, 1.0))


def green(mosaic, body=HEATH):
    return mosaic[0::2, 1::2].astype(float) - body.black_dn


def shoot(settings=METERED, body=HEATH, seed=1, scene=FLAT):
    return expose(body, scene, settings, WHITE_LAMP, np.random.default_rng(seed))


def test_the_metered_grey_lies_where_the_meter_puts_it():
    share = green(shoot()).mean() / (HEATH.white_dn - HEATH.black_dn)
    assert share == pytest.approx(MID_GREY_SHARE, rel=0.002)


@pytest.mark.parametrize(("iso", "seconds"), [(100, 1 / 8), (800, 1 / 60), (6400, 1 / 500)])
def test_noise_is_photons_and_read_noise(iso, seconds):
    settings = ExposureSettings(iso, seconds, 8.0)
    a, b = (green(shoot(settings, seed=n)) for n in (1, 2))
    gain = HEATH.gain_dn_per_e(iso)
    expected = gain**2 * (a.mean() / gain + HEATH.read_noise_e(iso) ** 2 + HEATH.row_noise_e**2) + 1 / 12
    # 16384 pixels: the variance scatters by √(2/16384) = 1.1 %.
    assert np.var(a - b) / 2 == pytest.approx(expected, rel=0.035)


def test_the_fixed_pattern_is_that_of_the_serial_number():
    frames = [green(shoot(seed=n)) for n in range(24)]
    mean = np.mean(frames, axis=0)
    temporal = np.var(frames, axis=0, ddof=1).mean() / len(frames)
    assert np.sqrt(mean.var() - temporal) / mean.mean() == pytest.approx(HEATH.prnu, rel=0.1)
    twin = replace(HEATH, serial="OH-2")
    other = np.mean([green(shoot(body=twin, seed=100 + n)) for n in range(24)], axis=0)
    assert abs(np.corrcoef(mean.ravel(), other.ravel())[0, 1]) < 0.05


def test_the_second_base_lowers_read_noise_at_once():
    assert HEATH.read_noise_e(800) < 0.6 * HEATH.read_noise_e(400)


def test_a_pixel_stops_at_its_full_well_or_at_the_converters_end():
    bright = ExposureSettings(100, 8.0, 8.0)
    assert green(shoot(bright)).max() == HEATH.white_dn - HEATH.black_dn
    small_well = replace(HEATH, gain_modes=(GainMode(0.0, 48_000.0, 2.7), GainMode(50.0, 20_000.0, 2.7)))
    level = green(shoot(bright, small_well)).mean()
    assert level == pytest.approx(20_000 * HEATH.gain_dn_per_e(100), rel=0.01)


def test_a_capped_lens_lets_only_dark_signal_through():
    dark = shoot(ExposureSettings(100, 1 / 8, 8.0, capped=True)).astype(float) - HEATH.black_dn
    assert abs(dark.mean()) < 0.1
    long = shoot(ExposureSettings(100, 30.0, 8.0, capped=True)).astype(float) - HEATH.black_dn
    # 32 s is what a dial's 30 s stands for; hot pixels add their share.
    expected = 32 * HEATH.dark_current_e_per_s
    hot = _fixed_pattern(HEATH, dark.shape)[2]
    assert np.median(long) == pytest.approx(expected * HEATH.gain_dn_per_e(100), abs=1)
    expected += 32 * float(hot.mean())
    assert long.mean() == pytest.approx(expected * HEATH.gain_dn_per_e(100), rel=0.1)


def test_one_stop_is_one_stop_by_iso_time_and_aperture():
    base = green(shoot()).mean()
    for iso, seconds, f_number in ((200, 1 / 8, 8.0), (100, 1 / 4, 8.0), (100, 1 / 8, 5.6)):
        assert green(shoot(ExposureSettings(iso, seconds, f_number))).mean() / base == pytest.approx(2, rel=0.005)


def test_the_same_seed_gives_the_same_frame_and_another_seed_another():
    assert np.array_equal(shoot(seed=4), shoot(seed=4))
    assert not np.array_equal(shoot(seed=4), shoot(seed=5))


def test_counts_are_poisson_on_both_sides_of_the_normal_limit(rng):
    for mean in (3.0, 900.0, 1100.0):
        counts = poisson(np.full((200, 200), mean, np.float32), rng)
        assert counts.mean() == pytest.approx(mean, abs=5 * np.sqrt(mean / 40_000))
        assert counts.var() == pytest.approx(mean, rel=0.04)
        assert np.array_equal(counts, np.rint(counts))


def test_the_drawer_holds_what_a_tester_needs():
    scene = specimen_drawer().reflectance
    left, top, width, height = GREY_BOX
    grey = scene[top + 8 : top + height - 8, left + 8 : left + width - 8]
    # The lamp falls off towards the far corner by a few per cent.
    assert grey.mean() == pytest.approx(0.18, rel=0.05)
    left, top, width, height = BLACK_BOX
    assert scene[top + 20, left + 20].max() < 0.002
    assert wedge_reflectance(0) / wedge_reflectance(15) == 2**15
    assert patch_colours().shape == (30, 3)
    assert scene.max() > 2  # reflections beyond diffuse white
    assert not scene.flags.writeable


def test_settings_the_dial_does_not_have_are_refused(tmp_path):
    camera = SimulatedCamera(HEATH, scene=FLAT)
    with pytest.raises(ValueError, match="has ISO 50 to 102400, not 25"):
        camera.shoot(ExposureSettings(25, 1 / 8, 8), tmp_path / "a.dng", 1, datetime(2026, 3, 14))
    with pytest.raises(ValueError, match="no shutter time as short"):
        camera.check(ExposureSettings(100, 1 / 16000, 8))
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize("body", [HEATH, MOOR, FEN], ids=lambda body: body.model)
def test_darks_of_the_highest_iso_are_told_from_light(body, tmp_path):
    """Row noise of a few hundred DN moves the means of the channels apart, as light behind filters does."""
    camera = SimulatedCamera(body, 16)
    for number in range(1, 7):
        camera.shoot(ExposureSettings(body.highest_iso, 1 / 4000, 8.0, capped=True), tmp_path / "d.DNG", number, MOMENT)
        assert inspect_file(str(tmp_path / "d.DNG")).dark, number
    dim = ExposureSettings(800, 1 / 2048, 8.0)
    camera.shoot(dim, tmp_path / "l.DNG", 7, MOMENT)
    assert not inspect_file(str(tmp_path / "l.DNG")).dark
