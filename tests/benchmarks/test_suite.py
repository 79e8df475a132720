"""The benchmark runs to its end on every change, on small frames; what it finds is told and never asserted."""

import re

from yellowjacket.benchmarks import cluster, darks, looking, suite

SMALL = {
    suite: {
        "_SIZES": {"24 MP": (1536, 768)},
        "WIDTH_PX": 1536,
        "HEIGHT_PX": 768,
        "_PATCHES": 3,
        "_ROUNDS": 1,
        "_SCALED": 2,
    },
    darks: {"HEIGHT_PX": 512, "WIDTH_PX": 768, "_DARKS": 4, "_HOT": 50, "_ROUNDS": 1},
    looking: {"_CELLS": 2, "_ROUNDS": 1},
    cluster: {"_TASKS": 6, "_WORKERS": (1, 2)},
}
FIGURE = re.compile(r".*\d.*(\(goal [\d.]+ .*(met|missed)\)|of CPU time|\(goal 1\.8 × on two\))$")


def test_every_part_but_the_demo_runs_to_its_end(tmp_path, monkeypatch):
    for module, small in SMALL.items():
        for name, value in small.items():
            monkeypatch.setattr(module, name, value)
    said = []
    met = [
        *suite._frames(tmp_path / "frames", said.append),
        *darks.run(tmp_path / "darks", said.append),
        *looking.run(tmp_path, suite.write_frame(tmp_path / "one.dng", 1, 1536, 1400), said.append),
        *cluster.run(said.append),
    ]
    assert all(isinstance(one, bool) for one in met)
    assert len(said) == len(met) + 1, "every figure is told, and one has no goal"
    assert [one for one in said if not FIGURE.match(one)] == []
