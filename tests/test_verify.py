"""The short run of `yellowjacket verify`: what needs no crowd holds, and every line of the table is there but those of limits,
which tests/outside/test_common_practice.py holds."""

import subprocess
import sys

import numpy as np

from yellowjacket import last_checks
from yellowjacket.benchmarks import verify
from yellowjacket.benchmarks.truths.ladders import second_bases


def test_the_short_table_has_every_line_and_holds():
    found = list(verify.rows(0.02))
    assert {one.what for one in found} == {
        "Chroma noise", "Luminance SNR", "Black level", "Read noise", "Row noise", "Second base ISO", "A tester's line",
        "Visual noise", "Noise hidden by smoothing", "Black by the joint fit", "Exposure steps", "Equal light",
        "Hot pixels that show", "Hits on hot pixels", "Longest exposure",
    }  # fmt: skip
    assert [one for one in found if not one.holds] == []
    lines = verify.table(found).splitlines()
    assert len(lines) == len(found) + 2
    assert all(line.count("|") == 6 for line in lines)


def test_second_bases_of_every_spacing_and_switch():
    """All of the long run: 500 with a drop of 15 % and more, none missed; 500 of one gain, under 1 % accused."""
    missed, accused = second_bases(np.random.default_rng(20), 1.0)
    assert missed.found == "0 missed"
    assert accused.holds


def test_what_is_missed_is_told_by_the_exit_code_and_kept(monkeypatch, tmp_path):
    row = verify.Row("Read noise", "a body", "within 1 %", "0.5 of it", False)
    monkeypatch.setattr(verify, "rows", lambda _: iter([row]))
    said = []
    assert verify.run(1.0, said.append, tmp_path) == 1
    assert "**missed**" in said[0]
    looked = last_checks.last(tmp_path, last_checks.ACCURACY)
    assert looked.whole
    assert [line["holds"] for line in looked.lines] == [""]
    assert [one.name for one in tmp_path.iterdir()] == ["last-accuracy.json"]
    # Without a data folder there is nothing to keep it in, and none is made.
    verify.run(1.0, said.append, tmp_path / "nowhere")
    assert not (tmp_path / "nowhere").exists()


def test_the_command_is_there():
    command = [sys.executable, "-m", "yellowjacket.cli", "verify", "--help"]
    assert "--short" in subprocess.run(command, capture_output=True, text=True, check=True).stdout
