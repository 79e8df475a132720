"""Files whose claims are no numbers: no reading rests on them, the file is named, and the others go on."""

import json
import struct
import subprocess
import sys

import numpy as np
import pytest

from tests import layouts
from yellowjacket.core.raw.reader import read_frame, read_metadata
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungTask, measure_rung

SHAPE = (480, 768)
WHITE_LEVEL, BLACK_LEVEL, EXPOSURE_TIME, COLOR_MATRIX = 50717, 50714, 33434, 50721
_SIZES = {3: 2, 4: 4, 5: 8, 10: 8}


def zeroed(path, tag, keep=0):
    """The file with what a tag holds made nothing, but for its first ``keep`` bytes: 0, 0/0, or 1/0."""
    data = bytearray(path.read_bytes())
    for at in range(len(data) - 12):
        if data[at : at + 2] == struct.pack("<H", tag):
            kind, count = struct.unpack("<HI", data[at + 2 : at + 8])
            if kind in _SIZES and 0 < count < 20:
                size = _SIZES[kind] * count
                place = at + 8 if size <= 4 else struct.unpack("<I", data[at + 8 : at + 12])[0]
                data[place + keep : place + size] = bytes(size - keep)
    path.write_bytes(bytes(data))


@pytest.fixture
def folder(tmp_path):
    """Two light frames and two darks at each of two ISO settings."""
    rng = np.random.default_rng(3)
    colours = np.tile(np.array(layouts.BAYER[1]).reshape(2, 2), (SHAPE[0] // 2, SHAPE[1] // 2))
    for n, iso in enumerate((100, 400)):
        for repeat in range(4):
            mean = layouts.light(SHAPE, colours) * (repeat < 2)
            data = layouts.numbers(mean, rng, gain=layouts.GAIN * 100 / iso)
            layouts.write(tmp_path / f"F{n}{repeat}.dng", data, layouts.BAYER, iso=iso, exposure_s=0.125 * 100 / iso)
    return tmp_path


def measured(folder, darks=True):
    patches = (PatchSpec("grey", "grey", Rect(200, 40, 80, 80)), PatchSpec("shadow", "shadow", Rect(488, 40, 80, 80)))
    paths = [str(folder / f"F0{n}.dng") for n in range(4)]
    result = measure_rung(RungTask(1, tuple(paths[:2]), tuple(paths[2:]) if darks else (), patches))
    return {(one.patch, one.channel, one.quantity): one.result for one in result.readings}, result.problems


def test_without_a_white_there_is_no_saturation_and_all_the_rest(folder):
    for path in folder.iterdir():
        zeroed(path, WHITE_LEVEL)
    assert read_frame(folder / "F00.dng").unsaid == ("white",)
    found, problems = measured(folder)
    assert problems == ()
    for quantity in ("saturation_e", "range_snr1", "headroom_stops"):
        assert not found[None, "all", quantity].known, quantity
    assert "no plausible white level" in found[None, "all", "saturation_e"].reason
    assert found[None, "all", "gain_e_per_dn"].value == pytest.approx(layouts.GAIN, rel=0.06)


def test_without_a_black_darks_measure_it_and_without_darks_the_file_is_named(folder):
    for path in folder.iterdir():
        zeroed(path, BLACK_LEVEL)
    assert read_frame(folder / "F00.dng").unsaid == ("black",)
    found, problems = measured(folder)
    assert problems == ()
    assert found[None, "R", "black_dn"].value == pytest.approx(layouts.BLACK, abs=0.1)
    found, problems = measured(folder, darks=False)
    assert problems[0].path == folder / "F00.dng"
    assert "names an impossible black level" in str(problems[0])
    assert not [one for one in found.values() if one.known]


def test_an_exposure_time_of_one_over_nothing_is_none(folder):
    zeroed(folder / "F00.dng", EXPOSURE_TIME, keep=4)
    assert read_metadata(folder / "F00.dng").exposure_s is None
    assert read_metadata(folder / "F01.dng").exposure_s == pytest.approx(0.125)


def test_a_matrix_of_nothing_over_nothing_is_none(folder):
    zeroed(folder / "F00.dng", COLOR_MATRIX)
    assert read_frame(folder / "F00.dng").xyz_to_camera is None


def test_one_such_file_costs_only_itself(folder):
    zeroed(folder / "F00.dng", EXPOSURE_TIME, keep=4)
    zeroed(folder / "F01.dng", COLOR_MATRIX)
    command = [sys.executable, "-m", "yellowjacket.cli", "characterise", "--json", str(folder)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert "Traceback" not in done.stderr
    document = json.loads(done.stdout)
    assert {one["file"].rpartition("/")[2] for one in document["problems"]} >= {"F00.dng"}
    assert [one["iso"] for one in document["bodies"][0]["isos"]] == [100, 400]


def test_flats_that_clip_all_over_are_no_copies(tmp_path):
    from yellowjacket.core.photon_transfer.accumulate import Exposures, Gathered, IsoTask, gather_light

    full = np.full(SHAPE, layouts.WHITE, np.uint16)
    paths = [str(layouts.write(tmp_path / f"{n}.dng", full, layouts.BAYER, iso=100 + n)) for n in range(2)]
    gathered = Gathered()
    gather_light(IsoTask(100, (Exposures(0.125, tuple(paths)),), ()), gathered)
    assert gathered.problems == []
