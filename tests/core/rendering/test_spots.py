"""Spots worth looking at on the drawn scene, whose places are known."""

import numpy as np
from scipy.ndimage import gaussian_filter

from tests import making
from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.rendering.develop import Development, gains_from_grey
from yellowjacket.core.rendering.spots import spots_worth_looking_at
from yellowjacket.simcam import scene as drawer


def frame_of_scene(rng):
    reflectance = drawer.specimen_drawer().reflectance.astype(np.float64)
    mosaic = np.empty(reflectance.shape[:2])
    for name in making.LAYOUT.channels:
        row, column = making.LAYOUT.sites(name)[0].row, making.LAYOUT.sites(name)[0].column
        mosaic[row::2, column::2] = reflectance[row::2, column::2, "RGB".index(name[0])] * 11000
    numbers = rng.poisson(np.maximum(mosaic, 0)) + 512
    return RawFrame(
        np.clip(numbers, 0, making.WHITE).astype(np.uint16), making.LAYOUT, dict.fromkeys(making.LAYOUT.channels, 512.0),
        making.WHITE, None, np.ones(3),
    )  # fmt: skip


def inside(spot, box, margin=40):
    x, y, w, h = box
    return x - margin <= spot.x <= x + w + margin and y - margin <= spot.y <= y + h + margin


def test_the_spots_lie_where_the_scene_has_them(rng):
    grey = dict.fromkeys(("R", "G1", "G2", "B"), 0.18 * 11000)
    how = Development(making.LAYOUT, dict.fromkeys(making.LAYOUT.channels, 512.0), gains_from_grey(grey), None)
    found = {spot.name: spot for spot in spots_worth_looking_at(frame_of_scene(rng), how)}
    assert set(found) == {
        "deepest shadow", "flat mid-tone", "finest texture", "strongest red", "strongest blue", "specular highlight",
    }  # fmt: skip
    shadow = found["deepest shadow"]
    # The darkest wedge steps or the black trap.
    assert inside(shadow, drawer.BLACK_BOX) or inside(shadow, drawer.WEDGE_BOX)
    # Fine structure of the scene itself, without noise, far above what most places have.
    green = drawer.specimen_drawer().reflectance[..., 1].astype(np.float64)
    fine = np.abs(green - gaussian_filter(green, 2))[:1200, :1776].reshape(25, 48, 37, 48).mean(axis=(1, 3))
    spot = found["finest texture"]
    assert fine[spot.y // 48, spot.x // 48] > np.percentile(fine, 90)
    assert inside(found["strongest red"], drawer.PATCHES_BOX) or inside(found["strongest red"], (0, 200, 1824, 720))
    assert inside(found["strongest blue"], drawer.PATCHES_BOX) or inside(
        found["strongest blue"], drawer.COLOUR_TEXTURE_BOX
    )


def test_a_black_frame_and_a_small_one_have_little_or_nothing(rng):
    how = Development(making.LAYOUT, dict.fromkeys(making.LAYOUT.channels, 512.0), (1e-4,) * 3, None)
    small = making.frame_of(np.full((96, 96), 512, np.uint16))
    assert spots_worth_looking_at(small, how) == ()
    black = making.frame_of(rng.normal(512, 3, (480, 640)).round().astype(np.uint16))
    assert {spot.name for spot in spots_worth_looking_at(black, how)} <= {"deepest shadow"}
