import io
import math
from datetime import datetime
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
import rawpy
from PIL import Image

from tests import making
from yellowjacket.core.export.dng import DngImage, Storage, write_dng
from yellowjacket.core.metadata.capture import Compression
from yellowjacket.core.raw.first_look import inspect_file
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.reader import read_frame, read_with_metadata


def mosaic(rng, shape=(96, 128)):
    return rng.integers(0, making.WHITE, shape, dtype=np.uint16)


def test_what_was_written_is_read_back_bit_for_bit(tmp_path, rng):
    written = mosaic(rng)
    frame = read_frame(making.write(tmp_path / "a.dng", written))
    assert np.array_equal(frame.mosaic, written)
    assert frame.black_dn == dict.fromkeys(("R", "G1", "G2", "B"), 512.0)
    assert frame.white_dn == making.WHITE
    np.testing.assert_allclose(frame.neutral, (0.55, 1.0, 0.7), rtol=1e-3)


def test_the_mosaic_outlives_its_file(tmp_path, rng):
    written = mosaic(rng)
    path = making.write(tmp_path / "a.dng", written)
    frame = read_frame(path)
    path.unlink()
    assert np.array_equal(frame.mosaic, written)


def test_planes_are_the_sites_of_their_colour(tmp_path):
    numbers = np.tile(np.array([[1, 2], [3, 4]], np.uint16) * 1000, (16, 16))
    frame = read_frame(making.write(tmp_path / "a.dng", numbers))
    assert [int(frame.cells(c).mean()) for c in ("R", "G1", "G2", "B")] == [1000, 2000, 3000, 4000]


def test_other_programs_find_a_small_picture_in_the_file(tmp_path):
    """LibRaw hands out the JPEG of the first directory; Pillow opens that, and the file itself."""
    numbers = np.full((96, 128), 512, np.uint16)
    numbers[:48] = making.WHITE // 2
    path = making.write(tmp_path / "a.dng", numbers)
    with rawpy.imread(str(path)) as raw:
        found = raw.extract_thumb()
    assert found.format == rawpy.ThumbFormat.JPEG
    for small in (Image.open(io.BytesIO(found.data)), Image.open(path)):
        upper, lower = np.asarray(small.convert("L")).reshape(2, -1).mean(1)
        assert (small.mode, small.size) == ("RGB", (64, 48))
        assert upper > 150
        assert lower < 5


@pytest.mark.parametrize("cfa", [("G", "R", "B", "G"), ("B", "G", "G", "R"), ("G", "B", "R", "G")])
def test_every_order_of_the_two_by_two_tile_is_read(tmp_path, rng, cfa):
    image = DngImage(mosaic(rng), cfa, (500, 510, 520, 530), 16383, making.MATRIX, (0.5, 1, 0.7), making.capture())
    write_dng(tmp_path / "a.dng", image)
    frame = read_frame(tmp_path / "a.dng")
    places = {name: site.row * 2 + site.column for name in frame.channels for site in frame.layout.sites(name)}
    assert cfa[places["R"]] == "R"
    assert cfa[places["B"]] == "B"
    assert places["G1"] // 2 == places["R"] // 2
    # Black levels follow the place in the tile they were given for.
    assert frame.black_dn == {name: (500, 510, 520, 530)[place] for name, place in places.items()}


@pytest.mark.parametrize(("white", "bits"), [(1023, 10), (4095, 12), (16383, 14)])
def test_packed_files_are_read_back_bit_for_bit(tmp_path, rng, white, bits):
    """LibRaw unpacks what TIFF calls FillOrder 1."""
    numbers = rng.integers(0, white + 1, (96, 128), dtype=np.uint16)
    plain, packed = (
        DngImage(numbers, making.CFA, (64,) * 4, white, making.MATRIX, (0.5, 1, 0.7), making.capture(), one)
        for one in (Storage.PLAIN, Storage.PACKED)
    )
    write_dng(tmp_path / "packed.dng", packed)
    write_dng(tmp_path / "plain.dng", plain)
    frame = read_frame(tmp_path / "packed.dng")
    assert np.array_equal(frame.mosaic, numbers)
    assert frame.white_dn == white
    saved = (tmp_path / "plain.dng").stat().st_size - (tmp_path / "packed.dng").stat().st_size
    assert saved == numbers.size * (16 - bits) // 8


