"""Noise in the developed picture, against error propagation through the interpolation and CIELAB, and against whole frames that
other libraries developed and scaled."""

from itertools import pairwise

import numpy as np
import pytest
from PIL import Image

from yellowjacket.core.colour.colorimetry import camera_to_srgb, lab_of_linear_srgb
from yellowjacket.core.image_quality.visual_noise import appearance
from yellowjacket.core.raw.frame import BAYER, Layout
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import GRADIENT, LUMINANCE, Development, developed_crop

BLACK = 512.0
LEVELS = {"R": 550.0, "G1": 1000.0, "G2": 1000.0, "B": 700.0}
SIGMAS = {"R": 8.0, "G1": 11.0, "G2": 11.0, "B": 9.0}
XYZ_TO_CAMERA = np.array([[0.72, -0.21, -0.08], [-0.42, 1.21, 0.23], [-0.06, 0.21, 0.58]])
MATRIX = camera_to_srgb(XYZ_TO_CAMERA)
TILE = (("R", "G1"), ("G2", "B"))
GAINS = (0.18 / 550, 0.18 / 1000, 0.18 / 700)
HOW = Development(Layout(BAYER, TILE), dict.fromkeys(LEVELS, BLACK), GAINS, XYZ_TO_CAMERA, GRADIENT)


