import math
from statistics import NormalDist

import numpy as np
import pytest

from tests import making
from yellowjacket.core.colour.colorimetry import (
    SRGB_TO_XYZ,
    ChannelMeans,
    PatchColour,
    camera_to_srgb,
    colour_shifts,
    colours_of,
    lightness_change,
    neutral_drift,
    neutral_drift_duv,
    told_apart,
)
from yellowjacket.core.metrology.estimate import with_relative_error
from yellowjacket.core.metrology.notes import Remark

GREY = np.array([1100.0, 2000.0, 2000.0, 1400.0])


def means(scale=(1.0, 1.0, 1.0, 1.0), relative_se=0.001):
    values = GREY * np.array(scale)
    return ChannelMeans(tuple(values), tuple(relative_se * values), 4096)


def drift(patch, reference=None):
    return neutral_drift(patch, reference or means(), making.MATRIX, np.random.default_rng(1))


def test_brightness_alone_is_no_drift():
    found = drift(means((0.25,) * 4))
    assert found.has(Remark.NOT_DISTINGUISHABLE)
    assert found.low == 0.0


def test_a_cast_grows_with_its_strength_and_its_interval_holds_it():
    sizes = [drift(means((1 + cast, 1, 1, 1))).value for cast in (0.02, 0.05, 0.1, 0.2)]
    assert sizes == sorted(sizes)
    exact = drift(means((1.1, 1, 1, 1), 1e-9)).value
    found = drift(means((1.1, 1, 1, 1), 0.005))
    assert found.low < exact < found.high
    assert found.reason == ""


def test_red_and_blue_casts_are_both_seen():
    for scale in ((1.05, 1, 1, 1), (1, 1, 1, 1.05), (0.95, 1, 1, 0.95)):
        assert drift(means(scale)).value > 1


def test_a_channel_without_signal_gives_a_reason_and_no_number():
    assert "no signal above black" in drift(means((0, 1, 1, 1))).reason
    assert drift(means((-0.1, 1, 1, 1))).value is None


def test_the_same_readings_give_the_same_interval():
    assert drift(means((1.03, 1, 1, 1))) == drift(means((1.03, 1, 1, 1)))


def test_noise_widens_the_interval():
    narrow, wide = (drift(means((1.1, 1, 1, 1), se)) for se in (0.001, 0.01))
    assert wide.high - wide.low > 3 * (narrow.high - narrow.low)
    assert wide.value == pytest.approx(narrow.value)


COLOURS = np.array([[2200.0, 1500, 1500, 700], [600, 1800, 1800, 600], [500, 900, 900, 1900], [900, 1700, 1700, 1150]])


def patch(channels, relative_se=0.001, scale=1.0):
    """A patch whose reference reads ``channels`` and whose own rung reads them times ``scale`` (by channel or all)."""
    own = np.array(channels) * scale
    return PatchColour(*(ChannelMeans(tuple(v), tuple(relative_se * np.array(v)), 2000) for v in (own, channels)))


def shifts(patches, grey=None, seed=1):
    return colour_shifts(patches, grey or patch(GREY), making.MATRIX, np.random.default_rng(seed))


def test_a_rung_that_only_got_less_light_keeps_its_colours():
    found = shifts([patch(c, scale=0.6) for c in COLOURS], patch(GREY, scale=0.6))
    assert all(one.has(Remark.NOT_DISTINGUISHABLE) for one in found.de00)
    assert found.mean_de00.low == 0.0


def test_black_added_to_every_channel_moves_colours():
    # An offset is a veil: colours move towards grey.
    lifted = [PatchColour(ChannelMeans(tuple(c + 300), (1.0,) * 4, 2000), patch(c).reference) for c in COLOURS]
    found = shifts(lifted)
    assert found.mean_de00.low > 1.0


def test_the_interval_of_a_colour_shift_holds_the_truth():
    truth = shifts([patch(c, 1e-9, (1.05, 1, 1, 0.97)) for c in COLOURS]).mean_de00.value
    rng, inside = np.random.default_rng(2), 0
    for seed in range(150):
        seen = []
        for colour in COLOURS:
            own = colour * (1.05, 1, 1, 0.97)
            drawn = [rng.normal(values, 0.004 * values) for values in (own, colour)]
            seen.append(PatchColour(*(ChannelMeans(tuple(d), tuple(0.004 * d), 2000) for d in drawn)))
        found = shifts(seen, patch(GREY, 1e-5), seed)
        inside += found.mean_de00.low <= truth <= found.mean_de00.high
    assert inside / 150 > 0.90


