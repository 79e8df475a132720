"""What goes out: FITS read back by Astropy, documents that hold no NaN, profiles that come back as they were."""

import io
import json
import math

import numpy as np
import pytest
from astropy.io import fits

from tests import making
from yellowjacket.core.export.fits import MASK_BITS, image_bytes, mask_of, read_image, table_bytes
from yellowjacket.core.limits.tolerance import profile_from
from yellowjacket.core.limits.tolerance_file import ProfileFileError, profile_document, read_profile
from yellowjacket.core.metrology.document import quantity
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.survey.documents import body_document, problem
from yellowjacket.core.survey.single_frame import FrameTask, NamedRect, measure_file, measurement


def test_an_image_keeps_its_numbers_its_cards_and_its_checksum(tmp_path):
    data = np.random.default_rng(1).normal(512, 3, (20, 30)).astype(np.float32)
    path = tmp_path / "dark.fits"
    path.write_bytes(image_bytes(data, {"ISO": (800, "as set"), "CCD-TEMP": (None, "")}, ["21 °C, 3 e⁻"]))
    np.testing.assert_array_equal(read_image(path), data)
    with fits.open(path, checksum=True) as parts:
        parts.verify("exception")
        assert parts[0].header["ISO"] == 800
        assert "CCD-TEMP" not in parts[0].header
    path.write_bytes(path.read_bytes()[:1000])
    with pytest.raises((OSError, ValueError)):
        read_image(path)


def test_tables_and_masks_agree():
    x, y = np.array([3, 7]), np.array([1, 2])
    data = table_bytes([("x", "J", "", x), ("y", "J", "", y)], {})
    with fits.open(io.BytesIO(data)) as parts:
        assert parts["PIXELS"].data["x"].tolist() == [3, 7]
    mask = mask_of((10, 4), x, y, ["hot", "dead"])
    assert mask.shape == (4, 10)
    assert (mask[1, 3], mask[2, 7], mask.sum()) == (MASK_BITS["hot"], MASK_BITS["dead"], 9)


@pytest.mark.parametrize("value", [math.nan, math.inf, None])
def test_no_document_holds_what_is_no_number(value):
    document = quantity(Quantity(value, value, value, 3))
    assert json.dumps(document, allow_nan=False)
    assert document["value"] is None


def test_a_body_without_readings_and_a_file_that_failed_are_told(tmp_path):
    document = body_document("Ostrel", "Heath", "", [], {})
    assert document["isos"] == []
    assert json.dumps(document, allow_nan=False)
    told = problem(FrameError(tmp_path / "a.dng", "empty", "is empty.", "Copy it again."))
    assert (told["file"].endswith("a.dng"), told["code"]) == (True, "empty")
    assert quantity(missing(Missing.CLIPPED))["reason"] == "clipped"


def test_a_profile_comes_back_as_it_was_and_nonsense_does_not():
    profile = profile_from("own", {"shadow_snr": [20, 8, 4]})
    name, thresholds = read_profile(profile_document(profile))
    assert profile_from(name, thresholds) == profile
    document = profile_document(profile)
    for value in ([1, 2], [1, 2, "x"], [1, 2, math.inf], [1, 2, 10**400], None, [True, 1, 2]):
        broken = document | {"criteria": {"shadow_snr": {"thresholds": value}}}
        with pytest.raises(ProfileFileError, match=r"criteria\.shadow_snr\.thresholds"):
            read_profile(broken)
    for nonsense in (None, [], "x", {}, {"schema": "yellowjacket-tolerance/9"}):
        with pytest.raises(ProfileFileError):
            read_profile(nonsense)


def test_a_file_is_measured_alone_and_with_its_pair(tmp_path):
    rng = np.random.default_rng(3)
    paths = [str(making.write(tmp_path / f"{n}.dng", making.shot(100, rng))) for n in range(2)]
    # Grey is the third column of the scene's eight.
    patch = NamedRect("grey", Rect(168, 100, 64, 200))
    outside = NamedRect("outside", Rect(9000, 0, 64, 64))
    expected = (making.GREY_DN / making.GAIN_E_PER_DN[100] + making.READ_NOISE_DN**2) ** 0.5
    for partner in (paths[1], None):
        document = measure_file(FrameTask(paths[0], partner, (patch, outside)))
        assert document["paired_with"] == partner
        green = document["patches"][0]["channels"]["G1"]
        assert green["signal_dn"]["value"] == pytest.approx(making.GREY_DN, rel=0.005)
        assert green["noise_dn"]["value"] == pytest.approx(expected, rel=0.05)
        lost = document["patches"][1]["channels"]["G1"]["noise_dn"]
        assert (lost["value"], "outside this frame" in lost["reason"]) == (None, True)
        assert json.dumps(measurement([document], [], []), allow_nan=False)


def test_a_history_keeps_its_signs_in_ascii(tmp_path):
    """A card is ASCII (FITS standard 4.0, 4.1.2.1): what has a plain form is put plainly, nothing becomes a question mark."""
    from yellowjacket.core.export.fits import image_bytes

    said = "from the sitting −3 °C ± 0.5, 640 × 480, Drosselgäßchen"
    path = tmp_path / "one.fits"
    path.write_bytes(image_bytes(np.zeros((4, 4), np.float32), {}, [said]))
    history = " ".join(fits.getheader(path)["HISTORY"])
    assert "-3 deg C +/- 0.5, 640 x 480" in " ".join(history.split())
    assert "?" not in history
