"""Rectangles inside frames."""

import pytest

from yellowjacket.core.raw.rect import clamped


@pytest.mark.parametrize("size", [(100_000, 60), (60, 100_000), (12_000, 8_500), (20, 20)])
def test_crops_stay_inside_frames_of_any_shape(size):
    for centre in ((0, 0), (size[0] // 2, size[1] // 2), (10**6, 10**6)):
        assert clamped(*size, centre, (227, 196)).fits(*size)
