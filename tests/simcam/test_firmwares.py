"""Two firmwares of the simulated camera: the one with a quarter more read noise is found, the unchanged one is level.

Over 20 seeds: ``python -m tests.simcam.firmwares 20``.
"""

import pytest

from tests.simcam.firmwares import readings_of, with_read_noise, worse_in_read_noise
from yellowjacket.core.limits.body_comparison import COMPARED, effects
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.simcam.bodies import HEATH


def test_a_firmware_with_more_read_noise_is_worse_and_an_unchanged_one_level(tmp_path):
    marks = (100, 6400)
    before, same = (readings_of(HEATH, seed, marks, tmp_path) for seed in (1, 2))
    noisier = readings_of(with_read_noise(HEATH, 1.25), 3, marks, tmp_path)
    assert [one.quantity for one in effects(before, same, COMPARED) if one.who is not None] == []
    found = effects(before, noisier, COMPARED)
    assert worse_in_read_noise(found)
    told = next(one for one in found if one.quantity is Measurand.READ_NOISE_E)
    assert told.worse.value == pytest.approx(1.25, abs=0.02)
