"""Flicker error against direct numerical integration of the pulsing light with SciPy."""

import numpy as np
import pytest
from scipy.integrate import quad

from yellowjacket.core.exposure.flicker import flicker_error, is_whole_pulses

pytestmark = pytest.mark.outside


@pytest.mark.parametrize("hz", [50, 60])
@pytest.mark.parametrize("modulation", [0.1, 0.3, 0.8])
@pytest.mark.parametrize("exposure_s", [1 / 8000, 1 / 500, 1 / 160, 1 / 100, 1 / 80, 1 / 60, 1 / 30, 1 / 13])
def test_the_range_is_that_of_the_integral_over_all_moments_of_release(hz, modulation, exposure_s):
    def mean_light(begin):
        light = lambda t: 1 + modulation * np.cos(2 * np.pi * 2 * hz * t)  # noqa: E731
        return quad(light, begin, begin + exposure_s, epsabs=1e-12, limit=200)[0] / exposure_s

    # The mean is a cosine of the moment of release: its extremes lie where the exposure straddles one.
    centred = [mean_light(-exposure_s / 2), mean_light(1 / (4 * hz) - exposure_s / 2)]
    found = flicker_error(exposure_s, hz, modulation)
    assert found.low_stops == pytest.approx(np.log2(min(centred)), abs=1e-6)
    assert found.high_stops == pytest.approx(np.log2(max(centred)), abs=1e-6)
    anywhere = [np.log2(mean_light(begin)) for begin in np.linspace(0, 1 / (2 * hz), 7)]
    assert all(found.low_stops - 1e-6 <= value <= found.high_stops + 1e-6 for value in anywhere)


# Common practice, no source: under 50 Hz light 1/100, 1/50 and 1/25 s do not flicker, under 60 Hz 1/120 and 1/60 s.
def test_multiples_of_the_half_cycle_do_not_flicker():
    for hz, times in ((50, (1 / 100, 1 / 50, 1 / 25)), (60, (1 / 120, 1 / 60, 1 / 30))):
        for exposure_s in times:
            assert flicker_error(exposure_s, hz, 0.5).spread_stops == pytest.approx(0, abs=1e-9)
            assert is_whole_pulses(exposure_s, hz)
    assert not is_whole_pulses(1 / 250, 50)


@pytest.mark.parametrize(
    ("exposure_s", "hz", "modulation"), [(0, 50, 0.1), (0.1, 0, 0.1), (0.1, 50, 1.0), (0.1, 50, -0.1)]
)
def test_values_outside_their_range_are_refused(exposure_s, hz, modulation):
    with pytest.raises(ValueError, match="must"):
        flicker_error(exposure_s, hz, modulation)
