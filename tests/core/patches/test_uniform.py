import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests import making
from yellowjacket.core.patches.uniform import propose_patches
from yellowjacket.core.raw.rect import Rect, even_rect

STEP_PX = making.WIDTH // making.STEPS


@pytest.fixture(scope="module")
def proposals():
    rng = np.random.default_rng(5)
    return propose_patches(*(making.frame_of(making.shot(100, rng)) for _ in range(2)))


def step_of(rect):
    """Which step of the test wedge a patch lies on; it must not straddle two."""
    first, last = rect.x // STEP_PX, (rect.x + rect.w - 1) // STEP_PX
    assert first == last
    return first


def test_grey_shadow_and_black_are_found_where_the_wedge_has_them(proposals):
    places = {p.role: step_of(p.rect) for p in proposals if p.role != "field"}
    assert places["grey"] == making.GREY_STEP
    assert places["shadow"] == making.GREY_STEP + 3
    assert places["black"] > making.GREY_STEP + 4


def test_fields_cover_the_rest_without_overlap(proposals):
    rects = [p.rect for p in proposals]
    for n, one in enumerate(rects):
        step_of(one)
        for other in rects[n + 1 :]:
            apart = one.x + one.w <= other.x or other.x + other.w <= one.x
            assert apart or one.y + one.h <= other.y or other.y + other.h <= one.y
    assert len({step_of(rect) for rect in rects}) == making.STEPS


def test_a_fine_texture_is_not_uniform_and_noise_is():
    rng = np.random.default_rng(6)
    light = np.full((256, 256), making.GREY_DN)
    light[:, 128:] *= np.exp(0.1 * rng.standard_normal((256, 128)))
    frames = [making.frame_of(making.photon_mosaic(making.mosaic_light(light), 2.0, rng)) for _ in range(2)]
    found = propose_patches(*frames)
    assert found
    assert all(p.rect.x + p.rect.w <= 128 for p in found)


def test_a_scene_without_grey_gets_no_patch_called_grey():
    rng = np.random.default_rng(6)
    light = making.mosaic_light(np.full((256, 256), making.GREY_DN))
    light[0::2, 0::2] *= 3  # strongly red
    found = propose_patches(*(making.frame_of(making.photon_mosaic(light, 2.0, rng)) for _ in range(2)))
    assert {p.role for p in found} == {"field"}


def test_frames_of_two_sizes_are_refused(rng):
    one = making.frame_of(making.shot(100, rng))
    with pytest.raises(ValueError, match="differ in size"):
        propose_patches(one, making.frame_of(one.mosaic[:-2]))


@given(*[st.floats(-1e4, 1e4)] * 4, st.integers(16, 3000), st.integers(16, 3000))
def test_a_patch_drawn_anywhere_ends_even_and_inside(x, y, w, h, width, height):
    rect = even_rect(x, y, w, h, width, height)
    assert rect.fits(width, height)
    assert all(side % 2 == 0 for side in (rect.x, rect.y, rect.w, rect.h))


def test_a_rectangle_cuts_the_same_sites_out_of_each_plane(rng):
    frame = making.frame_of(making.shot(100, rng))
    assert Rect(32, 64, 16, 8).cells(frame, "B").shape == (4, 8)
