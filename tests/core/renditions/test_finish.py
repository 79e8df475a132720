"""Pictures finished elsewhere: matched by name or noise, laid on their frame, and what was done to them."""

import numpy as np
import pytest
from PIL import Image
from scipy.ndimage import gaussian_filter

from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.registration.similarity import Similarity
from yellowjacket.core.rendering.develop import display_encoded
from yellowjacket.core.renditions.finish import Cuts, cut_like, effect_of, named_after, placed, same_noise, upright
from yellowjacket.simcam.scene import specimen_drawer


@pytest.fixture(scope="module")
def scene():
    return np.clip(specimen_drawer().reflectance[:800, :1200].astype(np.float64), 0.001, 0.95)


def noisy(scene, rng, sigma=0.02):
    return scene + rng.normal(0, sigma, scene.shape)


@pytest.mark.parametrize(
    ("name", "key"),
    [
        ("OH-0012.tif", 1),
        ("OH-0012-denoised.jpg", 1),
        ("final_oh-0120.png", 2),
        ("OH-001.png", None),
        ("other.jpg", None),
    ],
)
def test_names(name, key):
    assert named_after(name, {"OH-0012": 1, "OH-0120": 2}) == key


def test_two_frames_in_one_name_are_none():
    assert named_after("OH-0012+OH-0120.tif", {"OH-0012": 1, "OH-0120": 2}) is None


def test_a_frame_is_known_by_its_own_noise_through_curve_and_some_denoising(scene, rng):
    frames = {n: noisy(scene, rng)[..., 1].astype(np.float32) for n in range(5)}
    curved = np.clip(frames[3], 1e-4, 1) ** 0.7 * 0.8
    softened = gaussian_filter(curved, 0.8).astype(np.float32)
    assert same_noise(softened, frames) == 3
    # Nothing of its noise is left: nobody is named.
    assert same_noise(gaussian_filter(scene[..., 1], 2).astype(np.float32), frames) is None
    assert same_noise(softened, {3: frames[3]}) is None


def test_a_picture_of_half_the_size_that_lost_its_rim_is_laid_on_its_frame(scene, rng):
    whole = display_encoded(noisy(scene, rng))
    small = np.asarray(Image.fromarray(whole[16:-16, 8:-24]).resize((584, 384), Image.Resampling.BOX))
    place = placed(scene[..., 1].astype(np.float32), (1200, 800), small)
    assert place.scale == pytest.approx(0.5, rel=0.005)
    # The middle of the first moth's eye-spot.
    assert np.array(place.at((466.0, 330.0))) == pytest.approx(((466 - 8) / 2, (330 - 16) / 2), abs=1.0)


def test_a_picture_whose_rim_was_cut_off_keeps_its_scale(scene, rng):
    picture = display_encoded(noisy(scene, rng))[10:-14, 6:-8]
    place = placed(scene[..., 1].astype(np.float32), (1200, 800), picture)
    assert place.at((466.0, 330.0)) == pytest.approx((460, 320), abs=0.3)


def test_a_picture_that_stands_is_tried_both_ways(scene):
    lying = display_encoded(scene)
    assert len(upright(lying, (1200, 800))) == 1
    both = upright(np.rot90(lying, 3), (1200, 800))
    assert any(np.array_equal(one, lying) for one in both)


def test_whole_shifts_are_cut_and_others_interpolated(scene):
    picture = display_encoded(scene)
    rect = Rect(100, 200, 40, 30)
    assert np.array_equal(cut_like(picture, Similarity(), rect), picture[200:230, 100:140])
    assert np.array_equal(cut_like(picture, Similarity(x0=5, y0=-3), rect), picture[197:227, 105:145])
    half = cut_like(picture, Similarity(x0=0.5), rect)
    wanted = (picture[200:230, 100:140].astype(float) + picture[200:230, 101:141]) / 2
    assert np.abs(half - wanted).max() <= 1
    assert cut_like(picture, Similarity(x0=5000), rect) is None
    assert cut_like(picture, Similarity(0.5, 0, 1140, 0), rect) is None


def test_what_denoising_did_is_found_again(scene, rng):
    """A Gaussian blur of σ leaves exp(−2π²σ²f²) of the contrast at frequency f: noise and detail fall alike."""
    even, textured = Rect(1420, 60, 120, 120), Rect(1010, 940, 200, 200)
    whole = np.clip(specimen_drawer().reflectance.astype(np.float64), 0.001, 0.95)

    def cuts(rect, blur):
        clean = whole[rect.y : rect.y + rect.h, rect.x : rect.x + rect.w]
        as_is = [clean + rng.normal(0, 0.02, clean.shape) for _ in range(2)]
        done = [gaussian_filter(one, (blur, blur, 0)) if blur else one for one in as_is]
        return Cuts([display_encoded(one) for one in as_is], [display_encoded(one) for one in done])

    clean = display_encoded(whole[textured.y : textured.y + 200, textured.x : textured.x + 200])
    same = effect_of([cuts(even, 0)], cuts(textured, 0), clean)
    assert same.luma.value == pytest.approx(same.luma_as_is.value)
    assert same.detail_kept.value == pytest.approx(1.0)
    assert same.colour_de00.value == pytest.approx(0.0, abs=1e-6)
    soft = effect_of([cuts(even, 1.2)], cuts(textured, 1.2), clean)
    # White noise through that blur keeps 1/(2σ√π) of its spread.
    assert soft.luma.value / soft.luma_as_is.value == pytest.approx(1 / (2 * 1.2 * np.sqrt(np.pi)), rel=0.12)
    assert soft.chroma.value < 0.4 * soft.chroma_as_is.value
    assert 0.1 < soft.detail_kept.value < 0.8
    assert soft.detail_kept.low < soft.detail_kept.value < soft.detail_kept.high


def test_without_patches_there_are_reasons(scene):
    nothing = effect_of([], None, None)
    assert "no uniform patch" in nothing.luma.reason
    assert "no texture" in nothing.detail_kept.reason
    small = Cuts([display_encoded(scene[:10, :10])], [display_encoded(scene[:10, :10])])
    assert "too small" in effect_of([], small, display_encoded(scene[:10, :10])).detail_kept.reason