def test_numbers_that_do_not_fit_are_not_packed(tmp_path):
    numbers = np.full((64, 64), 5000, np.uint16)
    image = DngImage(numbers, making.CFA, (0,) * 4, 4095, making.MATRIX, (1, 1, 1), making.capture(), Storage.PACKED)
    with pytest.raises(ValueError, match="white level's bits"):
        write_dng(tmp_path / "x.dng", image)


def compressed(numbers, cfa=making.CFA):
    return DngImage(numbers, cfa, (64,) * 4, 65535, making.MATRIX, (0.5, 1, 0.7), making.capture(), Storage.COMPRESSED)


@pytest.mark.parametrize("spread", [0, 3, 300, 65535])
def test_compressed_files_are_read_back_bit_for_bit(tmp_path, rng, spread):
    """LibRaw, whose decoder is that of real cameras' files, is the other side; at the widest every difference occurs."""
    level = (65535 - spread) // 2
    numbers = rng.integers(level, level + spread, (96, 130), dtype=np.uint16, endpoint=True)
    numbers[5, :4] = 0, 32768, 65535, 0
    write_dng(tmp_path / "a.dng", compressed(numbers))
    frame, told = read_with_metadata(tmp_path / "a.dng")
    assert np.array_equal(frame.mosaic, numbers)
    assert told.compression == Compression.LOSSLESS


def test_photon_noise_takes_little_more_than_it_holds(tmp_path, rng):
    """A normal distribution of σ holds log2(σ √(2πe)) bits (Shannon, 1948); a difference has √2 of the spread."""
    sigma = 40.0
    numbers = np.rint(rng.normal(3000, sigma, (512, 768))).astype(np.uint16)
    write_dng(tmp_path / "a.dng", compressed(numbers))
    least = numbers.size * math.log2(math.sqrt(2) * sigma * math.sqrt(2 * math.pi * math.e)) / 8
    assert least < (tmp_path / "a.dng").stat().st_size < 1.1 * least


def test_what_has_no_filters_is_not_compressed(tmp_path, rng):
    with pytest.raises(ValueError, match="has filters and even rows"):
        write_dng(tmp_path / "a.dng", compressed(mosaic(rng), ()))


def test_metadata_says_what_the_body_wrote(tmp_path, rng):
    moment = datetime(2026, 3, 14, 20, 1, 2, 250_000)
    path = making.write(
        tmp_path / "a.dng", mosaic(rng), iso=102400, exposure_s=Fraction(1, 8000), f_number=Fraction(56, 10),
        captured_at=moment,
    )  # fmt: skip
    _, found = read_with_metadata(path)
    assert (found.make, found.model, found.serial, found.firmware) == ("Ostrel", "Heath", "OH-1", "1.10")
    # 102400 does not fit Exif's sixteen bits and stands in another tag.
    assert found.iso == 102400
    assert found.exposure_s == pytest.approx(1 / 8000)
    assert found.f_number == pytest.approx(5.6)
    assert found.captured_at == moment


