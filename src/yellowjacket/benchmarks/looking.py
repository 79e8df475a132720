"""The part of the benchmark that looks: the cells of a wall developed from mapped mosaics, against reading one frame."""

from __future__ import annotations

import statistics
import time
import tracemalloc
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.benchmarks.lines import line
from yellowjacket.core.prediction import shown_small
from yellowjacket.core.prediction.predicted_mosaic import asked_for, predicted
from yellowjacket.core.prediction.sensor_at import Sensor, SensorAt
from yellowjacket.core.raw.frame import Layout
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import DEVELOPERS, Development, develop_at_use
from yellowjacket.core.rendering.png import stored_png

# Twelve rungs of two bodies, as the wall shows them; a use of 2 MP.
_CELLS, _CELL_PX = 24, (227, 196)
_USE_PIXELS = 2_000_000
_ROUNDS = 7
# The largest picture of Advice, which a whole frame is shown in.
_SMALL_PX = (180, 240)
# Goals: all cells of a wall after a move of the spot, a predicted crop, and a whole frame predicted small, against reading one
# frame of the same size; memory that a wall adds.
MOVE_GOAL, USE_GOAL, PREDICTED_GOAL, SMALL_GOAL, MEMORY_GOAL_MB = 1.0, 2.0, 0.3, 1.0, 60.0


def run(folder: Path, frame: Path, report: Callable[[str], None]) -> list[bool]:
    """Time and memory of a wall of 24 cells of a frame's size, against their goals."""
    raw = read_frame(frame)
    stored = folder / "wall.npy"
    np.save(stored, raw.mosaic)
    mosaic = np.load(stored, mmap_mode="r")
    height, width = mosaic.shape
    chance = np.random.default_rng(1)

    def how(developer: str) -> Development:
        return Development(raw.layout, raw.black_dn, (1e-4, 1e-4, 1e-4), raw.xyz_to_camera, developer)

    def wall(developer: str, factor: float) -> None:
        cut = [round(side * factor) for side in _CELL_PX]
        for _ in range(_CELLS):
            x, y = int(chance.integers(0, width - cut[0])), int(chance.integers(0, height - cut[1]))
            picture = develop_at_use(mosaic, Rect(x, y, cut[0], cut[1]), how(developer), factor)
            stored_png(picture)

    factor = (width * height / _USE_PIXELS) ** 0.5
    for developer in DEVELOPERS:
        wall(developer, 1.0)
    reading = statistics.median(_seconds(lambda: read_frame(frame).mosaic.copy()) for _ in range(_ROUNDS))
    met = []
    for what, developer, scale, goal in (
        ("at 100 %", DEVELOPERS[0], 1.0, MOVE_GOAL), ("at 100 %, gradient", DEVELOPERS[1], 1.0, MOVE_GOAL),
        ("at the size of a use", DEVELOPERS[0], factor, USE_GOAL),
    ):  # fmt: skip
        seconds = statistics.median(
            _seconds(lambda developer=developer, scale=scale: wall(developer, scale))  # type: ignore[misc]
            for _ in range(_ROUNDS)
        )
        said = f"{_CELLS} cells of {width * height / 1e6:.0f} MP frames {what} ({1000 * seconds:.0f} ms), against reading one"
        met.append(line(report, said, seconds / reading, goal, "×"))
    met += _predicted(mosaic, raw.layout, reading, report)
    tracemalloc.start()
    wall(DEVELOPERS[0], factor)
    peak = tracemalloc.get_traced_memory()[1] / 1e6
    tracemalloc.stop()
    return [*met, line(report, "memory a wall adds, frames mapped", peak, MEMORY_GOAL_MB, "MB")]


def _predicted(
    mosaic: NDArray[np.uint16], layout: Layout, reading_s: float, report: Callable[[str], None]
) -> list[bool]:
    """Six stops under, as a predicted picture of ISO 6400 is: a crop of 512 × 512, and the whole frame shown small."""
    clean = SensorAt(
        100, dict.fromkeys(layout.channels, 3.0), dict.fromkeys(layout.channels, 512.0),
        dict.fromkeys(layout.channels, 512.0), 16383.0, 47_600.0, 5.0, 0.2,
    )  # fmt: skip
    target = replace(
        clean,
        iso=6400,
        gain_e_per_dn=dict.fromkeys(layout.channels, 3 / 64),
        saturation_e=47_600 / 64,
        read_noise_e=1.5,
    )
    sensor = Sensor([clean, target])
    asked, crop = asked_for(sensor, clean, sensor, 6400), np.ascontiguousarray(mosaic[:512, :512])

    def small() -> None:
        blocks = shown_small.blocks_of(np.ascontiguousarray(mosaic), layout, _SMALL_PX)
        means = shown_small.predicted_means(blocks, layout, asked, 1)
        shown_small.as_interpolated(means, layout, mosaic.shape[0] / _SMALL_PX[0])

    met = []
    for what, make, goal in (
        ("a crop of 512 × 512", lambda: predicted(crop, (0, 0), layout, asked, 1), PREDICTED_GOAL),
        ("a whole frame shown small", small, SMALL_GOAL),
    ):
        make()
        seconds = statistics.median(_seconds(make) for _ in range(_ROUNDS))
        said = f"{what} predicted ({1000 * seconds:.0f} ms), against reading one frame"
        met.append(line(report, said, seconds / reading_s, goal, "×"))
    return met


def _seconds(function: Callable[[], object]) -> float:
    begin = time.perf_counter()
    function()
    return time.perf_counter() - begin
