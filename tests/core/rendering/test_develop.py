from dataclasses import replace

import numpy as np
import pytest

from tests import making
from yellowjacket.core.colour.colorimetry import camera_to_srgb, delta_e_2000, lab_of_linear_srgb
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import (
    DEVELOPERS,
    Development,
    develop_crop,
    develop_reduced,
    display_encoded,
    gains_from_grey,
    interpolated_crop,
)
from yellowjacket.simcam.scene import specimen_drawer


def grey_means():
    return {c: 1000 * making.RESPONSE[c[0]] for c in ("R", "G1", "G2", "B")}


def how(gains=None):
    return Development(
        making.LAYOUT,
        dict.fromkeys(making.LAYOUT.channels, 512.0),
        gains or gains_from_grey(grey_means()),
        making.MATRIX,
    )


def flat():
    numbers = making.mosaic_light(np.full((64, 64), 1000.0)) + 512
    return np.rint(numbers).astype(np.uint16)


def test_the_grey_card_comes_out_neutral_at_18_percent():
    picture = develop_crop(flat(), Rect(10, 10, 20, 20), how())
    # 18 % of display white in sRGB: 255 · (1.055 · 0.18^(1/2.4) − 0.055) = 118.
    assert picture.shape == (20, 20, 3)
    assert np.abs(picture.astype(int) - 118).max() <= 1


@pytest.mark.parametrize("corner", [(0, 0), (1, 0), (0, 1), (1, 1)])
def test_crops_that_begin_on_any_site_show_the_same_colours(corner):
    rng = np.random.default_rng(2)
    mosaic = making.photon_mosaic(making.mosaic_light(np.full((64, 64), 1000.0)), 2.0, rng)
    whole = develop_crop(mosaic, Rect(0, 0, 64, 64), how())
    x, y = 20 + corner[0], 20 + corner[1]
    part = develop_crop(mosaic, Rect(x, y, 16, 16), how())
    assert np.array_equal(part, whole[y : y + 16, x : x + 16])


def test_reduced_frames_keep_colour_and_average_noise():
    picture = develop_reduced(flat(), 4, how())
    assert picture.shape == (8, 8, 3)
    assert np.abs(picture.astype(int) - 118).max() <= 1


def test_a_crop_outside_the_frame_is_refused():
    with pytest.raises(ValueError, match="outside"):
        develop_crop(flat(), Rect(60, 60, 16, 16), how())


def test_gains_need_light_in_every_channel():
    with pytest.raises(ValueError, match="no signal"):
        gains_from_grey(grey_means() | {"B": 0.0})


def test_the_display_curve_keeps_its_ends():
    assert display_encoded(np.array([-0.5, 0.0, 1.0, 7.0])).tolist() == [0, 0, 255, 255]


def test_neutral_stays_neutral_through_the_matrix():
    np.testing.assert_allclose(camera_to_srgb(making.MATRIX) @ np.ones(3), np.ones(3), atol=1e-12)
    np.testing.assert_array_equal(camera_to_srgb(None), np.eye(3))


def test_white_is_lab_100_0_0():
    np.testing.assert_allclose(lab_of_linear_srgb(np.ones(3)), (100, 0, 0), atol=1e-6)
    assert delta_e_2000(np.array([50.0, 0, 0]), np.array([50.0, 0, 0])) == 0


def ramp():
    """A mosaic of one hue whose brightness rises evenly to the right and down; balanced it is R = G = B."""
    rows, columns = np.mgrid[0:64, 0:64]
    light = 1000.0 + 8 * rows + 16 * columns
    return light, np.rint(making.mosaic_light(light) + 512)


