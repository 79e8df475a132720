import numpy as np
import pytest

from tests import making
from yellowjacket.core.colour import camera_to_srgb, delta_e_2000, lab_of_linear_srgb
from yellowjacket.core.develop import Development, develop_crop, develop_reduced, display_encoded, gains_from_grey
from yellowjacket.core.patches import Rect


def grey_means():
    return {c: 1000 * making.RESPONSE[c[0]] for c in ("R", "G1", "G2", "B")}


def how(gains=None):
    return Development(
        making.OFFSETS, dict.fromkeys(making.OFFSETS, 512.0), gains or gains_from_grey(grey_means()), making.MATRIX
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
