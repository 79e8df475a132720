"""The part of the benchmark that adopts a folder: until its crops stand on the page, against decoding the same files."""

from __future__ import annotations

import html
import re
import time
from collections.abc import Callable
from pathlib import Path

from yellowjacket import data_folder
from yellowjacket.bench.jobs.executor import run_all
from yellowjacket.benchmarks.lines import line
from yellowjacket.core.raw.reader import read_frame

# Against what the same cores need to decode the files.
ADOPT_GOAL = 1.4


def run(folder: Path, size: str, report: Callable[[str], None]) -> list[bool]:
    """Adopt the files of a folder as a person would, in the data folder in force, with Django set up; whether the goal is met.
    ``size``: what they are, in words."""
    paths = [str(path) for path in sorted(folder.iterdir())]
    # Worker processes that are up already, and files that were read before, for both.
    list(run_all(decoded, paths))
    begin = time.perf_counter()
    list(run_all(decoded, paths))
    alone_s = time.perf_counter() - begin
    begin = time.perf_counter()
    _look_at(_adopted(folder))
    ratio = (time.perf_counter() - begin) / alone_s
    what = f"{len(paths)} files of {size} adopted, until their crops are seen, against decoding them on all cores"
    return [line(report, what, ratio, ADOPT_GOAL, "×")]


def decoded(path: str) -> int:
    """Pixels of a frame, every one of them read."""
    return int(read_frame(Path(path)).mosaic.copy().size)


def _adopted(folder: Path) -> int:
    """The sitting that was made of them."""
    from django.conf import settings

    from yellowjacket.bench.intake import adopt
    from yellowjacket.bench.jobs.queue import run_job
    from yellowjacket.bench.plan.sittings import UseSpec

    data_folder.allow_folder(settings.HOME, folder)
    sitting = adopt.adopt_folder(str(folder), [UseSpec("Web", 2_000_000)], "Default")
    run_job.call(sitting.jobs.get().pk)
    return sitting.pk


def _look_at(sitting: int) -> None:
    from django.test import Client

    client = Client(headers={"host": "127.0.0.1"})
    text = client.get(f"/sittings/{sitting}/look/").content.decode()
    crops = {html.unescape(one) for one in re.findall(r'src="(/frames/[^"]+)"', text)}
    if not crops or any(client.get(one).status_code != 200 for one in crops):
        raise ValueError("no crops of what was adopted")
