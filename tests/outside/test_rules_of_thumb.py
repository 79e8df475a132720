"""Rules of thumb of the trade, as the advice must bear them out (common practice, no source)."""

import math
from itertools import pairwise

import pytest

from yellowjacket.core.limits.exposure_advice import Asked, BodyFindings, MarkFindings, options, predicted
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.limits.tolerance import Profile
from yellowjacket.core.metrology.estimate import with_error
from yellowjacket.simcam.bodies import FEN, HEATH

pytestmark = pytest.mark.outside
MARKS = (100, 200, 400, 800, 1600, 3200, 6400)


def of_pixels(saturation_e: float, read_e: float) -> BodyFindings:
    """A body whose read noise is the same at every ISO."""
    marks = [
        MarkFindings(iso, float(iso), with_error(read_e, 0.01, 99), with_error(saturation_e * 100 / iso, 1.0, 99))
        for iso in MARKS
    ]
    return BodyFindings(marks)


def known(body) -> BodyFindings:
    return BodyFindings([
        MarkFindings(
            iso, float(iso), with_error(body.read_noise_e(iso), 0.01, 99), with_error(body.saturation_e(iso), 1.0, 99)
        )
        for iso in MARKS if body.lowest_iso <= iso <= body.highest_iso
    ])  # fmt: skip


def test_half_the_pixel_pitch_costs_two_stops_of_signal_a_pixel_and_nothing_a_picture():
    """A quarter of the area gathers a quarter of the light; at one output size four times the pixels make up for it."""
    coarse, fine = of_pixels(60_000, 4.0), of_pixels(15_000, 2.0)
    one, other = predicted(coarse, 1600, 1600), predicted(fine, 1600, 1600)
    # Where light's own noise rules, two stops of signal are one stop of SNR.
    assert math.log2(one.grey_snr.value / other.grey_snr.value) == pytest.approx(1.0, abs=0.02)
    same_print = 12_000_000
    at_print = [
        predicted(body, 1600, 1600, 0.0, use_noise_factor(pixels, same_print)[0]).shadow_snr.value
        for body, pixels in ((coarse, 24_000_000), (fine, 96_000_000))
    ]
    assert at_print[0] == pytest.approx(at_print[1], rel=0.01)


def test_one_stop_more_iso_in_the_same_light_is_one_stop_of_highlights_less():
    body = of_pixels(60_000, 4.0)
    kept = [predicted(body, iso, 1600).highlight_stops.value for iso in (400, 800, 1600)]
    assert [a - b for a, b in pairwise(kept)] == pytest.approx([1.0, 1.0])


def test_base_iso_pushed_by_three_stops_costs_little_on_many_bodies_and_more_on_others():
    """The Heath is invariant from its second base on; the Fen is an old body of high read noise at base."""

    def lost(body, shot: int, wanted: int) -> float:
        right, pushed = (predicted(known(body), iso, wanted).shadow_snr.value for iso in (wanted, shot))
        return math.log2(right / pushed)

    assert lost(HEATH, 800, 6400) < 0.1
    assert lost(FEN, 200, 1600) > 3 * max(lost(HEATH, 800, 6400), 0.0)
    best = options(known(HEATH), 6400, Asked(Profile("default")))[0]
    assert best.mark == 800
    assert best.push_stops == pytest.approx(3.0)
