"""Noise reduction, bit depth and the reduced raw mode of the simulated bodies, and what measuring says of them."""

from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import pytest

from yellowjacket.core.metrology.estimate import ratio
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.raw_modes import SamePixelsTask, contrast_kept, edge_power, same_pixels
from yellowjacket.simcam.bodies import HEATH
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.scene import GREY_BOX, HEIGHT_PX, TEXTURE_BOX, WIDTH_PX
from yellowjacket.simcam.sensor import ExposureSettings


def pair(folder, name, **special):
    camera, paths = SimulatedCamera(HEATH, seed=8), []
    for n in range(2):
        path = folder / f"{name}{n}.dng"
        settings = ExposureSettings(1600, 1 / 125, 8.0, **special)
        camera.shoot(settings, path, n + 1, datetime(2026, 3, 14, 20, 0) + timedelta(seconds=9 * n))
        paths.append(str(path))
    return paths[0], paths[1]


def patch(name, role, box, inset=24):
    x, y, w, h = box
    return PatchSpec(name, role, Rect(x + inset, y + inset, w - 2 * inset, h - 2 * inset))


PATCHES = (patch("grey", "grey", GREY_BOX), patch("texture", "texture", TEXTURE_BOX, 8))


@pytest.fixture(scope="module")
def modes(tmp_path_factory):
    folder = tmp_path_factory.mktemp("modes")
    return pair(folder, "full"), pair(folder, "half", half=True)


def test_the_reduced_mode_has_half_the_side_and_a_quarter_of_the_file(modes):
    full, half = (read_frame(Path(names[0])) for names in modes)
    assert full.size == (WIDTH_PX, HEIGHT_PX)
    assert half.size == (WIDTH_PX // 2, HEIGHT_PX // 2)
    # The mean of four has the level of one.
    assert np.median(half.mosaic) == pytest.approx(np.median(full.mosaic), rel=0.02)


def test_at_the_same_pixels_noise_and_detail_stand_side_by_side(modes):
    full, half = modes
    found = {
        (one.patch, one.channel, one.quantity): one.result
        for one in same_pixels(SamePixelsTask(1, full, half, PATCHES, HEATH.height_px))
    }
    luma = {name: found["grey", name, "same_luma"] for name in ("own", "area", "lanc")}
    assert all(one.value > 0 and one.low < one.value < one.high for one in luma.values())
    # Colours are interpolated before, so both ways of scaling find about the same noise.
    assert luma["lanc"].value == pytest.approx(luma["area"].value, rel=0.1)
    # The reduced mode takes the mean of four pixels of one colour: exactly the light of the full one. At equal sharpness
    # nothing is gained; what a pixel by itself has less, interpolating its colours has blurred away.
    equal = {name: found[None, name, "same_equal"] for name in ("own", "area")}
    told = ratio(equal["own"], equal["area"])
    assert told.value == pytest.approx(1.0, abs=0.03)
    assert told.low < 1.0 < told.high
    assert told.high - told.low < 0.06
    assert 0.5 * luma["area"].value < luma["own"].value < luma["area"].value
    # And edges show that: interpolated colours are softer than colours that were averaged.
    edge = {name: found[None, name, "same_edge"] for name in ("own", "area", "lanc")}
    assert edge["area"].value == 1.0
    assert edge["own"].high < 0.95
    detail = {name: found["texture", name, "same_detail"] for name in ("own", "area", "lanc")}
    assert all(one.value > 100 for one in detail.values())
    assert detail["lanc"].value >= detail["own"].value * 0.9


def test_contrast_of_edges_is_what_a_known_filter_leaves_whatever_the_noise():
    """Closed form: [s, 1 − 2s, s] along rows leaves 1 − 2s(1 − cos 2πf); seen over the ring of 0.2 to 0.3 cycles a pixel."""
    rng, share = np.random.default_rng(5), 0.15
    own, reference, expected = [], [], []
    for _ in range(24):
        scene = np.repeat(rng.normal(0.2, 0.05, (64, 1)), 64, axis=1) + rng.normal(0, 0.05, (64, 64))
        soft = share * (np.roll(scene, 1, 1) + np.roll(scene, -1, 1)) + (1 - 2 * share) * scene
        noisy = [
            [np.dstack([picture + rng.normal(0, 0.03, scene.shape)] * 3) for _ in range(2)] for picture in (soft, scene)
        ]
        plain = [[np.dstack([picture] * 3)] * 2 for picture in (soft, scene)]
        own.append(edge_power(noisy[0])[0])
        reference.append(edge_power(noisy[1])[0])
        expected.append([edge_power(one)[0] for one in plain])
    found = contrast_kept(np.array(own), np.array(reference))
    truth = np.sqrt(np.sum(expected, axis=0)[0] / np.sum(expected, axis=0)[1])
    assert found.low < truth < found.high
    assert found.high - found.low < 0.1
    # Rows that do not change along themselves keep all; the rest keeps 1 − 2s at f = ¼ along a row, and more across it.
    assert 1 - 2 * share * (1 - np.cos(2 * np.pi * 0.3)) < truth < 1.0


def test_noise_alone_has_no_edges():
    rng = np.random.default_rng(6)
    clear = [edge_power([rng.normal(0.2, 0.05, (64, 64, 3)) for _ in range(2)])[1] for _ in range(200)]
    assert sum(clear) == 0
    assert contrast_kept(np.empty(0), np.empty(0)).value is None


def test_noise_reduction_in_the_raw_lowers_noise_and_fewer_bits_do_not(tmp_path):
    cut = np.s_[GREY_BOX[1] // 2 + 12 : GREY_BOX[1] // 2 + 72, GREY_BOX[0] // 2 + 12 : GREY_BOX[0] // 2 + 72]

    def sigma(**special):
        a, b = (read_frame(Path(name)) for name in pair(tmp_path, "_".join(map(str, special)), **special))
        planes = [frame.cells("G1")[cut].astype(float) for frame in (a, b)]
        return float((planes[0] - planes[1]).std()) / np.sqrt(2) / (a.white_dn - a.black_dn["G1"])

    plain = sigma()
    assert sigma(smoothing=0.12) == pytest.approx(plain * (1 - 4 * 0.12 + 6 * 0.12**2), rel=0.06)
    assert sigma(bits=12) == pytest.approx(plain, rel=0.06)


def test_a_file_of_fewer_bits_says_so(tmp_path):
    frame = read_frame(Path(pair(tmp_path, "bits", bits=12)[0]))
    assert frame.white_dn == 4095
    assert frame.black_dn["G1"] == 512
