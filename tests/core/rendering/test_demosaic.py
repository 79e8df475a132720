"""Filling in colours: flat fields and slopes come out exactly, means of areas as scikit-image's."""

import numpy as np
import pytest
from skimage.measure import block_reduce

from yellowjacket.core.rendering.demosaic import area_means, balanced, encoded, filled_in

COLOURS = np.array([[0, 1], [1, 2]])


def filled(field, gradient):
    """A grey field seen through the filters and filled in again."""
    area = field.astype(np.uint16)
    padded = np.empty((area.shape[0] + 4, area.shape[1] + 4), np.float32)
    balanced(area, np.zeros((2, 2), np.float32), np.ones((2, 2), np.float32), padded)
    result = np.empty((*area.shape, 3), np.float32)
    filled_in(padded, COLOURS, gradient, result)
    return result


@pytest.mark.parametrize("gradient", [False, True])
def test_a_flat_field_is_flat_in_every_colour_to_the_rim(gradient):
    np.testing.assert_allclose(filled(np.full((12, 16), 700), gradient), 700)


@pytest.mark.parametrize("gradient", [False, True])
def test_a_slope_comes_out_exactly_inside(gradient):
    """Both ways are linear and symmetric: a plane is kept (Malvar, He and Cutler 2004; from memory)."""
    rows, columns = np.mgrid[:20, :24]
    plane = 100 + 6 * rows + 4 * columns
    inside = filled(plane, gradient)[4:-4, 4:-4]
    for colour in range(3):
        np.testing.assert_allclose(inside[..., colour], plane[4:-4, 4:-4], rtol=1e-6)


def test_black_and_gain_are_taken_by_place_in_the_tile():
    area = np.full((4, 4), 110, np.uint16)
    padded = np.empty((8, 8), np.float32)
    black, gain = np.array([[10, 20], [30, 40]], np.float32), np.array([[1, 2], [3, 4]], np.float32)
    balanced(area, black, gain, padded)
    np.testing.assert_allclose(padded[2:4, 2:4], [[100, 180], [240, 280]])
    # The rim mirrors the tile: two rows above the first lies the row of its own kind.
    np.testing.assert_allclose(padded[0:2, 2:4], padded[4:2:-1, 2:4])


def test_areas_are_averaged_as_scikit_image_does():
    linear = np.random.default_rng(1).random((24, 30, 3)).astype(np.float32)
    result = np.empty((8, 10, 3), np.float32)
    area_means(linear, 3, 3, result)
    np.testing.assert_allclose(result, block_reduce(linear, (3, 3, 1), np.mean), rtol=1e-5)


def test_a_pixel_across_a_border_counts_by_its_share():
    linear = np.arange(5, dtype=np.float32)[None, :, None].repeat(3, axis=2)
    result = np.empty((1, 2, 3), np.float32)
    area_means(linear, 1, 2.5, result)
    np.testing.assert_allclose(result[0, :, 0], [(0 + 1 + 0.5 * 2) / 2.5, (0.5 * 2 + 3 + 4) / 2.5])


def test_codes_are_those_of_the_curve():
    codes = np.arange(256) / 255
    borders = np.append((codes[1:] + codes[:-1]) / 2, 1.0)
    guess = np.searchsorted(borders, np.arange(1024) / 1024, side="right").astype(np.uint8)
    values = np.array([-1.0, 0.0, 0.2, 0.5, 0.9999, 1.0, 7.0])
    result = np.empty(values.size, np.uint8)
    encoded(values, borders, guess, result)
    np.testing.assert_array_equal(result, np.clip(np.rint(values * 255), 0, 255))
