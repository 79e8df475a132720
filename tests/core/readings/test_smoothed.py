"""What is said of readings of a smoothed rung: the values before the smoothing, worked out from what smoothing does to noise."""

import pytest

from yellowjacket.core.metrology.estimate import with_error
from yellowjacket.core.metrology.measurands import ALL, Measurand, Reading
from yellowjacket.core.metrology.notes import Remark
from yellowjacket.core.readings.smoothed import before_smoothing, remarked

# A pixel of 0.05 e⁻/DN, 38 DN of read noise, saturated at 15 000 DN over black; a filter that leaves half of the noise.
GAIN, READ_DN, FULL_DN, HIDDEN = 0.05, 38.0, 15_000.0, 1.0
SIGNAL_DN = 4000.0


def as_read():
    """What a fit to the smoothed noise says, by the definitions of its quantities."""
    left = 2.0**-HIDDEN
    photon_dn = (SIGNAL_DN / GAIN) ** 0.5
    gain = SIGNAL_DN / (photon_dn * left) ** 2
    return {
        Measurand.GAIN_E_PER_DN: gain, Measurand.READ_NOISE_DN: READ_DN * left, Measurand.READ_NOISE_E: READ_DN * left * gain,
        Measurand.SATURATION_E: FULL_DN * gain,
    }  # fmt: skip


TRUTH = {
    Measurand.GAIN_E_PER_DN: GAIN, Measurand.READ_NOISE_DN: READ_DN, Measurand.READ_NOISE_E: READ_DN * GAIN,
    Measurand.SATURATION_E: FULL_DN * GAIN,
}  # fmt: skip


@pytest.mark.parametrize("quantity", TRUTH)
def test_the_value_beside_a_smoothed_one_is_the_one_before(quantity):
    value = as_read()[quantity]
    (found,) = remarked([Reading(None, ALL, quantity, with_error(value, value / 100, 9))], HIDDEN)
    assert found.result.has(Remark.BEFORE_SMOOTHING)
    assert before_smoothing(found.result) == pytest.approx(TRUTH[quantity])


def test_what_is_not_smoothed_is_as_it_was_read():
    (found,) = remarked([Reading(None, ALL, Measurand.GAIN_E_PER_DN, with_error(0.2, 0.01, 9))], 0.0)
    assert not found.result.notes
    assert before_smoothing(found.result) == 0.2
