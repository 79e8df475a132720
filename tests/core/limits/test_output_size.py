"""A use beyond its pixel count: crop, print, distance, black and white."""

import math

import pytest

from yellowjacket.core.limits.output_size import UseView, preview_scale
from yellowjacket.core.limits.tolerance import Profile


def test_half_the_frame_is_seen_at_twice_the_scale():
    """Half the area on the same output: noise is averaged over half as many pixels (a half is one stop of it)."""
    assert UseView(2_000_000, crop_share=0.5).whole_frame_pixels == 4_000_000
    assert UseView(None, crop_share=0.5).whole_frame_pixels is None


def test_the_eye_tells_apart_one_arc_minute():
    """Acuity 1 is one arc minute (ISO 8596; from memory): 3438 lines at a distance equal to the width."""
    use = UseView(24_000_000, print_width_cm=60, viewing_cm=60)
    across = math.sqrt(use.eye_pixels * 1.5)
    assert across == pytest.approx(1 / math.tan(math.radians(1 / 60)), rel=1e-6)
    assert use.limited_by_eye
    assert use.whole_frame_pixels == round(use.eye_pixels)
    # Seen from twice as far, a quarter is left; a web picture is coarser than the eye.
    assert UseView(24_000_000, print_width_cm=60, viewing_cm=120).eye_pixels == pytest.approx(use.eye_pixels / 4)
    assert not UseView(2_000_000, print_width_cm=60, viewing_cm=60).limited_by_eye


def test_a_use_is_looked_at_from_where_it_says():
    """As far as its diagonal, 3 : 2 is 45° wide: 6000 pixels over it are 126 to a degree in the middle (geometry). What the eye
    limits has one pixel to an arc minute. A screen of 100 to the inch from 50 cm has 34 to a degree."""
    whole = UseView(24_000_000).looked_at
    assert whole.pixels_per_degree == pytest.approx(6000 * math.hypot(3, 2) / 3 * math.tan(math.radians(1)), rel=1e-3)
    assert UseView(24_000_000, print_width_cm=60, viewing_cm=60).looked_at.pixels_per_degree == pytest.approx(
        60, rel=1e-3
    )
    assert UseView(None).looked_at.pixels_per_degree == pytest.approx(34.4, abs=0.1)
    # A distance alone: 6000 px at 300 to the inch are 50.8 cm.
    alone = UseView(24_000_000, viewing_cm=100).looked_at.pixels_per_degree
    assert alone == pytest.approx(6000 / 0.508 * math.tan(math.radians(1)))
    # Half the frame on the same paper: the output's pixels stay as large.
    cropped = UseView(2_000_000, 0.5, 40, 60).looked_at.pixels_per_degree
    assert cropped == pytest.approx(UseView(2_000_000, 1.0, 40, 60).looked_at.pixels_per_degree, rel=1e-6)
    assert not UseView(2_000_000, monochrome=True).looked_at.coloured


def test_a_use_says_what_it_is():
    use = UseView(24_000_000, 0.5, 60, 100, True)
    assert use.words == "24 MP, half the frame, 60 cm wide seen from 100 cm (2.8 MP to the eye), black and white"
    assert UseView(None).words == "each pixel"


def test_the_preview_on_screen_subtends_what_the_print_does():
    """40 cm wide, 6000 px across: 381 px to the inch. A screen of 110 px to the inch at the same distance shows
    110/381 screen pixels for each of them."""
    use = UseView(24_000_000, print_width_cm=40, viewing_cm=60)
    assert use.print_ppi == pytest.approx(6000 / (40 / 2.54))
    assert preview_scale(use, 110, 60) == pytest.approx(110 / use.print_ppi)
    # Twice as far away the print looks half as large.
    assert preview_scale(UseView(24_000_000, 1, 40, 120), 110, 60) == pytest.approx(55 / use.print_ppi)
    assert UseView(2_000_000).print_ppi == 300
    with pytest.raises(ValueError, match="positive"):
        preview_scale(use, 0, 60)


def test_colour_does_not_count_in_black_and_white():
    keys = {one.key for one in Profile("x").seen_in(monochrome=True).criteria}
    assert keys == {"grey_snr", "shadow_snr", "detail"}
    assert len(Profile("x").seen_in(monochrome=False).criteria) == 6
