"""The part of the benchmark that looks at darks: analysing a pair, averaging sixteen, in time and memory."""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from fractions import Fraction
from pathlib import Path

import numpy as np

from yellowjacket.benchmarks.lines import line
from yellowjacket.core.darks.exposure_group import DarkGroup, TimeTask, measure_time
from yellowjacket.core.darks.master import make_master
from yellowjacket.core.export.dng import CaptureData, DngImage, write_dng
from yellowjacket.core.raw.reader import read_frame

WIDTH_PX, HEIGHT_PX = 6000, 4000
_BLACK_DN, _WHITE_DN = 1024, 16383
_DARKS, _HOT = 16, 6000
_ROUNDS = 5
# Goals: both against reading the same files.
ANALYSIS_GOAL, MASTER_GOAL, MASTER_GOAL_MB = 3.0, 1.5, 1000.0


def run(folder: Path, report: Callable[[str], None]) -> list[bool]:
    """Time and memory of both, against their goals."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = [_write(folder / f"D{n:02}.dng", n) for n in range(_DARKS)]
    task = TimeTask(DarkGroup(60.0, 20.0, tuple(str(path) for path in paths[:2])), 0.4)
    measure_time(task)
    analysing, reading, averaging, reading_all = [], [], [], []
    for _ in range(_ROUNDS):
        reading.append(_seconds(lambda: [read_frame(path).mosaic.copy() for path in paths[:2]]))
        analysing.append(_seconds(lambda: measure_time(task)))
    for _ in range(3):
        reading_all.append(_seconds(lambda: [read_frame(path).mosaic.copy() for path in paths]))
        averaging.append(_seconds(lambda: make_master(paths)))
    analysis = statistics.median(analysing) / statistics.median(reading)
    master = statistics.median(averaging) / statistics.median(reading_all)
    megabytes = (_peak(paths) - _peak([])) / 1e6
    return [
        line(
            report, "24 MP pair of darks analysed, decode included, against decoding it", analysis, ANALYSIS_GOAL, "×"
        ),
        line(report, f"master of {_DARKS} darks of 24 MP, against reading them", master, MASTER_GOAL, "×"),
        line(report, f"peak memory of a master of {_DARKS} darks of 24 MP", megabytes, MASTER_GOAL_MB, "MB"),
    ]


def _write(path: Path, seed: int) -> Path:
    """A dark of 24 MP with hot pixels of its own sensor."""
    noise = np.random.default_rng(seed).normal(_BLACK_DN + 20, 5, (HEIGHT_PX // 8, WIDTH_PX))
    mosaic = np.tile(np.rint(noise).astype(np.uint16), (8, 1))
    sensor = np.random.default_rng(99)
    places = sensor.integers(0, HEIGHT_PX, _HOT), sensor.integers(0, WIDTH_PX, _HOT)
    mosaic[places] += sensor.exponential(400, _HOT).astype(np.uint16)
    moment = datetime(2026, 3, 14, 20) + timedelta(seconds=70 * seed)  # noqa: DTZ001
    capture = CaptureData("Ostrel", "Heath", "OH-1", "1.10", 800, Fraction(60), Fraction(8), moment)
    write_dng(
        path, DngImage(mosaic, ("R", "G", "G", "B"), (_BLACK_DN,) * 4, _WHITE_DN, np.eye(3), (1.0, 1.0, 1.0), capture)
    )  # fmt: skip
    return path


def _seconds(function: Callable[[], object]) -> float:
    begin = time.perf_counter()
    function()
    return time.perf_counter() - begin


def _peak(paths: list[Path]) -> int:
    """Peak resident bytes of a fresh process that averaged these files."""
    command = [sys.executable, "-m", "yellowjacket.benchmarks.darks", *map(str, paths)]
    return int(subprocess.run(command, check=True, capture_output=True, text=True).stdout)  # noqa: S603 - ourselves


def _peak_of_averaging(names: list[str]) -> int:
    if names:
        make_master([Path(name) for name in names])
    status = Path("/proc/self/status").read_text()
    return 1024 * int(next(line for line in status.splitlines() if line.startswith("VmHWM")).split()[1])


if __name__ == "__main__":
    sys.stdout.write(str(_peak_of_averaging(sys.argv[1:])))
