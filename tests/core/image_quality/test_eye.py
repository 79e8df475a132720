"""Noise as the eye weighs it: gratings pass as sensitivity says, distance hides grain, intervals hold."""

from __future__ import annotations

import math
import sys
from unittest.mock import Mock

import numpy as np
import pytest

from yellowjacket.core.colour.colorimetry import SRGB_TO_XYZ, WHITE, slopes_of_luv
from yellowjacket.core.image_quality.eye import colour_sensitivity, light_sensitivity, visual_noise
from yellowjacket.core.image_quality.visual_noise import appearance
from yellowjacket.core.limits.output_size import LookedAt

_GREY = 0.18


def test_the_slopes_of_luv_are_those_of_the_reference_library():
    """colour-science, XYZ to CIE 1976 L*u*v* (CIE 15:2018)."""
    import colour

    # It leaves stand-ins for packages that are not installed, over which others stumble.
    for name in [name for name, module in sys.modules.items() if isinstance(module, Mock)]:
        del sys.modules[name]
    white = colour.XYZ_to_xy(WHITE)
    for share in ([0.18, 0.18, 0.18], [0.3, 0.2, 0.1], [0.004, 0.005, 0.006]):
        at, step = np.array(share), 1e-6
        luv = [[colour.XYZ_to_Luv((at + sign * step * axis) * WHITE, white) for sign in (1, -1)] for axis in np.eye(3)]
        numeric = np.array([(up - down) / (2 * step) for up, down in luv]).T
        assert slopes_of_luv(at) == pytest.approx(numeric, rel=2e-3, abs=0.5)


def test_sensitivity_peaks_where_it_should():
    """To light and dark between 2 and 6 cycles per degree, to colour at the coarsest (handbook knowledge, from memory)."""
    fineness = np.linspace(0.05, 60, 2000)
    light = light_sensitivity(fineness)
    assert 2 < fineness[light.argmax()] < 6
    assert light.max() == pytest.approx(1, abs=1e-4)
    assert light_sensitivity(np.zeros(1))[0] == 0
    for colour in colour_sensitivity(fineness):
        assert colour.argmax() == 0
        # Beyond some 12 cycles per degree colour is hardly seen any more.
        assert colour[fineness > 14].max() < 0.3


@pytest.mark.parametrize("cycles", [4, 10, 25])
def test_a_grating_of_lightness_is_seen_as_its_fineness_allows(cycles):
    n, per_degree, amplitude = 100, 40.0, 0.002
    wave = amplitude * np.sqrt(2) * np.cos(2 * np.pi * cycles * np.arange(n) / n)
    first = np.full((n, n, 3), _GREY) + wave[None, :, None]
    found = visual_noise(first, np.full((n, n, 3), _GREY), per_degree, coloured=True)
    # L* rises by 116/3 of Y^(−2/3); half the power is each frame's; a grey grating has no u* and hardly any v*.
    sigma = 116 / 3 * _GREY ** (-2 / 3) * amplitude / math.sqrt(2) * n / math.sqrt(n * n - 3)
    seen = float(light_sensitivity(np.array([per_degree * cycles / n]))[0])
    assert found.value == pytest.approx(sigma * seen, rel=0.01)


def test_a_grating_of_colour_alone_has_no_lightness():
    n = 96
    wave = 0.002 * np.cos(2 * np.pi * 3 * np.arange(n) / n)
    # Red up and green down by so much that Y stays.
    luminance = SRGB_TO_XYZ[1]
    tint = np.array([1.0, -luminance[0] / luminance[1], 0.0])
    first = np.full((n, n, 3), _GREY) + wave[None, :, None] * tint
    plain = np.full((n, n, 3), _GREY)
    assert (visual_noise(first, plain, 34.0, coloured=True).value or 0) > 0.1
    assert (visual_noise(first, plain, 34.0, coloured=False).value or 0) < 1e-6


def test_from_farther_away_less_is_seen(rng):
    pair = [(_GREY + 0.01 * rng.normal(size=(128, 128, 3))).astype(np.float32) for _ in range(2)]
    values = [
        appearance(*pair, 1.0, coloured=True, looked_at=LookedAt(per_degree)).visual.value or 0
        for per_degree in (20, 40, 80, 160)
    ]
    assert values == sorted(values, reverse=True)
    assert values[0] > 4 * values[-1]
    # A use that shows the picture twice as large is seen as from half as far.
    larger = appearance(*pair, 0.5, coloured=True, looked_at=LookedAt(80.0)).visual.value
    assert larger == pytest.approx(values[1])


def test_its_interval_holds():
    held, truth = 0, _truth()
    drawn = np.random.default_rng(5)
    for _ in range(120):
        first, second = (
            _GREY * (1 + 0.05 * drawn.normal(size=(64, 64, 3)) + 0.05 * drawn.normal(size=(64, 64, 1))) for _ in "ab"
        )
        found = visual_noise(first, second, 34.0, coloured=True)
        held += (found.low or 0) <= truth <= (found.high or 0)
    assert 0.90 <= held / 120 <= 0.99


def _truth() -> float:
    """The same by the spectrum of the noise that was drawn: white, its covariance known, on the frequencies of a patch."""
    n = 64
    fineness = 34.0 * np.hypot(np.fft.fftfreq(n)[:, None], np.fft.fftfreq(n)[None, :])
    seen = np.stack([light_sensitivity(fineness), *colour_sensitivity(fineness)]).reshape(3, -1)
    seen[:, 0] = 0  # the mean went with the plane
    covariance = (_GREY * 0.05) ** 2 * (np.eye(3) + 1)
    opponent = np.array([[0, 1, 0], [1, -1, 0], [0, 0.4, -0.4]], float)
    from_rgb = opponent @ (SRGB_TO_XYZ / WHITE[:, None])
    to_luv = slopes_of_luv(np.full(3, _GREY)) @ np.linalg.inv(opponent)
    between = from_rgb @ covariance @ from_rgb.T
    power = np.zeros(3)
    for k in range(seen.shape[1]):
        weighed = to_luv * seen[:, k]
        power += np.diag(weighed @ between @ weighed.T)
    return float(np.sqrt(power / seen.shape[1]) @ (1, 0.852, 0.323))


def test_a_patch_without_light_has_none(rng):
    dark = rng.normal(size=(32, 32, 3)) - 1
    assert visual_noise(dark, dark[::-1], 34.0, coloured=True).value is None
