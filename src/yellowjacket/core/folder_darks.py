"""Long darks as found in a folder: dark current by temperature, doubling, glow, hot pixels. Pure functions of files."""

from __future__ import annotations

import csv
import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from yellowjacket.core.dark_current import FEWEST_TIMES, DarkCurrent, DarkTiles, dark_current, dark_tiles, doubling_c
from yellowjacket.core.frames import RawFrame, read_frame
from yellowjacket.core.gathering import IsoTask
from yellowjacket.core.hot_pixels import HotPixel, hot_pixels, per_megapixel
from yellowjacket.core.quantity import Quantity

# Frames of one time that are read; more add little.
_MOST_FRAMES = 4


@dataclass(frozen=True, slots=True)
class DarkGroup:
    """Darks of one exposure time at one temperature (None: not known)."""

    exposure_s: float
    temperature_c: float | None
    paths: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class DarkTask:
    """All long darks of a body at one ISO, and its gain where light frames told it."""

    iso: int
    groups: tuple[DarkGroup, ...]
    gain: Quantity


@dataclass(frozen=True, slots=True)
class HotCount:
    """Hot and stuck pixels per megapixel at a time and temperature."""

    exposure_s: float
    temperature_c: float | None
    per_mpix: Quantity


@dataclass(frozen=True, slots=True)
class FoundDarks:
    """What the darks of one ISO gave. ``pixels``: of the longest time, with what they gather in e⁻/s (None: no gain)."""

    iso: int
    currents: tuple[DarkCurrent, ...]
    doubling: Quantity
    counts: tuple[HotCount, ...]
    pixels: tuple[tuple[HotPixel, float | None], ...]


def dark_task(
    tasks: Sequence[IsoTask], gains: Mapping[int, Quantity], temperatures: Mapping[str, float]
) -> DarkTask | None:
    """The ISO with the most dark exposure times, three at least, or None. ``temperatures``: °C by file name."""
    best: DarkTask | None = None
    most = FEWEST_TIMES - 1
    for task in tasks:
        groups: dict[tuple[float, float | None], list[str]] = defaultdict(list)
        for group in task.dark:
            for name in group.paths:
                groups[group.exposure_s, temperatures.get(Path(name).name)].append(name)
        times = len({seconds for seconds, _ in groups})
        if times > most:
            most = times
            found = tuple(
                DarkGroup(seconds, celsius, tuple(paths))
                for (seconds, celsius), paths in sorted(
                    groups.items(), key=lambda item: (item[0][0], item[0][1] or 0.0)
                )
            )
            best = DarkTask(task.iso, found, gains.get(task.iso, Quantity(None, reason="no light frames at this ISO")))
    return best


def dark_ladder(task: DarkTask) -> FoundDarks:
    """Measure the darks of one ISO. Raises FrameError for files that cannot be read."""
    tiles: dict[float | None, list[DarkTiles]] = defaultdict(list)
    shortest: RawFrame | None = None
    counts: list[HotCount] = []
    pixels: tuple[HotPixel, ...] = ()
    longest = 0.0
    gain = task.gain.value
    for group in task.groups:
        frames = [read_frame(Path(name)) for name in group.paths[:_MOST_FRAMES]]
        shortest = shortest or frames[0]
        tiles[group.temperature_c].append(dark_tiles(group.exposure_s, frames))
        if len(frames) < 2:
            continue
        found = hot_pixels(frames, gain, shortest)
        counts.append(HotCount(group.exposure_s, group.temperature_c, _counted(found, frames[0])))
        # Of the longest time; at several temperatures the first.
        if group.exposure_s > longest:
            longest, pixels = group.exposure_s, found
    currents = tuple(
        dark_current(found, task.gain, celsius)
        for celsius, found in sorted(tiles.items(), key=lambda item: item[0] or 0.0)
    )
    rates = tuple((one, None if gain is None else one.excess_dn * gain / longest) for one in pixels)
    return FoundDarks(task.iso, currents, doubling_c(currents), tuple(counts), rates)


def _counted(found: Sequence[HotPixel], frame: RawFrame) -> Quantity:
    """Per megapixel, with the interval of a count (normal beyond a few, 3 where none was seen)."""
    rate = per_megapixel(found, frame)
    megapixels = frame.size[0] * frame.size[1] / 1e6
    count = rate * megapixels
    half = 1.96 * math.sqrt(count)
    high = 3.0 if count == 0 else count + half
    return Quantity(rate, max(0.0, count - half) / megapixels, high / megapixels, round(count))


def read_temperatures(path: Path) -> dict[str, float]:
    """°C by file name from a CSV with the columns file and temperature_c. Raises ValueError, naming the line."""
    found: dict[str, float] = {}
    with path.open(newline="", encoding="utf-8-sig") as file:
        rows = csv.DictReader(file)
        if not {"file", "temperature_c"} <= set(rows.fieldnames or ()):
            raise ValueError(f"{path.name} needs the columns file and temperature_c")
        for number, row in enumerate(rows, start=2):
            try:
                celsius = float(str(row["temperature_c"]).replace(",", "."))
            except ValueError as error:
                raise ValueError(
                    f"{path.name}, line {number}: {row['temperature_c']!r} is no temperature in °C"
                ) from error
            if not -60 <= celsius <= 100:
                raise ValueError(f"{path.name}, line {number}: {celsius:g} °C is no temperature of a camera")
            found[Path(row["file"]).name] = celsius
    return found
