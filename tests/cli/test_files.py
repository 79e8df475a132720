"""The command line for files: clean JSON that fits its schema, sensible exit codes, problems told."""

import csv
import json
from datetime import datetime, timedelta
from fractions import Fraction
from pathlib import Path

import jsonschema
import numpy as np
import pytest

from tests import darks, layouts, making
from yellowjacket.bench.jobs import executor
from yellowjacket.cli.main import main
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.simcam.bodies import HEATH
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.scene import HEIGHT_PX, WIDTH_PX
from yellowjacket.simcam.sensor import ExposureSettings, _fixed_pattern

DOCS = Path(__file__).resolve().parents[2] / "docs"


def run(capsys, *words) -> tuple[int, str, str]:
    code = main([str(word) for word in words])
    out, err = capsys.readouterr()
    return code, out, err


def document(text: str, schema: str) -> dict:
    def refuse(word):
        raise AssertionError(f"{word} in a document")

    found = json.loads(text, parse_constant=refuse)
    jsonschema.Draft202012Validator(json.loads((DOCS / schema).read_text())).validate(found)
    return found


@pytest.fixture(scope="module")
def frames(tmp_path_factory):
    """Two rungs of Moor, the upper one digital, each with a pair of darks."""
    folder = tmp_path_factory.mktemp("frames")
    assert main(["simulate", "moor", "--iso-ladder", "400,25600", "--out", str(folder), "--seed", "4"]) == 0
    return folder


def test_a_folder_is_characterised_without_a_plan(frames, capsys):
    code, out, err = run(capsys, "characterise", frames, "--json", "--use", "Web=400000")
    assert (code, err) == (0, "")
    found = document(out, "characterisation.schema.json")
    (body,) = found["bodies"]
    assert (body["make"], body["model"], body["cfa"]) == ("Quillon", "Moor", "2×2")
    truth = {one["iso"]: one for one in json.loads((frames / "truth.json").read_text())["isos"]}
    for rung in body["isos"]:
        gain = rung["all"]["gain_e_per_dn"]
        assert gain["low"] * 0.99 < truth[rung["iso"]]["gain_e_per_dn"] < gain["high"] * 1.01
        assert set(rung["channels"]) == {"R", "G1", "G2", "B"}
        ranges = rung["all"]["dynamic_range_stops"]
        assert ranges["snr1"]["value"] > ranges["snr2"]["value"] > ranges["snr10"]["value"]
        assert rung["all"]["uses"]["Web"]["snr1"]["value"] > ranges["snr1"]["value"]
    assert [rung["all"]["digital_iso"]["flag"] for rung in body["isos"]] == [False, True]
    assert body["avoid"][0]["iso"] == 25600
    code, out, _ = run(capsys, "characterise", frames)
    assert "ISO  25600" in out
    assert "digital" in out


def test_bad_files_cost_only_themselves(frames, tmp_path, capsys):
    for path in sorted(frames.glob("*.DNG"))[:4]:
        (tmp_path / path.name).symlink_to(path)
    (tmp_path / "cut.dng").write_bytes((frames / "YJ00001.DNG").read_bytes()[:50_000])
    (tmp_path / "letter.dng").write_text("no raw file")
    (tmp_path / "copy.dng").write_bytes((frames / "YJ00001.DNG").read_bytes())
    (tmp_path / "notes.txt").write_text("passed over")
    code, out, err = run(capsys, "characterise", tmp_path, "--json")
    assert code == 3
    found = document(out, "characterisation.schema.json")
    assert {Path(one["file"]).name for one in found["problems"]} >= {"cut.dng", "letter.dng"}
    assert {one["code"] for one in found["problems"]} >= {"truncated", "not-raw", "duplicate"}
    assert "cut.dng" in err
    assert found["bodies"][0]["isos"][0]["all"]["gain_e_per_dn"]["value"] is not None


