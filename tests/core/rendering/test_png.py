"""The PNG of a crop holds its pixels to the last one, whatever reads it, and tells nothing by its length."""

import io

import numpy as np
import pytest
from PIL import Image

from yellowjacket.core.rendering.png import stored_png


@pytest.mark.outside
@pytest.mark.parametrize("shape", [(1, 1, 3), (196, 227, 3), (300, 400), (513, 1024, 3)])
def test_a_reader_of_others_finds_every_pixel(shape):
    """Pillow reads what is written here, and checks the sums of all chunks."""
    picture = np.random.default_rng(3).integers(0, 256, shape).astype(np.uint8)
    with Image.open(io.BytesIO(stored_png(picture))) as image:
        assert image.format == "PNG"
        np.testing.assert_array_equal(np.asarray(image), picture)


def test_a_noisy_picture_is_as_long_as_a_smooth_one():
    smooth = np.full((90, 120, 3), 118, np.uint8)
    noisy = np.random.default_rng(5).integers(0, 256, smooth.shape).astype(np.uint8)
    assert len(stored_png(smooth)) == len(stored_png(noisy))


@pytest.mark.parametrize("shape", [(0, 4, 3), (4,), (4, 4, 4)])
def test_another_shape_is_refused(shape):
    with pytest.raises(ValueError, match="not empty"):
        stored_png(np.zeros(shape, np.uint8))
