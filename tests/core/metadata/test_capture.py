"""What a file says about its capture: by containers built from their structure, by tags of made-up makers, and against Exiv2's
own command line."""

import re
import shutil
import subprocess
from datetime import datetime
from pathlib import Path

import exiv2
import pytest

from tests import containers as c
from yellowjacket.core.metadata.capture import (
    Compression,
    FrameMetadata,
    Shutter,
    Switch,
    Thermometer,
    interpret,
    wanted,
)
from yellowjacket.core.metadata.tags import Tag, read_tags

CONTAINERS = {
    "tiff": c.tiff(), "big-endian": c.tiff(order=">"), "media": c.media(), "jpeg": c.jpeg(), "jpeg-holder": c.jpeg_holder(),
}  # fmt: skip


def said(path: Path, content: bytes) -> FrameMetadata:
    path.write_bytes(content)
    return interpret(read_tags(path, wanted))


@pytest.mark.parametrize("kind", CONTAINERS)
def test_every_container_gives_up_its_body_its_clock_and_its_thermometer(tmp_path, kind):
    found = said(tmp_path / "a.raw", CONTAINERS[kind])
    assert (found.make, found.model, found.serial, found.firmware) == ("Ostrel", "Heath", "OH-0417", "1.10")
    # 8/10000 is 1/1250 s.
    assert (found.iso, found.exposure_s, found.f_number) == (3200, pytest.approx(1 / 1250), pytest.approx(5.6))
    assert (found.captured_at, found.utc_offset) == (datetime(2026, 3, 14, 20, 1, 2, 250_000), "+01:00")
    assert (found.temperature_c, found.temperature_of) == (-5.5, Thermometer.AMBIENT)
    assert found.lens == "Ostrel 50 mm"
    assert found.sources["serial"] == "Exif.Photo.BodySerialNumber"


def test_tags_in_a_single_directory_are_found_as_the_older_standard_keeps_them(tmp_path):
    """TIFF/EP, ISO 12234-2, has the capture data in the first directory (from memory)."""
    found = said(tmp_path / "a.raw", c.flat_tiff([*c.BODY, *c.CAPTURE]))
    assert (found.model, found.iso, found.exposure_s, found.f_number) == ("Heath", 3200, pytest.approx(1 / 1250), 5.6)
    assert found.captured_at == datetime(2026, 3, 14, 20, 1, 2)


@pytest.mark.parametrize("kind", CONTAINERS)
def test_the_library_s_own_command_says_the_same(tmp_path, kind):
    """Exiv2's command line, of Debian's package and so of another version, reads the same file for the same tags."""
    path = tmp_path / "a.raw"
    path.write_bytes(CONTAINERS[kind])
    ours = {one.key: one.words for one in read_tags(path, wanted)}
    printed = subprocess.run(
        [shutil.which("exiv2") or "exiv2", "-PkE", str(path)], capture_output=True, text=True, check=False
    )
    theirs = {key for key in printed.stdout.split() if wanted(key)}
    assert set(ours) == theirs
    for key, words in ours.items():
        told = subprocess.run(["exiv2", "-K", key, "-Pt", str(path)], capture_output=True, text=True, check=True)
        assert told.stdout.strip() == words


def test_maker_notes_of_every_layout_the_library_knows_are_matched_by_name(tmp_path):
    """No maker is named here: whatever groups the library has for these tags are written by it, and read back by us."""
    names = {
        "ShutterType",
        "LongExposureNoiseReduction",
        "LongShutterNoiseReduction",
        "CameraTemperature",
        "MultiExposure",
    }
    found = 0
    for group in exiv2.ExifTags.groupList():
        for info in exiv2.ExifTags.tagList(group.groupName_):
            if info.name_ in names:
                key = f"Exif.{group.groupName_}.{info.name_}"
                found += _written_and_read(tmp_path / "a.jpg", key, info)
    assert found >= 6


def _written_and_read(path: Path, key: str, info) -> bool:
    path.write_bytes(c.jpeg())
    maker = re.match("[A-Z][a-z]+", key.split(".")[1]).group()
    for make in (maker, maker.upper()):
        image = exiv2.ImageFactory.open(str(path))
        image.readMetadata()
        data = image.exifData()
        data["Exif.Image.Make"] = make
        value = exiv2.Value.create(info.typeId_)
        value.read("1")
        data.add(exiv2.ExifKey(key), value)
        image.setExifData(data)
        image.writeMetadata()
        if key in {one.key for one in read_tags(path, wanted)}:
            return True
    return False


def one(name: str, words: str, *numbers: float, group: str = "Anymaker") -> FrameMetadata:
    return interpret([Tag(f"Exif.{group}.{name}", words, numbers)])


