"""Any layout LibRaw reads gives the same truth back: 2×2 in every order, odd sizes, 6×6, monochrome, linear, masked."""

import itertools
from pathlib import Path

import numpy as np
import pytest

from tests import layouts
from yellowjacket.core.darks.hot_pixels import hot_pixels
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.photon_transfer.accumulate import Exposures, IsoTask
from yellowjacket.core.photon_transfer.characterise import characterise_iso
from yellowjacket.core.raw.first_look import inspect_file
from yellowjacket.core.raw.frame import Layout
from yellowjacket.core.raw.frame_report import exposure_stops, shift_px
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.output_size import UseSize
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungTask, measure_rung
from yellowjacket.core.rendering.develop import DEVELOPERS, Development, develop_reduced, interpolated_crop

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
     (layouts.LARGE_TILE, 1, {"R", "G", "B"}), (layouts.QUAD, 1, {"R", "G", "B"}), (None, 1, {"M"}), (None, 3, {"R", "G", "B"})],
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
    frame = read_frame(layouts.write(tmp_path / "x.dng", data, layouts.LARGE_TILE))
    parts = Rect(6, 12, 24, 18).parts(frame, "R")
    inside = data[12:30, 6:30][colours_of((18, 24), layouts.LARGE_TILE) == 0]
    assert sorted(np.concatenate([part.ravel() for part in parts])) == sorted(inside)
    linear = np.dstack([data, data // 2, data // 3])
    frame = read_frame(layouts.write(tmp_path / "y.dng", linear))
    assert (Rect(4, 6, 10, 8).parts(frame, "G")[0] == linear[6:14, 4:14, 1]).all()


def frames_of(folder, tile, samples=1, shape=SHAPE):
    task = write_rung(folder, tile, samples=samples, shape=shape)
    return task.light[0].paths, task.dark[0].paths


EVERY = [(layouts.BAYER, 1), (layouts.QUAD, 1), (layouts.LARGE_TILE, 1), (None, 1), (None, 3)]
NAMES = ["2×2", "4×4", "6×6", "monochrome", "linear"]


@pytest.mark.parametrize(("tile", "samples"), EVERY, ids=NAMES)
def test_a_rung_of_every_layout_is_measured_as_far_as_physics_allows(tmp_path, tile, samples):
    """Signal, noise and SNR of a patch against the truth of photons and read noise, by channel."""
    light, dark = frames_of(tmp_path, tile, samples)
    # The third step of the scene, a quarter as bright as the first.
    grey, shadow = (
        PatchSpec("card", "grey", Rect(312, 120, 96, 480)),
        PatchSpec("dim", "shadow", Rect(744, 120, 96, 480)),
    )
    found = measure_rung(RungTask(1, light, dark, (grey, shadow), (UseSize("small", 40_000),)))
    assert found.problems == ()
    read = {(r.patch, r.channel, r.quantity, r.use): r.result for r in found.readings}
    channels = read_frame(Path(light[0])).channels
    for channel in channels:
        code = {"R": 0, "B": 2}.get(channel, 1)
        mean = 1500 * layouts.FILTERS[code]
        signal, noise = (read["card", channel, name, ""] for name in ("signal_dn", "noise_dn"))
        assert abs(signal.value - mean) < 4 * signal.se
        if samples == 3:
            # Nobody knows what an interpolated sample averaged over.
            assert not noise.known
            assert noise.has(Missing.DEMOSAICED)
            continue
        truth = np.sqrt(mean / layouts.GAIN + layouts.READ_DN**2 + 1 / 12)
        assert abs(noise.value - truth) < 4 * noise.se
        assert noise.value == pytest.approx(truth, rel=0.03)
    chroma = read["card", "all", "noise_chroma", "small"]
    assert chroma.known is (tile is not None or samples == 3)
    if not chroma.known:
        assert chroma.has(Missing.NO_COLOUR_FILTERS)
    assert read["card", "all", "noise_luma", "small"].known
    assert read["card", "all", "snr", "small"].known
    assert read["card", "all", "snr", ""].known is (samples == 1)
    assert read[None, "all", "shadow_snr", "small"].known


@pytest.mark.parametrize(("tile", "samples"), EVERY, ids=NAMES)
def test_a_first_look_at_every_layout_tells_exposure_and_shift(tmp_path, tile, samples):
    rng = np.random.default_rng(3)
    shape = (672, 1056)
    scene = np.kron(rng.uniform(0.2, 1.0, (28, 44)), np.ones((24, 24))) * 6000
    colours = colours_of(shape, tile) if tile else np.ones(shape, int)
    looks = []
    for n, (light, moved) in enumerate(((1.0, 0), (0.5, 24))):
        seen = np.roll(scene * light, moved, axis=1)
        mean = (
            np.dstack([seen * layouts.FILTERS[c] for c in (0, 1, 2)])
            if samples == 3
            else seen * layouts.through(colours)
        )
        looks.append(inspect_file(str(layouts.write(tmp_path / f"{n}.dng", layouts.numbers(mean, rng), tile))))
    first, second = (look.report for look in looks)
    assert (looks[0].width, looks[0].height, looks[0].dark) == (1056, 672, False)
    assert exposure_stops(second, first) == pytest.approx(-1.0, abs=0.35)
    assert shift_px(second, first) == pytest.approx((24.0, 0.0), abs=3.0)


@pytest.mark.parametrize("developer", DEVELOPERS)
@pytest.mark.parametrize(("tile", "samples"), EVERY, ids=NAMES)
def test_every_layout_is_developed_and_measured_sites_stay_as_they_are(tmp_path, tile, samples, developer):
    """A scene of slow colours comes back within a few codes; the numbers of the sensor are kept to the digit."""
    shape = (96, 144)
    y, x = np.mgrid[: shape[0], : shape[1]]
    truth = np.dstack([3000 + 8 * x, 4000 + 6 * y, 5000 - 9 * x]).astype(float)
    if tile is None and samples == 1:
        truth = np.repeat(truth[..., 1:2], 3, axis=-1)
    colours = colours_of(shape, tile) if tile else np.ones(shape, int)
    data = truth if samples == 3 else np.take_along_axis(truth, colours[..., None], axis=-1)[..., 0]
    frame = read_frame(layouts.write(tmp_path / "a.dng", np.rint(data + layouts.BLACK).astype(np.uint16), tile))
    how = Development(frame.layout, frame.black_dn, (1.0, 1.0, 1.0), None, developer)
    rect = Rect(25, 31, 70, 40)
    found = interpolated_crop(frame.mosaic, rect, how)
    cut = np.s_[rect.y : rect.y + rect.h, rect.x : rect.x + rect.w]
    assert found.shape == (40, 70, 3)
    assert np.abs(found - truth[cut]).max() < 40
    if samples == 1:
        own = np.take_along_axis(found, colours[cut][..., None], axis=-1)[..., 0]
        assert np.abs(own - np.rint(data[cut])).max() < 0.01
    # A crop is the same wherever it is cut from.
    whole = interpolated_crop(frame.mosaic, Rect(0, 0, 144, 96), how)
    assert np.abs(whole[cut] - found).max() < 0.01
    assert develop_reduced(frame.mosaic, 4, how).ndim == 3


def test_hot_pixels_of_larger_tiles_lie_where_they_were_put(tmp_path):
    rng = np.random.default_rng(5)
    shape = (360, 540)
    places = {(100, 200), (31, 77), (301, 500), (152, 153)}
    for tile, samples in ((layouts.LARGE_TILE, 1), (layouts.QUAD, 1), (None, 1)):
        paths = []
        for n in range(3):
            dark = rng.normal(layouts.BLACK, 4, shape)
            for y, x in places:
                dark[y, x] += 900
            data = np.rint(dark).astype(np.uint16)
            paths.append(layouts.write(tmp_path / f"{samples}{n}.dng", data, tile, exposure_s=30))
        table = hot_pixels([read_frame(path) for path in paths], 1.0)
        rows = table.of(("hot",))
        assert {(int(row["y"]), int(row["x"])) for row in rows} == places
        frame = read_frame(paths[0])
        assert [table.channels[row["channel"]] for row in rows] == [
            frame.layout.at(int(row["x"]), int(row["y"])) for row in rows
        ]


def test_tiles_of_four_are_read_from_the_tags_and_cells_hold_every_colour(tmp_path):
    data = np.arange(48 * 72, dtype=np.uint16).reshape(48, 72)
    frame = read_frame(layouts.write(tmp_path / "q.dng", data, layouts.QUAD))
    assert frame.layout.name == "4×4"
    assert frame.layout.cell == 4
    assert frame.cells("R")[0, 0] == pytest.approx(data[:2, :2].mean())
    large = read_frame(layouts.write(tmp_path / "l.dng", data, layouts.LARGE_TILE))
    assert large.layout.cell == 3
    block, colours = data[3:6, 6:9], colours_of((6, 12), layouts.LARGE_TILE)[3:6, 6:9]
    for code, channel in enumerate("RGB"):
        assert large.cells(channel)[1, 2] == pytest.approx(block[colours == code].mean())
        # A rectangle anywhere on the grid sees the same cells.
        rect = Rect(9, 15, 24, 12)
        assert (rect.cells(large, channel) == large.cells(channel)[5:9, 3:11]).all()
    assert Layout.from_plain(large.layout.plain) == large.layout
    old = Layout.from_plain({"R": [1, 0], "G1": [1, 1], "G2": [0, 0], "B": [0, 1]})
    assert old.tile == (("G2", "B"), ("R", "G1"))


def test_without_filters_a_warm_dark_is_told_from_a_dim_scene(tmp_path):
    rng = np.random.default_rng(4)
    warm = np.rint(rng.normal(layouts.BLACK + 60, 4, (480, 768))).astype(np.uint16)
    dim = layouts.numbers(layouts.light((480, 768), np.ones((480, 768), int)) / 60, rng)
    for name, data, seconds, dark in (
        ("warm", warm, 30.0, True),
        ("dim", dim, 30.0, False),
        ("quick", warm, 0.01, False),
    ):
        facts = inspect_file(str(layouts.write(tmp_path / f"{name}.dng", data, None, exposure_s=seconds)))
        assert facts.dark is dark, name
