"""Compile what is compiled, once before the tests: each of their processes would do it for itself.

`python -m tests.compiled`
"""

from __future__ import annotations

import contextlib
import io
import multiprocessing
import sys
import tempfile
from pathlib import Path

import numpy as np

from tests import darks, making
from yellowjacket.cli.main import main
from yellowjacket.core.darks.defects_in_light import bright_points, no_response
from yellowjacket.core.darks.exposure_group import DarkGroup, TimeTask, measure_time
from yellowjacket.core.darks.master import make_master
from yellowjacket.core.photon_transfer.characterise import characterise_iso
from yellowjacket.core.prediction import shown_small
from yellowjacket.core.raw.frame import BAYER, Layout
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import DEVELOPERS, Development, develop_at_use
from yellowjacket.core.survey.sort import card_of, sort_cards

_TILE = tuple(tuple("RGB"[(2 * row + column) % 3] for column in range(6)) for row in range(6))


def of_light(folder: Path) -> None:
    """Small light frames through everything that computes with them."""
    rng = np.random.default_rng(1)
    card, found = folder / "card", folder / "body.json"
    said("simulate", "moor", "--iso-ladder", "400,25600", "--out", card)
    (tasks,) = sort_cards([card_of(str(path)) for path in sorted(card.glob("*.DNG"))])
    # Here first: two workers would compile the same beside each other.
    characterise_iso(tasks.tasks[0])
    found.write_text(said("characterise", card, "--json"))
    said("predict", card / "YJ00001.DNG", "--body", found, "--iso", 25600, "--out", folder / "made.dng")
    said("simulate", "tarn", "--iso-ladder", "400", "--out", folder / "compressed")
    light = [making.frame_of(making.shot(100, rng)) for _ in range(2)]
    bright_points(light[0])
    no_response(light)


def of_darks(folder: Path) -> None:
    """The same of darks, and of pictures."""
    rng = np.random.default_rng(1)
    paths = [
        path for n, seconds in enumerate((1.0, 8.0, 64.0))
        for path in darks.write_darks(folder, rng, seconds, 3, start=10 * n, rate_e=1.0, hot=[(60, 60, 90.0)])
    ]  # fmt: skip
    make_master(paths[-3:])
    measure_time(TimeTask(DarkGroup(64.0, 20.0, tuple(str(path) for path in paths[-3:])), 0.4))
    said("characterise", folder)
    shown_small.be_ready()
    for layout in (Layout(BAYER, (("R", "G1"), ("G2", "B"))), Layout("any", _TILE)):
        for developer in DEVELOPERS:
            how = Development(layout, dict.fromkeys(layout.channels, 0.0), (1.0, 1.0, 1.0), None, developer)
            develop_at_use(np.zeros((24, 24), np.uint16), Rect(0, 0, 24, 24), how, 2.0)


def said(*words: object) -> str:
    """What a command answers."""
    into = io.StringIO()
    with contextlib.redirect_stdout(into):
        main([str(word) for word in words])
    return into.getvalue()


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as place:
        beside = multiprocessing.get_context("spawn").Process(target=of_darks, args=(Path(place) / "capped",))
        (Path(place) / "capped").mkdir()
        beside.start()
        of_light(Path(place))
        beside.join()
        sys.exit(beside.exitcode)
