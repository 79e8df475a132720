"""Colour difference against CIE 142's published pairs; Lab and the loci of light sources against colour-science."""

import json
import subprocess
import sys

import numpy as np
import pytest
from skimage.color import rgb2lab
from skimage.transform import downscale_local_mean

from tests import making
from yellowjacket.core.colour.colorimetry import (
    SRGB_TO_XYZ,
    ChannelMeans,
    _daylight,
    _glowing,
    camera_to_srgb,
    delta_e_2000,
    lab_of_linear_srgb,
    neutral_drift,
)
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import Development, develop_at_use, display_encoded, interpolated_crop

pytestmark = pytest.mark.outside

# Sharma, Wu, Dalal (2005), test data for CIEDE2000, a selection (from memory): Lab, Lab, ΔE00.
PAIRS = [
    ((50, 2.6772, -79.7751), (50, 0, -82.7485), 2.0425),
    ((50, 3.1571, -77.2803), (50, 0, -82.7485), 2.8615),
    ((50, 2.8361, -74.0200), (50, 0, -82.7485), 3.4412),
    ((50, -1.3802, -84.2814), (50, 0, -82.7485), 1.0000),
    ((50, 0, 0), (50, -1, 2), 2.3669),
    ((50, 2.5, 0), (73, 25, -18), 27.1492),
    ((50, 2.5, 0), (61, -5, 29), 22.8977),
    ((50, 2.5, 0), (56, -27, -3), 31.9030),
    ((50, 2.5, 0), (58, 24, 15), 19.4535),
    ((60.2574, -34.0099, 36.2677), (60.4626, -34.1751, 39.4387), 1.2644),
    ((2.0776, 0.0795, -1.1350), (0.9033, -0.0636, -0.5514), 0.9082),
]


@pytest.mark.parametrize(("one", "other", "published"), PAIRS)
def test_published_pairs(one, other, published):
    assert delta_e_2000(np.array(one, float), np.array(other, float)) == pytest.approx(published, abs=5e-5)
    assert delta_e_2000(np.array(other, float), np.array(one, float)) == pytest.approx(published, abs=5e-5)


# By colour-science in a process of its own: it leaves stand-ins for packages that are not installed.
REFERENCE = """
import json, sys, warnings
warnings.simplefilter("ignore")
import colour, numpy as np
asked = json.load(sys.stdin)
place = np.array(asked["white"])[:2] / sum(asked["white"])
json.dump({
    "delta": colour.difference.delta_E_CIE2000(*map(np.array, asked["pairs"])).tolist(),
    "lab": colour.XYZ_to_Lab(np.array(asked["xyz"]), place).tolist(),
    "glowing": [colour.temperature.CCT_to_xy_Kang2002(k).tolist() for k in asked["glowing"]],
    "daylight": [colour.temperature.CCT_to_xy_CIE_D(k).tolist() for k in asked["daylight"]],
}, sys.stdout)
"""


def test_formulas_agree_with_colour_science(rng):
    pairs = [rng.uniform((5, -60, -60), (95, 60, 60), (500, 3)) for _ in range(2)]
    linear = rng.uniform(-0.05, 1.0, (200, 3))
    lamps, skies = [1700, 2222, 2223, 2856, 3900], [4000, 5003, 6504, 7000, 7001, 25000]
    asked = {
        "pairs": [pair.tolist() for pair in pairs], "xyz": (linear @ SRGB_TO_XYZ.T).tolist(),
        "white": SRGB_TO_XYZ.sum(axis=1).tolist(), "glowing": lamps, "daylight": skies,
    }  # fmt: skip
    ran = subprocess.run(
        [sys.executable, "-c", REFERENCE], input=json.dumps(asked), capture_output=True, text=True, check=True
    )
    told = json.loads(ran.stdout)
    np.testing.assert_allclose(delta_e_2000(*pairs), told["delta"], atol=1e-6)
    np.testing.assert_allclose(lab_of_linear_srgb(linear), told["lab"], atol=1e-5)
    np.testing.assert_allclose([_glowing(k) for k in lamps], told["glowing"], atol=1e-9)
    np.testing.assert_allclose([_daylight(k) for k in skies], told["daylight"], atol=1e-9)


def test_lab_agrees_with_scikit_image(rng):
    linear = rng.uniform(0.02, 0.9, (200, 3))
    encoded = display_encoded(linear) / 255
    decoded = np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)
    # Both white points are D65; their last digits differ between libraries.
    np.testing.assert_allclose(lab_of_linear_srgb(decoded), rgb2lab(encoded), atol=0.02)


def test_a_shift_no_larger_than_sampling_is_not_called_one():
    # 5 % of pure sampling draws lie beyond the 95 % point, by definition of the point.
    rng = np.random.default_rng(1)
    truth = np.array([1100.0, 2000.0, 2000.0, 1400.0])
    se = 0.004 * truth
    called = 0
    for _ in range(400):
        draws = [ChannelMeans(tuple(rng.normal(truth, se)), tuple(se), 4096) for _ in range(2)]
        called += neutral_drift(*draws, None, rng).reason == ""
    # Binomial 400 × 0.05: mean 20, σ 4.4.
    assert 5 <= called <= 36


def test_the_size_of_use_is_an_area_average_in_linear_light():
    """Whole factors against scikit-image's local mean, on the linear picture before the display curve."""
    rng = np.random.default_rng(8)
    mosaic = rng.integers(600, 9000, (240, 320)).astype(np.uint16)
    how = Development(making.LAYOUT, dict.fromkeys(making.LAYOUT.channels, 512.0), (1e-4, 8e-5, 1.2e-4), None)
    rect = Rect(12, 20, 120, 96)
    for factor in (2, 3, 4):
        linear = downscale_local_mean(interpolated_crop(mosaic, rect, how), (factor, factor, 1))
        reference = display_encoded(linear @ camera_to_srgb(None).T)
        own = develop_at_use(mosaic, rect, how, float(factor))
        assert own.shape == reference.shape
        assert np.abs(own.astype(int) - reference.astype(int)).max() <= 1
    # Never enlarged.
    assert develop_at_use(mosaic, rect, how, 0.5).shape == (96, 120, 3)
    assert develop_at_use(mosaic, rect, how, 2.5).shape == (38, 48, 3)