@pytest.mark.parametrize(
    ("name", "words", "lenr", "high"),
    [
        ("LongExposureNoiseReduction", "On", Switch.ON, None),
        ("LongExposureNoiseReduction", "On (dark subtracted)", Switch.ON, None),
        ("LongExposureNoiseReduction", "Auto", Switch.AUTO, None),
        ("LongExposureNoiseReduction", "On (unused)", None, None),
        ("LongExposureNoiseReduction", "n/a", None, None),
        ("LongShutterNoiseReduction", "Off", Switch.OFF, None),
        ("LongExposureNoiseReduction", "17", None, None),
        # Some makers mean the one by a plain "noise reduction", some the other: the words decide, or nobody.
        ("NoiseReduction", "OFF", None, None),
        ("NoiseReduction", "On", None, None),
        ("NoiseReduction", "Long exposure", Switch.ON, None),
        ("NoiseReduction", "Standard", None, Switch.ON),
        ("NoiseReduction", "Low (-1)", None, Switch.ON),
        ("HighISONoiseReduction", "Off", None, Switch.OFF),
        ("HighIsoNoiseReduction", "Strong", None, Switch.ON),
        ("HighISONoiseReduction", "Auto", None, Switch.AUTO),
    ],
)  # fmt: skip
def test_noise_reduction_is_what_the_words_say_and_never_guessed(name, words, lenr, high):
    found = one(name, words, 1.0)
    assert (found.lenr, found.noise_reduction) == (lenr, high)


@pytest.mark.parametrize(
    ("share", "said_"), [(0.0, Switch.OFF), (0.4, Switch.ON), (None, None), (3.0, None)]
)  # fmt: skip
def test_the_standard_s_own_tag_for_noise_reduction(share, said_):
    """DNG 1.4, NoiseReductionApplied: a share from 0 to 1; 0/0 where it is not known (from memory)."""
    assert one("NoiseReductionApplied", "", share, group="Image").noise_reduction == said_


@pytest.mark.parametrize(
    ("name", "words", "numbers", "celsius", "where"),
    [
        ("CameraTemperature", "23 °C", (151.0,), 23.0, Thermometer.BODY),
        ("CameraTemperature", "-7 °C", (121.0,), -7.0, Thermometer.BODY),
        ("SensorTemperature", "31.5 °C", (315.0, 10.0), 31.5, Thermometer.SENSOR),
        ("Temperature", "38", (38.0,), 38.0, Thermometer.BODY),
        # Bodies without a thermometer.
        ("CameraTemperature", "--", (0.0,), None, None),
        ("CameraTemperature", "0", (0.0,), None, None),
        ("SensorTemperature", "n/a", (12.0,), None, None),
        ("CameraTemperature", "255 °C", (255.0,), None, None),
        # Temperatures of something else.
        ("ColorTemperature", "5200", (5200.0,), None, None),
        ("WhiteBalanceTemperature", "52", (52.0,), None, None),
        ("LensTemperature", "22 °C", (22.0,), None, None),
    ],
)
def test_a_temperature_stays_with_its_thermometer(name, words, numbers, celsius, where):
    found = one(name, words, *numbers)
    assert (found.temperature_c, found.temperature_of) == (celsius, where)


def test_the_sensor_s_thermometer_comes_before_the_air_s():
    air, sensor = Tag("Exif.Photo.Temperature", "11/1", (11.0,)), Tag("Exif.X.SensorTemperature", "30 °C", (30.0,))
    assert interpret([air, sensor]).temperature_of == Thermometer.SENSOR
    # Freezing air is said by the standard tag, where 0 is a temperature.
    assert interpret([Tag("Exif.Photo.Temperature", "0/1", (0.0,))]).temperature_c == 0.0


@pytest.mark.parametrize(
    ("name", "words", "kind"),
    [
        ("ShutterType", "Mechanical", Shutter.MECHANICAL), ("ShutterType", "Electronic", Shutter.ELECTRONIC),
        ("ShutterMode", "Electronic First Curtain", Shutter.FIRST_CURTAIN), ("ShutterType", "Hybrid", None),
        ("ShutterMode", "Electronic Front Curtain", Shutter.FIRST_CURTAIN), ("ShutterMode", "Silent", Shutter.ELECTRONIC),
    ],
)  # fmt: skip
def test_kinds_of_shutter(name, words, kind):
    assert one(name, words, 1.0).shutter == kind


@pytest.mark.parametrize(
    ("name", "words", "number", "several"),
    [
        ("MultiExposure", "On", 1, True), ("MultiExposure", "Off", 0, False), ("MultiExposure", "n/a", 2, False),
        ("PixelShiftShots", "4", 4, True), ("PixelShiftShots", "0", 0, False), ("PixelShiftShots", "1", 1, False),
    ],
)  # fmt: skip
def test_a_file_of_several_exposures_is_known_as_such(name, words, number, several):
    assert one(name, words, float(number)).several_shots is several


