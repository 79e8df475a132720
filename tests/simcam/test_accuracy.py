"""The whole way from the simulated body's files to findings, against the body's true parameters.

Bounds are those of "Accuracy wanted" in docs/methods.md: errors within 3 SE, and SE small enough that 3 SE
stays near the stated per cent. The estimators see only the files.
"""

from datetime import datetime

import numpy as np
import pytest

from yellowjacket.core.patches.uniform import propose_patches
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungTask, measure_rung
from yellowjacket.simcam.bodies import HEATH
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.sensor import ExposureSettings

RUNGS = {100: 1 / 8, 800: 1 / 60, 6400: 1 / 500}


@pytest.fixture(scope="module")
def measured(tmp_path_factory):
    """Readings by ISO of pairs with dark pairs, patches proposed from ISO 100."""
    folder = tmp_path_factory.mktemp("accuracy")
    camera = SimulatedCamera(HEATH, seed=11)
    tasks, patches, number = {}, (), 0
    for iso, seconds in RUNGS.items():
        paths = []
        for capped in (False, False, True, True):
            number += 1
            path = folder / f"{number}.dng"
            camera.shoot(ExposureSettings(iso, seconds, 8.0, capped), path, number, datetime(2026, 3, 14, 20, number))
            paths.append(path)
        if not patches:
            found = propose_patches(read_frame(paths[0]), read_frame(paths[1]))
            patches = tuple(PatchSpec(f"{p.role} {n}", p.role, p.rect) for n, p in enumerate(found))
        names = [str(path) for path in paths]
        tasks[iso] = RungTask(iso, tuple(names[:2]), tuple(names[2:]), patches)
    return {iso: measure_rung(task) for iso, task in tasks.items()}


def truth(iso):
    """Gain e⁻/DN and read noise in DN as a dark pair shows it: rows, rounding and dark current included."""
    gain = 1 / HEATH.gain_dn_per_e(iso)
    dark_e = RUNGS[iso] * HEATH.dark_current_e_per_s
    noise = np.sqrt((HEATH.read_noise_e(iso) ** 2 + HEATH.row_noise_e**2 + dark_e) / gain**2 + 1 / 12)
    return gain, noise


def value(result, quantity, channel="all"):
    return next(r.result for r in result.readings if (r.quantity, r.channel, r.patch) == (quantity, channel, None))


@pytest.mark.parametrize("iso", RUNGS)
def test_gain_and_read_noise(measured, iso):
    gain, noise = truth(iso)
    for quantity, true, wanted in (
        ("gain_e_per_dn", gain, 0.008), ("read_noise_e", gain * noise, 0.009), ("read_noise_dn", noise, 0.003),
    ):  # fmt: skip
        found = value(measured[iso], quantity)
        assert abs(found.value - true) < 3 * found.se, quantity
        assert found.se / true < wanted / 2, quantity
        assert found.value == pytest.approx(true, rel=max(wanted, 3 * found.se / true)), quantity


@pytest.mark.parametrize("iso", RUNGS)
def test_grey_snr(measured, iso):
    gain, noise = truth(iso)
    of_grey = {(r.quantity, r.channel): r for r in measured[iso].readings if r.patch == "grey 0"}
    grey, snr = of_grey["signal_dn", "G1"], of_grey["snr", "G"]
    expected = grey.result.value / np.sqrt(grey.result.value / gain + noise**2)
    assert snr.result.value == pytest.approx(expected, abs=3 * snr.result.se)
