"""The same spot on two bodies: fits, automatic matching, shifts, and what cannot be matched."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.ndimage import gaussian_filter, shift

from yellowjacket.core.registration.similarity import (
    NoMatch,
    Similarity,
    fitted,
    found,
    reduced,
    scaled_to,
    shift_between,
)
from yellowjacket.simcam.scene import specimen_drawer


@given(
    st.floats(0.3, 3), st.floats(-0.5, 0.5), st.floats(-500, 500), st.floats(-500, 500),
)  # fmt: skip
def test_a_fit_gives_back_the_transform(scale, angle, x0, y0):
    truth = Similarity(scale * np.cos(angle), scale * np.sin(angle), x0, y0)
    here = [(10.0, 20.0), (900.0, 40.0), (300.0, 700.0)]
    got = fitted(here, [truth.at(point) for point in here])
    assert got.at((512.0, 333.0)) == pytest.approx(truth.at((512.0, 333.0)), abs=1e-6)
    assert got.scale == pytest.approx(scale)
    assert got.turned_deg == pytest.approx(np.degrees(angle), abs=1e-6)
    assert got.residual_px < 1e-6
    assert got.back(got.at((77.0, 5.0))) == pytest.approx((77.0, 5.0), abs=1e-6)


def test_a_fit_says_how_badly_it_fits():
    got = fitted([(0, 0), (100, 0), (0, 100)], [(0, 0), (100, 0), (0, 104)])
    assert 0.5 < got.residual_px < 3


@pytest.mark.parametrize(
    ("here", "there"), [([(1, 1)], [(2, 2)]), ([(5, 5), (5, 5)], [(1, 1), (9, 9)]), ([(1, 1), (2, 2)], [(1, 1)])]
)
def test_too_little_to_fit(here, there):
    with pytest.raises(NoMatch):
        fitted(here, there)


def test_without_knowledge_centres_lie_on_one_another():
    place = scaled_to((6000, 4000), (3000, 2000))
    assert place.at((3000, 2000)) == pytest.approx((1500, 1000))
    assert place.scale == pytest.approx(0.5)


def test_two_bodies_of_other_size_turn_and_brightness_are_matched_by_themselves(rng):
    from skimage.transform import SimilarityTransform, warp

    scene = specimen_drawer().reflectance.mean(axis=2)
    truth = SimilarityTransform(scale=1.3, rotation=0.02, translation=(30, -12))
    other = warp(scene, truth.inverse, output_shape=(1500, 2300), order=1) * 0.2
    other = np.maximum(other + rng.normal(0, 0.004, other.shape), 1e-4)
    (here, step), (there, its) = reduced(scene), reduced(other)
    got = found(here, there, step, its)
    assert got.points > 50
    for point in ((466.0, 330.0), (1600.0, 1100.0), (100.0, 80.0)):
        wanted = truth(np.array(point))[0]
        # A reduced pixel is 3 raw ones; a spot is 200 wide.
        assert np.hypot(*(np.array(got.at(point)) - wanted)) < 1.5


def test_another_scene_is_no_match(rng):
    scene, _ = reduced(specimen_drawer().reflectance.mean(axis=2))
    blobs = gaussian_filter(rng.normal(size=(420, 630)), 3).astype(np.float32) + 1
    with pytest.raises(NoMatch, match=r"agree|could be matched"):
        found(scene, blobs)
    with pytest.raises(NoMatch):
        found(scene, np.full((300, 400), 0.5, np.float32))


@pytest.mark.parametrize("moved", [(0.0, 0.0), (3.4, -1.7), (-12.25, 6.5)])
def test_a_shift_is_told_to_a_fraction_of_a_pixel(moved, rng):
    scene = specimen_drawer().reflectance.mean(axis=2)[200:600, 100:700].astype(np.float32)
    other = shift(scene, (-moved[1], -moved[0]), order=3, mode="nearest")
    other += rng.normal(0, 0.01, other.shape).astype(np.float32)
    assert shift_between(scene, other) == pytest.approx(moved, abs=0.15)


def test_a_shift_needs_two_pictures_alike(rng):
    with pytest.raises(NoMatch, match="differ in size"):
        shift_between(np.ones((20, 30), np.float32), np.ones((20, 40), np.float32))
    with pytest.raises(NoMatch, match="nothing to see"):
        shift_between(np.ones((20, 30), np.float32), np.ones((20, 30), np.float32))
    one, other = (rng.normal(size=(128, 128)).astype(np.float32) for _ in range(2))
    with pytest.raises(NoMatch, match="No shift stands out"):
        shift_between(one, other)
