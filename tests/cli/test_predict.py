"""`yellowjacket predict`: a frame that was never shot, held against one that was; and what stands in the way."""

import json

import numpy as np
import pytest

from tests import layouts
from yellowjacket.cli.main import main
from yellowjacket.core.metadata.tags import read_tags
from yellowjacket.core.raw.reader import read_frame, read_with_metadata


@pytest.fixture(scope="module")
def shot(tmp_path_factory):
    """Two rungs of Moor, the upper one multiplied after the converter, each with darks."""
    folder = tmp_path_factory.mktemp("shot")
    assert main(["simulate", "moor", "--iso-ladder", "400,25600", "--out", str(folder), "--seed", "4"]) == 0
    return folder


@pytest.fixture(scope="module")
def findings(shot, tmp_path_factory):
    """The body's characterisation."""
    from contextlib import redirect_stdout

    path = tmp_path_factory.mktemp("found") / "moor.json"
    with path.open("w") as file, redirect_stdout(file):
        assert main(["characterise", str(shot), "--json"]) == 0
    return path


def predict(*words):
    return main(["predict", *map(str, words)])


def test_a_pair_that_was_never_shot_measures_like_one_that_was(shot, findings, tmp_path, capsys):
    made = []
    for n in (1, 2):
        out = tmp_path / f"{n}.dng"
        assert predict(shot / f"YJ0000{n}.DNG", "--body", findings, "--iso", 25600, "--push", 1.5, "--out", out) == 0
        made.append(out)
    files = json.loads((shot / "truth.json").read_text())["files"]
    real = [shot / one["file"] for one in files if one["iso"] == 25600 and not one["capped"]]
    assert [read_with_metadata(path)[1].iso for path in (*real, *made)] == [25600] * 4

    def patch(pair):
        # On the grey card, channel by channel.
        one, other = (read_frame(path).mosaic[48:204, 1408:1560].astype(float) for path in pair)
        noise = [(one - other)[y::2, x::2].std() / 2**0.5 for y in (0, 1) for x in (0, 1)]
        return one.mean() - 512, np.mean(noise)

    # The body's shutter keeps to its dial: 1/30 s and 1/2000 s are no six stops apart. The prediction exposes correctly.
    times = {one["iso"]: one["exposure_s"] for one in files}
    more = times[400] / times[25600] / 64
    level, noise = patch(real)
    assert patch(made) == pytest.approx((level * more, noise * more**0.5), rel=0.03)
    # The codes that the body leaves empty are empty here too.
    used = [len(np.unique(read_frame(path).mosaic)) for path in (real[0], made[0])]
    assert used[1] == pytest.approx(used[0], rel=0.1)
    assert read_tags(made[0], lambda key: key.endswith("BaselineExposure"))
    assert "predicted" in capsys.readouterr().out


def test_the_same_words_are_the_same_picture(shot, findings, tmp_path):
    words = (shot / "YJ00001.DNG", "--body", findings, "--iso", 25600, "--stops-less", 1, "--out", tmp_path / "a.dng")
    assert predict(*words) == 0
    first = (tmp_path / "a.dng").read_bytes()
    assert predict(*words) == 0
    assert (tmp_path / "a.dng").read_bytes() == first


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (("--iso", 100), 1, "2.0 stops beyond ISO 400"),
        (("--iso", 204800), 1, "stops beyond ISO 25600"),
        (("--iso", 25600, "--seconds", 60), 1, "no long darks of this body"),
        (("--iso", 25600, "--as", "Tarn"), 2, "holds Moor, not Tarn"),
    ],
)
def test_what_cannot_be_is_said_and_nothing_is_written(shot, findings, tmp_path, capsys, words, code, said):
    out = tmp_path / "no.dng"
    assert predict(shot / "YJ00001.DNG", "--body", findings, *words, "--out", out) == code
    assert said in capsys.readouterr().err
    assert not out.exists()