def test_files_are_measured_patch_by_patch(frames, capsys):
    first = frames / "YJ00001.DNG"
    code, out, _ = run(capsys, "measure", first, frames / "YJ00002.DNG", "--patch", "a=200,200,64,64",
                       "--patch", "far=9000,0,64,64", "--json")  # fmt: skip
    assert code == 0
    found = document(out, "measurement.schema.json")
    frame = found["frames"][0]
    assert (frame["iso"], frame["width"], frame["paired_with"]) == (400, 1824, str(frames / "YJ00002.DNG"))
    inside, outside = frame["patches"]
    assert inside["channels"]["G1"]["snr"]["value"] > 5
    assert "lies outside this frame" in outside["channels"]["R"]["signal_dn"]["reason"]
    # One frame alone is read too, and says that it was.
    code, out, _ = run(capsys, "measure", first, "--json", "--patch", "a=200,200,64,64")
    alone = document(out, "measurement.schema.json")["frames"][0]["patches"][0]["channels"]["G1"]["noise_dn"]
    assert "from one frame" in alone["reason"]
    assert alone["value"] == pytest.approx(inside["channels"]["G1"]["noise_dn"]["value"], rel=0.15)
    code, out, _ = run(capsys, "measure", first)
    assert "uniform 1" in out


def test_what_cannot_be_measured_is_a_reason_and_never_a_nan(tmp_path, capsys):
    flat = np.full((480, 640), 900, np.uint16)
    clipped = np.full((480, 640), layouts.WHITE, np.uint16)
    for n, data in enumerate((flat, clipped)):
        layouts.write(tmp_path / f"{n}.dng", data, layouts.BAYER, iso=100 * (n + 1))
        layouts.write(tmp_path / f"{n}b.dng", data, layouts.BAYER, iso=100 * (n + 1))
    code, out, _ = run(capsys, "characterise", tmp_path, "--json")
    assert code == 1
    document(out, "characterisation.schema.json")
    code, out, _ = run(capsys, "measure", *sorted(tmp_path.glob("*.dng")), "--patch", "a=0,0,64,64", "--json")
    found = document(out, "measurement.schema.json")
    assert all(patch["channels"]["R"]["noise_dn"]["value"] is None for f in found["frames"] for patch in f["patches"])