def test_bits_and_compression_are_those_of_the_mosaic_not_of_the_preview():
    tags = [
        Tag("Exif.Image.BitsPerSample", "8 8 8", (8.0, 8.0, 8.0)), Tag("Exif.Image.PhotometricInterpretation", "RGB", (2.0,)),
        Tag("Exif.Image.Compression", "JPEG", (6.0,)), Tag("Exif.SubImage1.BitsPerSample", "14", (14.0,)),
        Tag("Exif.SubImage1.PhotometricInterpretation", "Color Filter Array", (32803.0,)),
        Tag("Exif.SubImage1.Compression", "lossy", (34892.0,)),
    ]  # fmt: skip
    found = interpret(tags)
    assert (found.bits, found.compression) == (14, Compression.LOSSY)
    assert one("RawCompression", "Lossy (type 2)", 4.0).compression == Compression.LOSSY
    assert one("RawCompression", "Lossless", 3.0).compression == Compression.LOSSLESS


@pytest.mark.parametrize(
    ("key", "number", "field", "value"),
    [
        # Apertures without contacts to the lens, and nonsense.
        ("Exif.Photo.FNumber", 0.0, "f_number", None), ("Exif.Photo.FNumber", 6553.5, "f_number", None),
        ("Exif.Photo.ISOSpeedRatings", 65535.0, "iso", None), ("Exif.Photo.ISOSpeedRatings", 0.0, "iso", None),
        ("Exif.Photo.ExposureTime", 0.0, "exposure_s", None), ("Exif.Photo.ExposureTime", 4e9, "exposure_s", None),
        # APEX: −log2 of the time. 1/406 s is marked 1/400.
        ("Exif.Photo.ShutterSpeedValue", 8 + 2 / 3, "exposure_s", pytest.approx(1 / 406, rel=0.002)),
        ("Exif.Anymaker.ShutterCount", 4294967295.0, "frame_counter", None),
        ("Exif.Anymaker.MechanicalShutterCount", 1204.0, "frame_counter", 1204),
    ],
)  # fmt: skip
def test_claims_that_cannot_be_are_none(key, number, field, value):
    assert getattr(interpret([Tag(key, "", (number,))]), field) == value


def test_an_iso_beyond_sixteen_bits_stands_in_another_tag():
    tags = [
        Tag("Exif.Photo.ISOSpeedRatings", "65535", (65535.0,)), Tag("Exif.Photo.RecommendedExposureIndex", "", (102400.0,)),
    ]  # fmt: skip
    assert interpret(tags).iso == 102400


@pytest.mark.parametrize(
    "clock", ["0000:00:00 00:00:00", "1970:01:01 00:00:07", "2026:13:40 99:00:00", "", "yesterday"]
)
def test_a_clock_that_was_never_set_says_nothing(clock):
    assert interpret([Tag("Exif.Photo.DateTimeOriginal", clock)]).captured_at is None


@pytest.mark.parametrize("serial", ["00000000", "-------", "   ", "0"])
def test_no_serial_number_is_no_serial_number(serial):
    tags = [Tag("Exif.Photo.BodySerialNumber", serial), Tag("Exif.Anymaker.SerialNumber", "OH-7")]
    assert interpret(tags).serial == "OH-7"


def test_a_lens_s_number_is_not_the_body_s():
    assert one("LensSerialNumber", "L-1", group="Photo").serial == ""


@pytest.mark.parametrize("kind", ["loop", "outside", "junk", "cut"])
def test_hostile_maker_notes_cost_nothing_but_themselves(tmp_path, kind):
    """Directories that point at themselves or outside the file, ten megabytes of junk tags, and files cut short."""
    content = {
        # The Exif directory's own maker note points back at the Exif directory.
        "loop": c.tiff(exif=[*c.CAPTURE, (37500, c.LONG, (8,)), (c.EXIF_POINTER, c.LONG, (8,))]),
        "outside": c.tiff(exif=[*c.CAPTURE, (40965, c.LONG, (0xFFFFFF00,)), (37500, c.UNDEFINED, b"\xff" * 400)]),
        "junk": c.tiff(exif=[*c.CAPTURE, *((40000 + n % 20000, c.UNDEFINED, bytes(600)) for n in range(17_000))]),
        "cut": c.tiff()[:200],
    }[kind]
    found = said(tmp_path / "a.raw", content)
    assert found.model == "Heath"
    # A directory of thousands is left out whole; of a file cut short its short values are still there.
    assert found.iso == (None if kind == "junk" else 3200)
    assert (found.exposure_s is None) == (kind in ("junk", "cut"))


def test_files_that_are_nothing_say_nothing(tmp_path):
    for content in (b"", b"ISO 100, I promise", bytes(range(256)) * 40):
        assert said(tmp_path / "a.raw", content) == FrameMetadata()
    assert interpret(read_tags(tmp_path / "absent.raw", wanted)) == FrameMetadata()