@pytest.mark.parametrize("developer", DEVELOPERS)
def test_both_developers_draw_an_even_slope_exactly(developer):
    light, mosaic = ramp()
    gains = tuple(0.18 / (1000 * making.RESPONSE[c]) for c in "RGB")
    chosen = replace(how(gains), developer=developer, xyz_to_camera=None)
    rect = Rect(10, 12, 30, 20)
    got = interpolated_crop(mosaic.astype(np.uint16), rect, chosen)
    wanted = light[12:32, 10:40, None] / 1000 * 0.18
    # Whole numbers leave half a DN, at most doubled by red's weak response.
    assert np.abs(got - wanted).max() < 0.18 / 1000 * 1.2


@pytest.mark.parametrize("developer", DEVELOPERS)
@pytest.mark.parametrize("corner", [(0, 0), (1, 0), (0, 1), (1, 1)])
def test_a_crop_is_part_of_the_whole_whatever_the_developer(developer, corner):
    rng = np.random.default_rng(3)
    mosaic = making.photon_mosaic(making.mosaic_light(np.full((64, 64), 1000.0)), 2.0, rng)
    chosen = replace(how(), developer=developer)
    x, y = 20 + corner[0], 20 + corner[1]
    whole = develop_crop(mosaic, Rect(0, 0, 64, 64), chosen)
    assert np.array_equal(develop_crop(mosaic, Rect(x, y, 16, 16), chosen), whole[y : y + 16, x : x + 16])


def test_the_gradient_developer_draws_edges_better_and_measured_sites_alike():
    """Malvar, He and Cutler report 5.5 dB over bilinear on photographs; on the drawn scene it must at least be nearer."""
    scene = specimen_drawer().reflectance[200:520, 200:680].astype(np.float64)
    mosaic = np.empty(scene.shape[:2])
    for name in making.LAYOUT.channels:
        row, column = making.LAYOUT.sites(name)[0].row, making.LAYOUT.sites(name)[0].column
        mosaic[row::2, column::2] = scene[row::2, column::2, "RGB".index(name[0])] * 8000 + 512
    plain = Development(making.LAYOUT, dict.fromkeys(making.LAYOUT.channels, 512.0), (1 / 8000,) * 3, None)
    rect = Rect(8, 8, 464, 304)
    errors = {}
    for developer in DEVELOPERS:
        got = interpolated_crop(mosaic.astype(np.uint16), rect, replace(plain, developer=developer))
        truth = scene[8:312, 8:472]
        errors[developer] = float(((got - truth) ** 2).mean())
        # A green site keeps its own value: (0, 1) is green.
        assert np.abs(got[0::2, 1::2, 1] - truth[0::2, 1::2, 1]).max() < 1 / 8000
    assert errors["gradient"] < 0.6 * errors["plain"]


def test_black_and_white_is_luminance():
    mosaic = flat()
    mosaic[::2, ::2] += 400
    coloured = develop_crop(mosaic, Rect(10, 10, 8, 8), replace(how(), xyz_to_camera=None))
    grey = develop_crop(mosaic, Rect(10, 10, 8, 8), replace(how(), xyz_to_camera=None, monochrome=True))
    assert np.ptp(coloured.astype(int), axis=-1).min() > 10
    assert np.ptp(grey.astype(int), axis=-1).max() == 0
    # Luminance lies between the weakest and the strongest colour (IEC 61966-2-1).
    assert (grey[..., 0] > coloured.min(axis=-1)).all()
    assert (grey[..., 0] < coloured.max(axis=-1)).all()


def test_a_moved_picture_is_interpolated():
    _, mosaic = ramp()
    rect = Rect(20, 20, 10, 10)
    still = interpolated_crop(mosaic.astype(np.uint16), rect, how((1e-3, 1e-3, 1e-3)))
    moved = interpolated_crop(mosaic.astype(np.uint16), rect, replace(how((1e-3, 1e-3, 1e-3)), shift_px=(0.5, 0.0)))
    # Half a pixel to the right shows what lay half a pixel to the left: 8 DN of 16 a column.
    assert (still - moved)[..., 1].mean() == pytest.approx(8e-3, rel=0.05)
