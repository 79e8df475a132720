"""Noise made visible, blind sheets on paper, and a picture found back among frames."""

import random

import numpy as np
import pytest
from PIL import Image

from tests import making
from yellowjacket.core.judging import contact_sheet
from yellowjacket.core.noise.maps import SHOWN_SIGMAS, difference_image, pattern_image
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import Development, develop_crop
from yellowjacket.core.renditions.match import Known, PictureTask, examine


def frames(count, sigma=8.0, pattern=0.0, seed=1):
    rng = np.random.default_rng(seed)
    fixed = rng.normal(0, pattern, (256, 256))
    return [
        making.frame_of(np.rint(1000 + fixed + rng.normal(0, sigma, (256, 256))).astype(np.uint16))
        for _ in range(count)
    ]


def test_the_difference_shows_noise_at_three_sigma_and_nothing_that_stays():
    first, second = frames(2, sigma=8.0, pattern=40.0)
    found = difference_image(first, second, 1)
    # Four channels are averaged: half the noise of one pixel.
    assert found.full_scale_dn == pytest.approx(SHOWN_SIGMAS * 8.0 / 2, rel=0.03)
    outside = np.mean((found.picture == 0) | (found.picture == 255))
    # Beyond ±3 σ of a normal distribution lie 0.27 %.
    assert outside == pytest.approx(0.0027, abs=0.0015)


def test_the_pattern_of_darks_grows_clearer_with_their_number():
    few, many = (pattern_image(frames(count, sigma=8.0, pattern=2.0), 1).full_scale_dn for count in (1, 16))
    assert many < few
    assert many == pytest.approx(SHOWN_SIGMAS * (2.0**2 + 8.0**2 / 16) ** 0.5 / 2, rel=0.05)
    with pytest.raises(ValueError, match="at least one dark"):
        pattern_image([], 1)
    with pytest.raises(ValueError, match="differ in size"):
        difference_image(frames(1)[0], making.frame_of(np.zeros((64, 64), np.uint16)), 1)


def test_codes_differ_and_squares_lie_on_the_page_without_touching():
    found = contact_sheet.codes(40, random.Random(1))
    assert len(set(found)) == 40
    slots = contact_sheet.layout(40, 50.0)
    assert {slot.page for slot in slots} == set(range(max(slot.page for slot in slots) + 1))
    for one in slots:
        assert 0 < one.x_mm <= contact_sheet.PAGE_MM[0] - one.side_mm
        assert 0 < one.y_mm <= contact_sheet.PAGE_MM[1] - one.side_mm
        for other in slots:
            if one is not other and one.page == other.page:
                assert abs(one.x_mm - other.x_mm) >= 50 or abs(one.y_mm - other.y_mm) >= 50
    # An inch is 25.4 mm (ISO 80000-3).
    assert contact_sheet.pixels_on_paper(25.4, 300) == 300
    for side in (0.0, 500.0):
        with pytest.raises(ValueError, match="does not fit"):
            contact_sheet.layout(1, side)
    with pytest.raises(ValueError, match="a sheet takes"):
        contact_sheet.codes(9999, random.Random(1))


@pytest.fixture
def rendered(tmp_path):
    """Three frames of one scene and a picture that was made of the second."""
    rng = np.random.default_rng(5)
    texture = 1 + 0.3 * rng.standard_normal((making.HEIGHT // 8, making.WIDTH // 8)).repeat(8, 0).repeat(8, 1)
    light = making.mosaic_light(np.clip(texture, 0.2, 2)) * making.GREY_DN
    known = []
    for n in range(3):
        path = making.write(tmp_path / f"F{n}.DNG", making.photon_mosaic(light, 2.0, rng))
        known.append(Known(n, n, str(path), 100, 0.125, f"2026-03-14T20:00:0{n}"))
    how = Development(
        making.LAYOUT, dict.fromkeys(making.LAYOUT.channels, float(making.BLACK)), (1e-4, 1e-4, 1e-4), None
    )
    from pathlib import Path

    from yellowjacket.core.raw.reader import read_frame

    mosaic = read_frame(Path(known[1].path)).mosaic
    picture = Image.fromarray(develop_crop(mosaic, Rect(0, 0, making.WIDTH, making.HEIGHT), how))
    return tuple(known), picture


@pytest.mark.parametrize(("name", "how"), [("F1-finished.png", "by its name"), ("moth.png", "by its noise")])
def test_a_picture_finds_its_frame(rendered, tmp_path, name, how):
    known, picture = rendered
    picture.save(tmp_path / name)
    found = examine(PictureTask(str(tmp_path / name), name, known, ()))
    assert (found.frame, found.rung, found.matched_by) == (1, 1, how)
    assert (found.width, found.height) == (making.WIDTH, making.HEIGHT)


def test_a_picture_on_its_side_is_turned_and_a_strange_one_is_refused(rendered, tmp_path):
    known, picture = rendered
    picture.rotate(90, expand=True).save(tmp_path / "F1.png")
    found = examine(PictureTask(str(tmp_path / "F1.png"), "F1.png", known, ()))
    assert found.quarter_turns in (1, 3)
    assert (found.width, found.height) == (making.WIDTH, making.HEIGHT)
    Image.new("RGB", (300, 200), (90, 90, 90)).save(tmp_path / "elsewhere.png")
    with pytest.raises(FrameError, match="belongs to no frame"):
        examine(PictureTask(str(tmp_path / "elsewhere.png"), "elsewhere.png", known, ()))