def over(values, side):
    """What belongs to a channel, at each of its sites."""
    return np.tile(np.array([[values[name] for name in row] for row in TILE]), (side // 2, side // 2))


def mosaic(rng, side=192, smooth=False, slope=0.0):
    """One frame of an even grey patch; ``smooth``: neighbours of a colour mixed, as a cooked raw has them."""
    noise = rng.normal(0.0, 1.0, (side, side)) * over(SIGMAS, side)
    if smooth:
        for axis in (0, 1):
            noise = 0.5 * noise + 0.25 * (np.roll(noise, 2, axis) + np.roll(noise, -2, axis))
    light = over(LEVELS, side) * (1 + slope * np.linspace(-1, 1, side))
    return np.rint(BLACK + light + noise).astype(np.uint16)


def developed(rng, side=192, **kwargs):
    """The middle of a frame: at a frame's own rim the interpolation has no neighbours."""
    return developed_crop(mosaic(rng, side + 8, **kwargs), Rect(4, 4, side, side), HOW)


def of_pair(rng, px, **kwargs):
    return appearance(developed(rng, **kwargs), developed(rng, **kwargs), px, coloured=True)


def propagated(px):
    """σ of L*, hypot of σ_a and σ_b, and SNR, exactly: every site by itself is moved by its σ, developed, and averaged over all
    that the interpolation reaches. Averages of ``px`` pixels, at whole tiles."""
    side, around = 8 * px, 2 * px
    flat = BLACK + over(LEVELS, side)
    base = np.array([LEVELS["R"], 1000.0, LEVELS["B"]]) * np.array(GAINS)
    step = 1e-6 * np.eye(3)
    jacobian = np.array([(lab_of_linear_srgb((base + s) @ MATRIX.T) - lab_of_linear_srgb(base @ MATRIX.T)) / 1e-6
                         for s in step]).T  # fmt: skip
    rect, reached = Rect(0, 0, side, side), np.zeros((5, 5))
    plain = developed_crop(flat.astype(np.uint16), rect, HOW)
    to_lab = np.vstack([jacobian @ np.linalg.inv(MATRIX), LUMINANCE])
    for y in range(3 * px - around, 5 * px + around):
        for x in range(3 * px - around, 5 * px + around):
            moved = flat.astype(np.uint16)
            moved[y, x] += 100
            # The interpolation is linear: what a hundred DN do, σ does in proportion. Rounding adds a twelfth of a DN².
            change = (developed_crop(moved, rect, HOW) - plain) / 100 * np.hypot(SIGMAS[TILE[y % 2][x % 2]], 12**-0.5)
            for row in (3, 4):
                for column in (3, 4):
                    block = change[row * px : (row + 1) * px, column * px : (column + 1) * px].mean(axis=(0, 1))
                    seen = to_lab @ block
                    reached[:4, :1] += seen[:, None] ** 2 / 4
    luma, a, b, light = np.sqrt(reached[:4, 0])
    return float(luma), float(np.hypot(a, b)), float(plain.mean(axis=(0, 1)) @ LUMINANCE / light)


@pytest.mark.parametrize("px", [1, 2, 5])
def test_noise_is_what_propagation_through_the_interpolation_says(px):
    rng = np.random.default_rng(4)
    found = of_pair(rng, px)
    for quantity, truth in zip((found.luma, found.chroma, found.snr), propagated(px), strict=True):
        assert abs(quantity.value - truth) < 3 * quantity.se
        assert quantity.se / quantity.value < 2.5 / np.sqrt(2 * (192 / px) ** 2)


def brute_force(pair, px, how):
    """Whole frames scaled down by Pillow in floating point, their rims left out: σ of colour, and SNR of the luminance."""
    small = []
    for picture in pair:
        side = round(picture.shape[0] / px)
        planes = [Image.fromarray(picture[..., n]).resize((side, side), how) for n in range(3)]
        small.append(np.stack([np.asarray(plane, float) for plane in planes], axis=-1)[3:-3, 3:-3])
    noise = (lab_of_linear_srgb(small[0]) - lab_of_linear_srgb(small[1])) / np.sqrt(2)
    light = ((small[0] - small[1]) @ LUMINANCE) / np.sqrt(2)
    return np.hypot(noise[..., 1].std(), noise[..., 2].std()), (small[0] @ LUMINANCE).mean() / light.std()


def doubled(picture, times):
    return picture.repeat(times, axis=0).repeat(times, axis=1)


@pytest.mark.parametrize(("times", "block"), [(8, 11), (4, 19)])
def test_fractions_of_pixels_agree_with_whole_frames_that_were_enlarged_first(times, block):
    """11/8 and 19/4 pixels to the output pixel: 24 and 2 MP of a picture of 45 MP."""
    rng = np.random.default_rng(12)
    pair = [developed(rng, side=block * 24) for _ in range(2)]
    found = appearance(*pair, block / times, coloured=True)
    chroma, snr = brute_force([doubled(one, times) for one in pair], block, Image.Resampling.BOX)
    assert found.chroma.value == pytest.approx(chroma, rel=0.03)
    assert found.snr.value == pytest.approx(snr, rel=0.03)


def test_at_small_sizes_a_sharper_way_of_scaling_sees_the_same_noise():
    """Lanczos keeps a little more of what is finer than the output's pixels, the less the smaller the picture: under 4 % at
    2 MP of 45."""
    rng = np.random.default_rng(13)
    pair = [developed(rng, side=1200) for _ in range(2)]
    found = appearance(*pair, 4.75, coloured=True)
    chroma, snr = brute_force(pair, 4.75, Image.Resampling.LANCZOS)
    assert found.chroma.value == pytest.approx(chroma, rel=0.05)
    assert found.snr.value == pytest.approx(snr, rel=0.03)


def test_every_size_reads_its_own_noise():
    rng = np.random.default_rng(5)
    pair = [developed(rng) for _ in range(2)]
    at = [appearance(*pair, px, coloured=True) for px in (1, 1.375, 2.5, 4.75)]
    for quantity in ("luma", "chroma"):
        values = [getattr(one, quantity).value for one in at]
        assert values == sorted(values, reverse=True)
        assert min(a / b for a, b in pairwise(values)) > 1.1
    # Noise of colour is coarser than a pixel, so that it averages out by less than the number of pixels promises.
    assert at[0].chroma.value / at[3].chroma.value < 0.6 * 4.75


def test_a_patch_too_small_for_the_use_goes_on_as_white_noise_and_says_so():
    rng = np.random.default_rng(6)
    found = of_pair(rng, 12, side=32)
    assert found.luma.value == pytest.approx(propagated(4)[0] / 3, rel=0.2)
    assert found.snr.value == pytest.approx(propagated(4)[2] * 3, rel=0.2)
    assert "taken as white" in found.luma.reason
    assert "make it larger" in of_pair(rng, 1, side=6).luma.reason


def test_light_and_shade_is_no_noise():
    rng = np.random.default_rng(7)
    even, sloped = (of_pair(rng, 1, slope=s).luma for s in (0.0, 0.2))
    assert sloped.value == pytest.approx(even.value, rel=0.04)


def test_smoothed_noise_has_coarser_grain_and_averages_out_by_less():
    rng = np.random.default_rng(8)
    white, cooked = (of_pair(rng, 1, smooth=s) for s in (False, True))
    assert cooked.grain.low > white.grain.high
    assert cooked.luma.value < 0.5 * white.luma.value
    # Averaged over many pixels smoothing changes nothing: what it hid at the pixel comes back.
    coarse = [of_pair(rng, 16, smooth=s, side=384).luma for s in (False, True)]
    assert coarse[1].value == pytest.approx(coarse[0].value, rel=0.3)


def test_without_filters_there_is_no_noise_of_colour():
    rng = np.random.default_rng(9)
    found = appearance(developed(rng), developed(rng), 1, coloured=False)
    assert found.luma.known
    assert "no colour filters" in found.chroma.reason


def test_intervals_hold_the_truth_as_often_as_they_say():
    rng = np.random.default_rng(9)
    for px in (1, 2):
        truths, inside, tried = propagated(px), 0, 0
        for _ in range(150):
            found = of_pair(rng, px, side=48)
            for quantity, truth in zip((found.luma, found.chroma, found.snr), truths, strict=True):
                inside += quantity.low <= truth <= quantity.high
                tried += 1
        assert 0.92 <= inside / tried <= 0.98