def of_lab(*colours):
    return np.array([(50.0, a, b) for a, b in colours])


def test_colours_are_told_apart_as_detection_theory_has_it():
    """d′ is the distance of two means over the standard deviation of either (Macmillan and Creelman; from memory), checked by
    drawing: one that is guessed from a detail is right as often as Φ(d′/2) says."""
    lab, noise = of_lab((0, 0), (6, 8), (30, 0), (30, 11)), 4 * math.sqrt(2)
    found = told_apart(lab, [with_relative_error(noise, 0.02, 900)] * 4)
    assert found.value == pytest.approx(np.median([10, 10, 11, 11]) / 4)
    rng = np.random.default_rng(4)
    drawn = lab[0, 1:] + rng.normal(0, 4, (200_000, 2))
    right = (np.linalg.norm(drawn - lab[0, 1:], axis=1) < np.linalg.norm(drawn - lab[1, 1:], axis=1)).mean()
    assert right == pytest.approx(NormalDist().cdf(10 / 4 / 2), abs=0.003)
    assert found.low < found.value < found.high


def test_patches_of_one_colour_are_no_neighbours():
    quiet = [with_relative_error(1.0, 0.02, 900)] * 4
    # Greys of a wedge lie on one place in a*b*.
    assert "fewer than three colours" in told_apart(of_lab((0, 0), (1, 0), (0, 1), (2, 2)), quiet).reason
    apart = told_apart(of_lab((0, 0), (1, 0), (20, 0), (0, 20)), quiet)
    assert apart.value == pytest.approx(20 / math.sqrt(0.5), rel=0.05)


def test_colours_of_patches_are_developed_by_their_own_grey():
    means = [ChannelMeans(tuple(values), (1.0,) * 4, 2000) for values in (GREY, *COLOURS)]
    lab = colours_of(means, means[0], making.MATRIX)
    assert lab[0, 1:] == pytest.approx([0, 0], abs=1e-9)
    assert (np.hypot(*lab[1:4, 1:].T) > 40).all()
    # Twice the light on all of it changes nothing.
    brighter = [ChannelMeans(tuple(2 * np.array(one.mean_dn)), one.se_dn, 2000) for one in means]
    assert colours_of(brighter, brighter[0], making.MATRIX) == pytest.approx(lab)
    assert colours_of(means, ChannelMeans((0.0,) * 4, (1.0,) * 4, 9), making.MATRIX) is None


def test_without_a_grey_signal_no_colour_is_compared():
    blind = PatchColour(ChannelMeans((0.0,) * 4, (1.0,) * 4, 9), patch(GREY).reference)
    assert "no signal above black" in shifts([patch(COLOURS[0])], blind).mean_de00.reason


def test_blacks_that_were_lifted_are_lighter_by_as_much_as_the_curve_says():
    # CIE 1976 L*: below 0.008856 of white L* is 903.3 times the share (CIE 15; from memory).
    black = GREY / 128
    lifted = PatchColour(*(ChannelMeans(tuple(v), tuple(0.002 * v), 4000) for v in (2 * black, black)))
    found = lightness_change(lifted, patch(GREY), np.random.default_rng(3))
    assert found.value == pytest.approx(903.3 * 0.18 / 128, rel=0.001)
    assert found.low < found.value < found.high


def test_drift_in_chromaticity_is_that_of_the_formula():
    """CIE 1976 u′v′ = 4X/(X + 15Y + 3Z), 9Y/(X + 15Y + 3Z) of both greys (CIE 15:2018, 8.2.2)."""
    matrix = SRGB_TO_XYZ @ camera_to_srgb(making.MATRIX)
    places = []
    for rgb in (np.array([1.08, 1.0, 0.95]), np.ones(3)):
        x, y, z = matrix @ rgb
        places.append(np.array([4 * x, 9 * y]) / (x + 15 * y + 3 * z))
    found = neutral_drift_duv(
        means((1.08, 1, 1, 0.95), 1e-6), means(relative_se=1e-6), making.MATRIX, np.random.default_rng(4)
    )
    assert found.value == pytest.approx(float(np.hypot(*(places[0] - places[1]))), rel=1e-4)
    assert neutral_drift_duv(means(), means(), making.MATRIX, np.random.default_rng(4)).has(Remark.NOT_DISTINGUISHABLE)
