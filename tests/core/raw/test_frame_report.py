"""Two looks at simulated frames against what was done to them."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from tests import making
from yellowjacket.core.raw.frame_report import (
    exposure_stops,
    frame_is_soft,
    is_softer,
    locked_up,
    look_at,
    report_from,
    sharpness_ratio,
    shift_px,
    spot_sharpness,
    structure_at,
)


@pytest.fixture(scope="module")
def light():
    """A scene with structure at all scales, 1024 × 768."""
    rng = np.random.default_rng(3)
    texture = sum(s * gaussian_filter(rng.standard_normal((768, 1024)), s) for s in (1.0, 4.0, 16.0))
    return making.mosaic_light(making.GREY_DN * np.exp(0.6 * texture))


def look(light, seed=1, stops=0.0, roll=(0, 0), gain=2.0):
    moved = np.roll(light, (roll[1], roll[0]), axis=(0, 1)) * 2.0**stops
    return look_at(making.frame_of(making.photon_mosaic(moved, gain, np.random.default_rng(seed))))


@pytest.mark.parametrize("stops", [-3.0, -0.7, -1 / 6, 0.0, 0.3])
def test_exposure_is_found_to_a_hundredth_of_a_stop(light, stops):
    # Levels are kept in steps of 0.04 stop; over thousands of cells the mean is far finer.
    assert exposure_stops(look(light, 2, stops), look(light)) == pytest.approx(stops, abs=0.015)


@pytest.mark.parametrize("roll", [(0, 0), (4, 0), (16, -6), (-30, 22)])
def test_a_nudge_is_found_to_about_a_pixel(light, roll):
    assert shift_px(look(light, 2, roll=roll), look(light)) == pytest.approx(roll, abs=1.0)


def test_noise_is_not_movement_and_not_sharpness(light):
    noisy = look(light, 2, gain=0.02)
    assert np.hypot(*shift_px(noisy, look(light))) < 3
    assert sharpness_ratio(noisy, look(light)) == pytest.approx(1, abs=0.1)


def test_noise_alone_is_not_called_soft(light):
    reference = look(light)
    for seed in range(2, 22):
        assert not is_softer(look(light, seed, gain=0.01), reference, 0.85)


@pytest.mark.parametrize(("blur", "most"), [(1.0, 0.9), (2.0, 0.7)])
def test_a_soft_frame_has_less_fine_structure(light, blur, most):
    soft = light.copy()
    for row in (0, 1):
        for column in (0, 1):
            soft[row::2, column::2] = gaussian_filter(light[row::2, column::2], blur / 2)
    assert sharpness_ratio(look(soft), look(light)) < most
    assert is_softer(look(soft), look(light), 0.85)


def test_clipped_and_black_frames_say_so(light):
    assert look(light, stops=5).clipped_share > 0.5
    dark = look(light * 0)
    assert dark.dark_share == 1.0
    assert dark.level_dn is None
    assert exposure_stops(dark, look(light)) is None
    assert sharpness_ratio(dark, look(light)) is None


def test_frames_of_two_sizes_are_not_compared(light):
    small = look(light[:256, :256])
    assert exposure_stops(small, look(light)) is None
    assert shift_px(small, look(light)) is None


def test_a_report_survives_the_database(light):
    report = look(light)
    assert report_from(report.as_dict()) == report
    assert replace(report, shape=report.shape) == report


@pytest.mark.parametrize(("blur", "soft"), [(0.0, False), (1.0, False), (3.0, True)])
def test_softness_from_the_start_is_told_from_one_frame(light, blur, soft):
    blurred = light.copy()
    if blur:
        for row in (0, 1):
            for column in (0, 1):
                blurred[row::2, column::2] = gaussian_filter(light[row::2, column::2], blur / 2)
    report = look(blurred)
    assert frame_is_soft(report) is soft
    assert report_from(report.as_dict()) == report


def test_a_spot_has_a_sharpness_of_its_own(light):
    half = light.copy()
    middle = light.shape[1] // 2
    for row in (0, 1):
        for column in (0, 1):
            half[row::2, column::2][:, middle // 2 :] = gaussian_filter(light[row::2, column::2], 1.5)[:, middle // 2 :]
    sharp, part = look(light), look(half)
    y = light.shape[0] / 2
    assert spot_sharpness(part, sharp, middle * 0.5, y)[0] == pytest.approx(1, abs=0.1)
    ratio, se = spot_sharpness(part, sharp, middle * 1.5, y)
    assert ratio + 4 * se < 0.7


def test_a_spot_that_is_cut_off_tells_no_sharpness(light):
    """However sharp: half of the frame lies four stops higher than the other, and clips there when exposed five more."""
    bright = light.copy()
    middle = light.shape[1] // 2
    bright[:, :middle] /= 16
    y, dark_x, bright_x = light.shape[0] / 2, middle * 0.5, middle * 1.5
    reference, over = look(bright), look(bright, 2, stops=5)
    assert 0.4 < over.clipped_share < 0.6
    assert spot_sharpness(over, reference, bright_x, y) is None
    assert spot_sharpness(over, reference, dark_x, y) is not None
    assert spot_sharpness(look(bright, 3), reference, bright_x, y)[0] == pytest.approx(1, abs=0.1)


def test_a_frame_without_light_or_an_older_report_has_no_spots(light):
    report = look(np.zeros_like(light))
    assert frame_is_soft(report) is None
    assert structure_at(report, 10, 10) is None
    assert spot_sharpness(report, look(light), 10, 10) is None


@pytest.mark.parametrize(
    ("exposure_s", "gap_s", "shortest", "expected"),
    [
        # Handling of 5 s is no lock-up, however short the exposure; a gap that grows with the exposure is one.
        (4, 5, (1, 5), None), (8, 5, (1, 5), False), (8, 13, (1, 6), True), (64, 69, (1, 5), True), (64, 9, (1, 5), False),
        (32, 37, (32, 37), True), (32, 6, (32, 6), False), (8, 9, (8, 9), None),
    ],
)  # fmt: skip
def test_a_lock_up_grows_with_the_exposure_and_handling_does_not(exposure_s, gap_s, shortest, expected):
    assert locked_up(exposure_s, gap_s, shortest) is expected
