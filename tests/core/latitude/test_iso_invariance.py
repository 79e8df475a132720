"""ISO against push: what frames measure together must have had the same light."""

import math

import numpy as np
import pytest

from yellowjacket.core.latitude.iso_invariance import MEASURED, PREDICTED, IsoNoise, ShadowNoise, penalties
from yellowjacket.core.metrology.estimate import with_relative_error

FULL_E = 48_000.0


def shot(iso, read_e, stops=0.0, black_off=0.0):
    """Patches from bright to dark in a light that is ``stops`` off the common one, as a body of that read noise has them."""
    gain = FULL_E / 16_000 * 100 / iso
    patches = {}
    for n, electrons in enumerate(np.geomspace(20, 1200, 12) * 2**stops):
        noise = math.sqrt(electrons + read_e**2) / gain
        patches[f"area {n}", "G1"] = ShadowNoise(
            with_relative_error(electrons / gain + black_off, 0.001, 9000), with_relative_error(noise, 0.005, 9000)
        )
    saturation = with_relative_error(FULL_E * 100 / iso, 0.002, 9000)
    return IsoNoise(
        iso, with_relative_error(read_e, 0.005, 9000), saturation, with_relative_error(gain, 0.004, 9000), patches
    )


def test_the_same_light_is_measured_and_a_wrong_black_does_not_hide_it():
    (found,) = penalties([shot(100, 7.0, black_off=1.5), shot(1600, 2.0)])
    assert found.kind == MEASURED
    level = found.level_e
    assert found.stops.value == pytest.approx(0.5 * math.log2((49 + level) / (4 + level)), abs=0.02)


@pytest.mark.parametrize("stops", [-2.0, -0.15, 0.15, 4.0])
def test_another_aperture_filter_or_lamp_is_not_taken_for_noise(stops):
    """A ladder kept correct by the aperture has one shutter and another light at every ISO."""
    (found,) = penalties([shot(100, 2.0, stops), shot(1600, 2.0)])
    assert found.kind == PREDICTED
    assert found.stops.value == pytest.approx(0.0, abs=0.01)
