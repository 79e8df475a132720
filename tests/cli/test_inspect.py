"""What the program sees in files: claims with their tags, layouts, and what stands in the way."""

import json
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from PIL import Image

from tests import containers, layouts, making
from yellowjacket.cli.main import main

SCHEMA = json.loads((Path(__file__).resolve().parents[2] / "docs" / "inspection.schema.json").read_text())


def inspected(capsys, *paths) -> tuple[int, list[dict]]:
    code = main(["inspect", *map(str, paths), "--json"])
    found = json.loads(capsys.readouterr().out)
    jsonschema.Draft202012Validator(SCHEMA).validate(found)
    return code, found["files"]


def test_a_raw_file_is_told_with_the_tags_its_claims_come_from(tmp_path, capsys):
    path = making.write(tmp_path / "a.dng", making.shot(100, np.random.default_rng(1)), temperature_c=21.5)
    code, (found,) = inspected(capsys, path)
    assert code == 0
    assert (found["model"], found["serial"], found["iso"]) == ("Heath", "OH-1", 100)
    assert (found["temperature_c"], found["temperature_of"]) == (21.5, "ambient")
    assert found["sources"]["temperature_c"] == "Exif.Photo.Temperature"
    # Fourteen bits in files of sixteen.
    assert (found["layout"], found["width"], found["height"], found["bits"]) == ("2×2", 640, 448, 14)
    assert (found["black_dn"]["G1"], found["white_dn"]) == (512, making.WHITE)
    assert found["problem"] is None
    assert found["lenr"] is None


@pytest.mark.parametrize(
    ("tile", "shape", "layout"),
    [
        (layouts.BAYER, (64, 96), "2×2"), (layouts.LARGE_TILE, (66, 96), "6×6"), (None, (64, 96), "monochrome"),
        (None, (64, 96, 3), "linear"),
    ],
)  # fmt: skip
def test_every_layout_is_named(tmp_path, capsys, tile, shape, layout):
    data = np.random.default_rng(2).integers(600, 4000, shape, dtype=np.uint16)
    _, (found,) = inspected(capsys, layouts.write(tmp_path / "a.dng", data, tile))
    assert (found["layout"], found["width"], found["height"]) == (layout, shape[1], shape[0])
    assert found["codes_used"] == np.unique(data).size
    assert (found["lowest_code"], found["highest_code"]) == (int(data.min()), int(data.max()))


def test_claims_are_told_where_the_pixels_cannot_be_decoded(tmp_path, capsys):
    media, holder = tmp_path / "a.raw", tmp_path / "b.raw"
    media.write_bytes(containers.media())
    holder.write_bytes(containers.jpeg_holder())
    code, found = inspected(capsys, media, holder)
    assert code == 1
    for one in found:
        assert (one["make"], one["serial"], one["iso"]) == ("Ostrel", "OH-0417", 3200)
        assert "can be read here" in one["problem"]
        assert one["layout"] is None


def test_files_that_cannot_be_used_say_why_and_the_others_are_told(tmp_path, capsys):
    good = making.write(tmp_path / "a.dng", making.shot(100, np.random.default_rng(1)))
    (tmp_path / "empty.dng").write_bytes(b"")
    Image.new("RGB", (64, 48)).save(tmp_path / "p.jpg")
    code, found = inspected(capsys, good, tmp_path / "empty.dng", tmp_path / "absent.dng", tmp_path / "p.jpg")
    assert code == 3
    assert [one["problem"] is None for one in found] == [True, False, False, True]
    assert "is empty" in found[1]["problem"]
    assert found[3]["layout"] == "picture"


def test_people_read_a_line_a_fact(tmp_path, capsys):
    path = making.write(tmp_path / "a.dng", making.shot(100, np.random.default_rng(1)))
    assert main(["inspect", str(path)]) == 0
    out = capsys.readouterr().out
    assert "model              Heath   [Exif.Image.Model]" in out
    assert "problem" not in out
