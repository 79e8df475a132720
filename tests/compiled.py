"""Compile what is compiled, once before the tests: each of their processes would do it for itself.

`python -m tests.compiled`
"""

from __future__ import annotations

import contextlib
import io
import tempfile
from pathlib import Path

import numpy as np

from tests import darks, making
from yellowjacket.cli.main import main
from yellowjacket.core.darks.defects_in_light import bright_points, no_response
from yellowjacket.core.darks.master import make_master
from yellowjacket.core.prediction import shown_small
from yellowjacket.core.raw.frame import BAYER, Layout
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import DEVELOPERS, Development, develop_at_use

_TILE = tuple(tuple("RGB"[(2 * row + column) % 3] for column in range(6)) for row in range(6))


def compile_all(folder: Path) -> None:
    """Small frames of every kind through everything that computes with them."""
    rng = np.random.default_rng(1)
    card, capped = folder / "card", folder / "capped"
    capped.mkdir()
    files = [
        path for n, seconds in enumerate((1.0, 8.0, 64.0))
        for path in darks.write_darks(capped, rng, seconds, 3, start=10 * n, rate_e=1.0, hot=[(60, 60, 90.0)])
    ]  # fmt: skip
    found = folder / "body.json"
    for words in (
        ("simulate", "moor", "--iso-ladder", "400,25600", "--out", card), ("characterise", card, "--json"),
        ("predict", card / "YJ00001.DNG", "--body", found, "--iso", 25600, "--out", folder / "made.dng"),
        ("characterise", capped),
    ):  # fmt: skip
        said = io.StringIO()
        with contextlib.redirect_stdout(said):
            main([str(word) for word in words])
        if words[-1] == "--json":
            found.write_text(said.getvalue())
    make_master(files[-3:])
    light = [making.frame_of(making.shot(100, rng)) for _ in range(2)]
    bright_points(light[0])
    no_response(light)
    shown_small.be_ready()
    for layout in (Layout(BAYER, (("R", "G1"), ("G2", "B"))), Layout("any", _TILE)):
        for developer in DEVELOPERS:
            how = Development(layout, dict.fromkeys(layout.channels, 0.0), (1.0, 1.0, 1.0), None, developer)
            develop_at_use(np.zeros((24, 24), np.uint16), Rect(0, 0, 24, 24), how, 2.0)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as place:
        compile_all(Path(place))