def test_files_that_are_none(shot, findings, tmp_path, capsys):
    clean = shot / "YJ00001.DNG"
    (tmp_path / "other.json").write_text(json.dumps({"schema": "x"}))
    assert predict(clean, "--body", tmp_path / "other.json", "--iso", 25600, "--out", tmp_path / "a.dng") == 2
    assert "not a document of `yellowjacket characterise --json`" in capsys.readouterr().err
    assert predict(clean, "--body", findings, "--iso", 25600, "--out", clean) == 2
    assert "never written over" in capsys.readouterr().err
    stranger = layouts.write(tmp_path / "s.dng", np.full((480, 640), 900, np.uint16), layouts.BAYER, iso=400)
    assert predict(stranger, "--body", findings, "--iso", 25600, "--out", tmp_path / "a.dng") == 1
    assert "is not among the bodies that were characterised" in capsys.readouterr().err


def test_a_smoothed_setting_is_predicted_from_what_it_was_before(tmp_path, capsys):
    """The Tarn smooths its raw from ISO 6400 on: grey, noise and how neighbours agree are those of a frame that was shot."""
    assert main(["simulate", "tarn", "--iso-ladder", "400,6400", "--out", str(tmp_path), "--seed", "4"]) == 0
    capsys.readouterr()
    assert main(["characterise", str(tmp_path), "--json"]) == 0
    (tmp_path / "tarn.json").write_text(capsys.readouterr().out)
    files = json.loads((tmp_path / "truth.json").read_text())["files"]
    light = {
        iso: [tmp_path / one["file"] for one in files if one["iso"] == iso and not one["capped"]] for iso in (400, 6400)
    }
    made = [tmp_path / "one.dng", tmp_path / "two.dng"]
    for clean, out in zip(light[400], made, strict=True):
        assert predict(clean, "--body", tmp_path / "tarn.json", "--iso", 6400, "--out", out) == 0

    def patch(pair):
        one, other = (read_frame(path).mosaic[48:204, 1408:1560].astype(float) for path in pair)
        noise = [(one - other)[y::2, x::2] / 2**0.5 for y in (0, 1) for x in (0, 1)]
        near = [(plane[:, 1:] * plane[:, :-1]).mean() / plane.var() for plane in noise]
        return one.mean(), np.mean([plane.std() for plane in noise]), np.mean(near)

    (mean, sigma, near), (own_mean, own_sigma, own_near) = patch(light[6400]), patch(made)
    assert own_mean == pytest.approx(mean, rel=0.03)
    assert own_sigma == pytest.approx(sigma, rel=0.05)
    assert own_near == pytest.approx(near, abs=0.05)


def test_hot_pixels_of_a_table_are_in_the_frame(shot, findings, tmp_path, capsys):
    table = tmp_path / "hot.csv"
    table.write_text("x,y,channel,class,e_per_s\n41,60,R,hot,\n300,200,G1,hot,\n")
    with_darks = json.loads(findings.read_text())
    for body in with_darks["bodies"]:
        body["dark"] = {"current_e_per_s": {"value": 0.1, "low": 0.1, "high": 0.1}, "temperature_c": 20.0}
    (tmp_path / "dark.json").write_text(json.dumps(with_darks))
    words = (shot / "YJ00001.DNG", "--body", tmp_path / "dark.json", "--iso", 25600, "--out", tmp_path / "a.dng")
    assert predict(*words, "--hot-pixels", table) == 2
    assert "say with --seconds" in capsys.readouterr().err
    assert predict(*words, "--seconds", 30, "--hot-pixels", table) == 0
    made = read_frame(tmp_path / "a.dng")
    assert made.mosaic[60, 41] > 0.95 * made.white_dn > 4 * made.mosaic[58, 41]
    assert made.mosaic[200, 300] > 0.95 * made.white_dn
    table.write_text("x,y\n1,2\n")
    assert predict(*words, "--seconds", 30, "--hot-pixels", table) == 1
    assert "has no column e_per_s" in capsys.readouterr().err
    assert predict(*words, "--seconds", 30, "--hot-pixels", tmp_path / "none.csv") == 1
    assert "none.csv" in capsys.readouterr().err
