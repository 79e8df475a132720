"""Any layout LibRaw reads gives the same truth back: 2×2 in every order, odd sizes, 6×6, monochrome, linear, masked."""

import itertools

import numpy as np
import pytest

from tests import layouts
from yellowjacket.core.photon_transfer.accumulate import Exposures, IsoTask
from yellowjacket.core.photon_transfer.characterise import characterise_iso
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect

SHAPE = (720, 1152)


def colours_of(shape, tile):
    (down, across), codes = tile
    pattern = np.array(codes).reshape(down, across)
    return np.tile(pattern, (shape[0] // down + 1, shape[1] // across + 1))[: shape[0], : shape[1]]


def write_rung(folder, tile, *, shape=SHAPE, samples=1, darks=True, masked=0):
    """A pair of light frames and a pair of darks; returns the task."""
    rng = np.random.default_rng(7)
    paths = []
    for n, dark in enumerate((False, False, True, True)):
        if dark and not darks:
            continue
        if samples == 3:
            mean = np.dstack([layouts.light(shape, np.full(shape, code)) for code in (0, 1, 2)])
        else:
            mean = np.array(layouts.light(shape, colours_of(shape, tile) if tile else np.ones(shape, int)))
        if dark:
            mean = np.zeros_like(mean)
        if masked:
            mean[:, :masked] = 0
        active = (0, masked, *shape) if masked else None
        paths.append(str(layouts.write(folder / f"{n}.dng", layouts.numbers(mean, rng), tile, active=active)))
    light = (Exposures(0.125, tuple(paths[:2])),)
    return IsoTask(100, light, (Exposures(0.125, tuple(paths[2:])),) if darks else ())


ORDERS = [order for order in set(itertools.permutations((0, 1, 1, 2))) if {order[0], order[3]} in ({0, 2}, {1})]


@pytest.mark.parametrize(
    ("tile", "samples", "channels"),
    [*(((((2, 2), order)), 1, {"R", "G1", "G2", "B"}) for order in sorted(ORDERS)),
     (layouts.LARGE_TILE, 1, {"R", "G", "B"}), (None, 1, {"M"}), (None, 3, {"R", "G", "B"})],
)  # fmt: skip
def test_gain_and_read_noise_of_every_layout(tmp_path, tile, samples, channels):
    found = characterise_iso(write_rung(tmp_path, tile, samples=samples))
    assert set(found.channels) == channels
    assert found.problems == ()
    gain, noise = (found.every.quantities[name] for name in ("gain_e_per_dn", "read_noise_dn"))
    true_noise = np.sqrt(layouts.READ_DN**2 + 1 / 12)
    assert abs(gain.value - layouts.GAIN) < 3.5 * gain.se
    assert gain.se / layouts.GAIN < 0.01
    assert abs(noise.value - true_noise) < 3.5 * noise.se
    assert found.every.cooked.flag is False
    assert found.read_noise_source == "darks"


def test_masked_pixels_stand_in_for_darks(tmp_path):
    found = characterise_iso(write_rung(tmp_path, layouts.BAYER, darks=False, masked=48))
    assert (found.read_noise_source, found.black_source) == ("masked pixels", "masked pixels")
    noise, black = (found.every.quantities[name] for name in ("read_noise_dn", "black_dn"))
    assert abs(noise.value - np.sqrt(layouts.READ_DN**2 + 1 / 12)) < 3.5 * noise.se
    assert black.value == pytest.approx(layouts.BLACK, abs=0.1)


def test_without_darks_the_intercept_is_used_and_named(tmp_path):
    found = characterise_iso(write_rung(tmp_path, layouts.BAYER, darks=False))
    assert found.read_noise_source == "intercept"
    noise = found.every.quantities["read_noise_dn"]
    assert noise.low < np.sqrt(layouts.READ_DN**2 + 1 / 12) < noise.high


def test_odd_sizes_lose_their_last_line_only(tmp_path):
    found = characterise_iso(write_rung(tmp_path, layouts.BAYER, shape=(719, 1151)))
    gain = found.every.quantities["gain_e_per_dn"]
    assert abs(gain.value - layouts.GAIN) < 3.5 * gain.se


def test_parts_of_a_patch_are_the_pixels_of_its_channel(tmp_path):
    rng = np.random.default_rng(1)
    data = rng.integers(600, 4000, (48, 72)).astype(np.uint16)
    frame = read_frame(layouts.write(tmp_path / "x.dng", data, layouts.LARGE_TILE), any_layout=True)
    parts = Rect(6, 12, 24, 18).parts(frame, "R")
    inside = data[12:30, 6:30][colours_of((18, 24), layouts.LARGE_TILE) == 0]
    assert sorted(np.concatenate([part.ravel() for part in parts])) == sorted(inside)
    linear = np.dstack([data, data // 2, data // 3])
    frame = read_frame(layouts.write(tmp_path / "y.dng", linear), any_layout=True)
    assert (Rect(4, 6, 10, 8).parts(frame, "G")[0] == linear[6:14, 4:14, 1]).all()


def test_a_sitting_still_refuses_what_it_cannot_show(tmp_path):
    data = np.full((48, 72), 900, np.uint16)
    with pytest.raises(FrameError, match="command line measures other layouts"):
        read_frame(layouts.write(tmp_path / "x.dng", data, layouts.LARGE_TILE))