@pytest.mark.parametrize(
    "words",
    [
        ("characterise", "/nowhere"), ("measure", "/nowhere.dng"), ("simulate", "moor", "--iso-ladder", "few", "--out", "x"),
        ("simulate", "moor", "--iso-ladder", "123", "--out", "x"), ("simulate", "moor", "--plan", "/no.json", "--out", "x"),
    ],
)  # fmt: skip
def test_usage_errors_are_two_with_a_line(words, capsys, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    code, out, err = run(capsys, *words)
    assert (code, out) == (2, "")
    assert err.startswith("yellowjacket: ")


def test_bad_patches_and_uses_are_usage_errors(frames, capsys):
    assert run(capsys, "measure", frames / "YJ00001.DNG", "--patch", "a=1,2,3")[0] == 2
    assert run(capsys, "characterise", frames, "--use", "Web")[0] == 2


def test_a_folder_without_a_frame_is_nothing_measurable(tmp_path, capsys):
    (tmp_path / "letter.dng").write_text("no raw file")
    assert run(capsys, "characterise", tmp_path, "--json")[0] == 1


def test_a_plan_file_is_shot(tmp_path, capsys):
    from yellowjacket.core.planning.ladder import Exposure, LadderSpec
    from yellowjacket.core.planning.plan_file import PlannedFor, plan_document

    spec = LadderSpec("iso", "shutter", Exposure(200, 1 / 15, 8.0), picked=(200.0,), repeats=1, darks=1)
    plan = plan_document("Small", [PlannedFor("Ostrel", "Fen", "", spec)], "settings")
    (tmp_path / "plan.json").write_text(json.dumps(plan))
    code, out, _ = run(capsys, "simulate", "fen", "--plan", tmp_path / "plan.json", "--out", tmp_path / "out")
    assert code == 0
    assert "2 frames and truth.json" in out
    assert len(list((tmp_path / "out").glob("*.DNG"))) == 2


def forever(path: str) -> str:
    while path == "hang":
        pass
    return path


def hungry(path: str) -> int:
    return len(bytearray(1 << 62)) if path == "hungry" else 1


def test_a_decoder_that_hangs_or_devours_costs_one_file(monkeypatch):
    # Long enough for workers to start on a busy machine.
    monkeypatch.setattr(executor, "LONGEST_S", 15.0)
    outcomes = dict(executor.run_all(forever, ["a", "hang", "b", "c"]))
    assert isinstance(outcomes["hang"], executor.WorkerDied)
    assert [outcomes[name] for name in "abc"] == list("abc")
    outcomes = dict(executor.run_all(hungry, ["a", "hungry"]))
    assert isinstance(outcomes["hungry"], (MemoryError, OverflowError))
    assert outcomes["a"] == 1


def test_rendered_pictures_are_measured_in_display_units_and_apart_from_raw(frames, tmp_path, capsys):
    import numpy as np
    from PIL import Image

    rng = np.random.default_rng(3)
    for n in range(2):
        picture = (120 + rng.normal(0, 5, (96, 96, 3))).astype(np.uint8)
        Image.fromarray(picture).save(tmp_path / f"{n}.png")
    names = [tmp_path / "0.png", tmp_path / "1.png"]
    code, out, _ = run(capsys, "measure", frames / "YJ00001.DNG", *names, "--json", "--patch", "a=16,16,64,64")
    found = document(out, "measurement.schema.json")
    assert code == 0
    assert [Path(one["file"]).name for one in found["frames"]] == ["YJ00001.DNG"]
    assert [one["paired_with"] is not None for one in found["rendered"]] == [True, True]
    assert found["rendered"][0]["patches"][0]["noise_luma"]["value"] > 0.5
    code, out, _ = run(capsys, "measure", *names)
    assert code == 0
    assert "display units" in out


def test_exposure_ladders_and_one_light_are_characterised(tmp_path, capsys):
    from datetime import datetime, timedelta

    from yellowjacket.simcam.bodies import MOOR
    from yellowjacket.simcam.camera import SimulatedCamera
    from yellowjacket.simcam.sensor import ExposureSettings

    camera, number = SimulatedCamera(MOOR, seed=5), 0
    for iso, seconds in ((100, 1 / 60), (100, 1 / 15), (100, 1 / 8), (800, 1 / 60)):
        for _ in range(2):
            number += 1
            moment = datetime(2026, 3, 14, 20, 0) + timedelta(seconds=9 * number)
            camera.shoot(ExposureSettings(iso, seconds, 8.0), tmp_path / f"{number}.dng", number, moment)
    code, out, _ = run(capsys, "characterise", tmp_path, "--json")
    (body,) = document(out, "characterisation.schema.json")["bodies"]
    assert code == 0
    steps = {one["nominal_stops"]: one["measured_stops"]["value"] for one in body["exposure_steps"]}
    assert len(body["exposure_steps"]) == 6
    # 1/60 s is the printed mark of 1/64 s: three stops under 1/8 s, not 2.9.
    assert sorted(steps.values()) == pytest.approx([-3, -1, 0], abs=0.01)
    assert body["black_error_dn"]["R"]["value"] == pytest.approx(1.6, abs=0.2)
    assert body["push_limit_stops"]["value"] > 1
    assert body["pull_limit_stops"]["value"] > 0
    (penalty,) = body["iso_vs_push"]
    assert (penalty["shot_iso"], penalty["wanted_iso"], penalty["kind"]) == (100, 800, "measured")
    # ½ log2((5.5² + 29.8)/(3.15² + 29.8)) by the body's own numbers; few areas of the scene lie near that level.
    stops = penalty["penalty_stops"]
    assert abs(stops["value"] - 0.30) < 1.6 * (stops["high"] - stops["low"]) / 2
    assert body["invariant_from_iso"]["value"] is None


@pytest.fixture(scope="module")
def long_darks(tmp_path_factory):
    """Heath at ISO 800: darks of three times at two temperatures, a light pair, and one pixel that answers nothing."""
    folder = tmp_path_factory.mktemp("long") / "frames"
    folder.mkdir()
    camera, lines = SimulatedCamera(HEATH, seed=2), ["file,temperature_c"]
    wanted = [
        (seconds, celsius, True) for celsius in (20.0, 32.0) for seconds in (1.0, 60.0, 240.0) for _ in range(2)
    ] + [(1 / 60, 20.0, False)] * 2
    for number, (seconds, celsius, capped) in enumerate(wanted, 1):
        moment = datetime(2026, 3, 14, 20, 0) + timedelta(seconds=600 * number)
        name = f"{number:02}.dng"
        camera.shoot(ExposureSettings(800, seconds, 8.0, capped, celsius), folder / name, number, moment)
        lines.append(f"{name},{celsius}")
    table = folder.parent / "degrees.csv"
    table.write_text("\n".join(lines))
    return folder, table


def test_long_darks_are_characterised_by_temperature_and_their_hot_pixels_listed(long_darks, tmp_path, capsys):
    folder, table = long_darks
    pixels = tmp_path / "pixels.csv"
    code, out, _ = run(
        capsys, "characterise", folder, "--json", "--temperatures", table, "--hot-pixels", pixels
    )  # fmt: skip
    (body,) = document(out, "characterisation.schema.json")["bodies"]
    dark = body["dark"]
    assert code == 0
    assert [one["temperature_c"] for one in dark["by_temperature"]] == [20.0, 32.0]
    # The body's own numbers: 0.25 e⁻/s at 20 °C, doubling every 6 °C; all darks together speak for the middle.
    assert dark["temperature_c"] == 26.0
    assert dark["current_e_per_s"]["value"] == pytest.approx(0.5, rel=0.03)
    assert dark["by_temperature"][0]["current_e_per_s"]["value"] == pytest.approx(0.25, rel=0.03)
    assert dark["doubling_c"]["value"] == pytest.approx(6.0, abs=0.25)
    warm = dark["by_temperature"][1]["current_e_per_s"]
    assert warm["low"] < 1.0 < warm["high"]
    hot = {(one["exposure_s"], one["temperature_c"]): one["value"] for one in dark["hot_per_mpix"]}
    assert hot[240.0, 32.0] > hot[60.0, 20.0] > 10
    assert dark["faults"] == []
    with pixels.open() as file:
        rows = list(csv.DictReader(file))
    assert len(rows) > 100
    assert {row["class"] for row in rows} <= {"hot", "warm", "stuck", "dead"}
    # What the listed ones gather is what the sensor was made with.
    _, _, truth = _fixed_pattern(HEATH, (HEIGHT_PX, WIDTH_PX))
    told = [
        (float(row["e_per_s"]), float(truth[int(row["y"]), int(row["x"])])) for row in rows if row["class"] == "hot"
    ]
    assert np.mean([own > 0 for _, own in told]) > 0.99
    bright = [(one, own) for one, own in told if own > 5]
    assert np.median([one / own for one, own in bright]) == pytest.approx(1.0, abs=0.02)
    bad = tmp_path / "bad.csv"
    bad.write_text("file,temperature_c\n01.dng,warm")
    assert run(capsys, "characterise", folder, "--temperatures", bad)[0] == 2


def test_the_longest_usable_exposure_has_four_answers(long_darks, capsys):
    folder, table = long_darks
    _, out, _ = run(capsys, "characterise", folder, "--json", "--temperatures", table)
    dark = document(out, "characterisation.schema.json")["bodies"][0]["dark"]
    assert set(dark["longest_usable"]) == {"as shot", "single-pixel repair", "LENR", "master dark"}
    # Hot pixels come first, but a converter's repair leaves few of them.
    assert dark["longest_usable_s"] == dark["longest_usable"]["as shot"]
    assert "hot pixels per megapixel" in dark["longest_usable_s"]["reason"]
    repaired = dark["longest_usable"]["single-pixel repair"]
    assert repaired["low"] <= repaired["value"] <= repaired["high"]
    assert "limited by lifted-shadow SNR" in repaired["reason"]
    # By hand: S = 12.7 % of the saturation, five stops down; SNR 2 where S/2 squared = S + R² + 0.5 t at 26 °C.
    signal, noise = 0.127 * HEATH.saturation_e(800) / 32, HEATH.read_noise_e(800)
    assert repaired["value"] == pytest.approx(((signal / 2) ** 2 - signal - noise**2) / 0.5, rel=0.05)


def test_without_temperatures_there_is_no_doubling(tmp_path, capsys, rng):
    for seconds in (1.0, 15.0, 60.0):
        darks.write_darks(tmp_path, rng, seconds, 2, rate_e=0.3)
    _, out, _ = run(capsys, "characterise", tmp_path, "--json")
    dark = document(out, "characterisation.schema.json")["bodies"][0]["dark"]
    assert dark["doubling_c"]["value"] is None
    assert "temperature of the darks is not known" in dark["doubling_c"]["reason"]


def test_darks_with_lenr_among_those_without_are_named_and_left_out(tmp_path, capsys):
    camera, number = SimulatedCamera(HEATH, seed=2), 0
    for seconds in (1.0, 60.0, 120.0):
        for lenr in (True, False, False):
            number += 1
            moment = datetime(2026, 3, 14, 20, 0) + timedelta(seconds=400 * number)
            settings = ExposureSettings(800, seconds, 8.0, True, 20.0, lenr=lenr)
            camera.shoot(settings, tmp_path / f"{number:02}.dng", number, moment)
    code, out, _ = run(capsys, "characterise", tmp_path, "--json")
    found = document(out, "characterisation.schema.json")
    assert code == 3
    # After a second too few points stand out to tell that they are gone.
    assert [one["file"][-6:] for one in found["problems"]] == ["04.dng", "07.dng"]
    assert all("had LENR on" in one["reason"] for one in found["problems"])
    dark = found["bodies"][0]["dark"]
    assert dark["current_e_per_s"]["value"] == pytest.approx(HEATH.dark_current_e_per_s, rel=0.1)
    counted = [one["value"] for one in dark["hot_per_mpix"]]
    assert counted == sorted(counted)
    assert counted[-1] > 200


def test_a_leak_and_a_dead_pixel_are_told(tmp_path, capsys, rng):
    folder = tmp_path / "frames"
    folder.mkdir()
    for seconds in (1.0, 15.0, 60.0, 120.0):
        for path in darks.write_darks(folder, rng, seconds, 2, rate_e=0.3):
            if seconds == 60.0:
                mosaic = read_frame(path).mosaic + np.linspace(0, 80, darks.SHAPE[1]).astype(np.uint16)[None, :]
                making.write(path, mosaic.astype(np.uint16), exposure_s=Fraction(60))
    for n in range(2):
        light = making.shot(100, rng)[: darks.SHAPE[0], : darks.SHAPE[1]]
        light[80, 61] = making.BLACK
        making.write(folder / f"L{n}.DNG", light)
    table = tmp_path / "pixels.csv"
    _, out, _ = run(capsys, "characterise", folder, "--json", "--hot-pixels", table)
    (fault,) = document(out, "characterisation.schema.json")["bodies"][0]["dark"]["faults"]
    assert (fault["exposure_s"], fault["code"]) == (60.0, "leak")
    with table.open() as file:
        rows = {(row["x"], row["y"]): row["class"] for row in csv.DictReader(file)}
    assert rows["61", "80"] == "dead"


def test_what_was_good_is_printed_beside_what_was_odd(frames, tmp_path, capsys):
    """Names that are no text, colours of 0/0, files that are none: each costs a line."""
    import os
    from pathlib import Path

    good = sorted(frames.glob("*.DNG"))[0]
    strange = Path(os.fsdecode(os.fsencode(str(tmp_path)) + b"/caf\xe9.dng"))
    strange.write_bytes(Path(good).read_bytes())
    colours = tmp_path / "colours.dng"
    colours.write_bytes(with_matrix_of_nothing(Path(good).read_bytes()))
    broken = tmp_path / "broken.dng"
    broken.write_bytes(b"II*\0" + b"x" * 300)
    code, out, err = run(capsys, "measure", "--json", good, strange, colours, broken)
    assert code == 3
    document = json.loads(out)
    assert len(document["frames"]) == 3, document["problems"]
    assert [Path(one["file"]).name for one in document["problems"]] == ["broken.dng"]
    assert "broken.dng" in err


def with_matrix_of_nothing(data):
    """The file with nine times 0/0 for its colour matrix (DNG 1.6, ColorMatrix1, tag 50721)."""
    import struct

    at = data.index(struct.pack("<HHI", 50721, 10, 9))
    (place,) = struct.unpack_from("<I", data, at + 8)
    return data[:place] + b"\0" * 72 + data[place + 72 :]
