"""DNG files of our own against other readers: tifffile for the container, LibRaw's own rendering, ExifRead."""

from fractions import Fraction

import exifread
import numpy as np
import pytest
import rawpy
import tifffile

from tests import making

pytestmark = pytest.mark.outside


@pytest.fixture
def written(tmp_path, rng):
    mosaic = rng.integers(0, making.WHITE, (96, 128), dtype=np.uint16)
    return mosaic, making.write(tmp_path / "a.dng", mosaic, iso=3200, exposure_s=Fraction(1, 250))


def test_tifffile_finds_the_mosaic_and_the_dng_tags(written):
    mosaic, path = written
    with tifffile.TiffFile(path) as file:
        first = file.pages[0]
        raw = first.pages[0]
        assert np.array_equal(raw.asarray(), mosaic)
        # TIFF/EP and DNG 1.4 tag numbers (from memory).
        assert raw.tags["PhotometricInterpretation"].value == 32803
        assert tuple(raw.tags["CFAPattern"].value) == (0, 1, 1, 2)
        assert raw.tags[50717].value == making.WHITE
        assert tuple(first.tags["DNGVersion"].value) == (1, 4, 0, 0)
        assert first.tags["Make"].value == "Ostrel"
        assert len(first.tags[50721].value) == 18


def test_libraw_renders_the_file(written):
    _, path = written
    with rawpy.imread(str(path)) as raw:
        assert raw.raw_image.shape == (96, 128)
        assert raw.postprocess(use_camera_wb=True).shape == (96, 128, 3)


def test_exif_is_where_an_exif_reader_looks(written):
    _, path = written
    with path.open("rb") as file:
        tags = exifread.process_file(file, details=False)
    assert str(tags["EXIF ExposureTime"]) == "1/250"
    assert tags["EXIF ISOSpeedRatings"].values == [3200]
    assert str(tags["EXIF DateTimeOriginal"]) == "2026:03:14 20:00:00"
    assert str(tags["EXIF BodySerialNumber"]) == "OH-1"