def bad(folder: Path, kind: str, rng) -> Path:
    path = folder / f"{kind}.dng"
    whole = making.write(folder / "whole.dng", mosaic(rng)).read_bytes()
    if kind == "empty":
        path.write_bytes(b"")
    elif kind == "truncated":
        path.write_bytes(whole[: len(whole) // 2])
    elif kind == "headless":
        path.write_bytes(whole[:40])
    elif kind == "text":
        path.write_text("ISO 100, I promise")
    elif kind == "picture":
        Image.new("RGB", (64, 64), (90, 90, 90)).save(path, "JPEG")
    elif kind == "noise":
        path.write_bytes(rng.bytes(20_000))
    elif kind == "folder":
        path.mkdir()
    return path


@pytest.mark.parametrize(
    ("kind", "code"),
    [
        ("empty", "empty"), ("truncated", "truncated"), ("headless", "not-raw"), ("text", "not-raw"),
        ("picture", "not-raw"), ("noise", "not-raw"), ("absent", "unreadable"), ("folder", "unreadable"),
    ],
)  # fmt: skip
def test_unusable_files_are_refused_by_name_and_remedy(tmp_path, rng, kind, code):
    path = bad(tmp_path, kind, rng)
    with pytest.raises(FrameError) as caught:
        inspect_file(str(path))
    assert caught.value.code == code
    assert caught.value.path == path
    assert caught.value.reason.endswith(".")
    assert caught.value.remedy


def test_a_raw_file_under_a_wrong_name_is_still_a_raw_file(tmp_path, rng):
    path = making.write(tmp_path / "holiday.jpg", mosaic(rng))
    assert inspect_file(str(path)).metadata.model == "Heath"


def test_levels_that_contradict_each_other_are_refused(tmp_path, rng):
    image = DngImage(mosaic(rng), making.CFA, (600,) * 4, 600, making.MATRIX, (0.5, 1, 0.7), making.capture())
    write_dng(tmp_path / "a.dng", image)
    with pytest.raises(FrameError, match="white 600 is not above black 600"):
        read_frame(tmp_path / "a.dng")


def test_reading_never_changes_a_file(tmp_path, rng):
    path = making.write(tmp_path / "a.dng", mosaic(rng))
    before = path.read_bytes(), path.stat().st_mtime_ns
    facts = inspect_file(str(path))
    assert (path.read_bytes(), path.stat().st_mtime_ns) == before
    assert facts.size_bytes == len(before[0])


def test_dark_and_light_are_told_apart(tmp_path):
    rng = np.random.default_rng(3)
    light = making.write(tmp_path / "light.dng", making.shot(100, rng))
    dim = making.write(tmp_path / "dim.dng", making.shot(100, rng, stops=-4))
    dark = making.write(tmp_path / "dark.dng", making.shot(100, rng, dark=True))
    assert [inspect_file(str(path)).dark for path in (light, dim, dark)] == [False, False, True]


@pytest.mark.parametrize(
    ("array", "words"),
    [
        (np.zeros((4, 4), np.int32), "2-D uint16"), (np.zeros((4, 4, 3), np.uint16), "2-D uint16"),
        (np.zeros((5, 4), np.uint16), "even"),
    ],
)  # fmt: skip
def test_a_mosaic_that_no_sensor_makes_is_not_written(tmp_path, array, words):
    with pytest.raises(ValueError, match=words):
        making.write(tmp_path / "a.dng", array)
    assert not list(tmp_path.iterdir())


def test_errors_survive_the_way_from_a_worker():
    import pickle

    error = FrameError(Path("/x/a.dng"), "empty", "is empty.", "Copy it again.")
    again = pickle.loads(pickle.dumps(error))
    assert (again.path, again.code, str(again)) == (error.path, "empty", str(error))


@pytest.mark.parametrize(("written", "read"), [(21.5, 21.5), (-7.25, -7.25), (0.0, 0.0), (None, None), (4000.0, None)])
def test_the_temperature_of_the_file_is_read_where_it_makes_sense(tmp_path, rng, written, read):
    """Exif 2.31, AmbientTemperature, a signed rational (tag number from memory)."""
    path = making.write(tmp_path / "t.dng", making.shot(100, rng), temperature_c=written)
    _, metadata = read_with_metadata(path)
    assert metadata.temperature_c == read
