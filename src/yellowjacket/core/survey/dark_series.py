"""Long darks as found in a folder: dark current by temperature, doubling, glow, hot pixels, longest usable exposure."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.darks.dark_current import FEWEST_TIMES, DarkCurrent, dark_current
from yellowjacket.core.darks.exposure_group import DarkGroup, TimeFindings, TimeTask
from yellowjacket.core.darks.hot_pixels import DEAD, HOT, STUCK, WARM, HotPixel
from yellowjacket.core.darks.series import DarkLadder, Known
from yellowjacket.core.darks.usable_exposure import Longest
from yellowjacket.core.exposure.dial import exact_exposure_s
from yellowjacket.core.limits.tolerance import LONG_CRITERIA, Criterion
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.photon_transfer.accumulate import Exposures, IsoTask
from yellowjacket.core.raw.reader import read_frame

# What a list of defects holds; what comes and goes is no defect to map.
LISTED = (HOT, WARM, STUCK, DEAD)
_LEVEL = "usable"
# Light frames that must agree on a dead pixel.
_LIGHT_FRAMES = 2
# Two unknowns of a line leave this many times to tell marks from true times.
_FEWEST_TO_TIME = 4


@dataclass(frozen=True, slots=True)
class DarkTask:
    """All long darks of a body at one ISO, its gain and noise where light frames told them, and some light frames."""

    iso: int
    groups: tuple[DarkGroup, ...]
    gain: Quantity
    read_noise_e: Quantity
    saturation_e: Quantity
    light: tuple[str, ...] = ()

    def times(self) -> list[TimeTask]:
        """The work, one piece a group."""
        first = self.groups[0].paths[0]
        return [TimeTask(group, self.gain.value, first, n) for n, group in enumerate(self.groups)]


@dataclass(frozen=True, slots=True)
class FoundDarks:
    """What the darks of one ISO gave: the ladder as a sitting has it, dark current by temperature where each has times
    enough, and the pixels of the longest time with what they gather in e⁻/s (None: no gain)."""

    iso: int
    whole: DarkLadder
    by_temperature: tuple[DarkCurrent, ...]
    pixels: tuple[tuple[HotPixel, float | None], ...]
    criteria: tuple[Criterion, ...] = LONG_CRITERIA

    @property
    def longest(self) -> Mapping[str, Longest]:
        """The longest usable exposure by answer, at the reference temperature, per pixel."""
        return self.whole.longest(self.criteria, _LEVEL)


def dark_task(
    tasks: Sequence[IsoTask], models: Mapping[int, Mapping[Measurand, Quantity]], temperatures: Mapping[str, float]
) -> DarkTask | None:
    """The ISO with the most dark exposure times, three at least, or None. ``models``: gain_e_per_dn, read_noise_e and
    saturation_e by ISO; ``temperatures``: °C by file name."""
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
            nothing = missing(Missing.NO_LIGHT_FRAMES_AT_ISO)
            model = models.get(task.iso, {})
            gain, noise, full = (
                model.get(name, nothing)
                for name in (Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_E, Measurand.SATURATION_E)
            )
            best = DarkTask(task.iso, found, gain, noise, full, _some(task.light))
    return best


def _some(light: Sequence[Exposures]) -> tuple[str, ...]:
    """The first repeats of one setting, for dead pixels."""
    return next((group.paths[:_LIGHT_FRAMES] for group in light if len(group.paths) >= _LIGHT_FRAMES), ())


def conclude(
    task: DarkTask, measured: Sequence[TimeFindings], criteria: Sequence[Criterion] = LONG_CRITERIA
) -> FoundDarks:
    """Everything that follows from the measured groups of a task. ``criteria``: of long exposures. Raises FrameError for light
    frames that are gone."""
    whole = DarkLadder(_timed(measured), Known(task.gain, task.read_noise_e, task.saturation_e))
    return FoundDarks(task.iso, whole, _by_temperature(task, whole), _listed(task, whole), tuple(criteria))


def _timed(measured: Sequence[TimeFindings]) -> Sequence[TimeFindings]:
    """The same with the exposure times that the levels tell of: as the files say, or the powers of two that their marks
    stand for (16 s for 15 s), whichever lies nearer to a line. As the files say where that cannot be told."""
    exact = [exact_exposure_s(one.group.exposure_s) for one in measured]
    said = [one.group.exposure_s for one in measured]
    if exact == said or len({one.group.temperature_c for one in measured}) > 1 or len(set(said)) < _FEWEST_TO_TIME:
        return measured
    levels = np.array([np.mean(list(one.tiles.medians.values())) for one in measured])
    if _off_line(np.array(exact), levels) >= _off_line(np.array(said), levels):
        return measured
    return [
        replace(one, group=replace(one.group, exposure_s=seconds), tiles=replace(one.tiles, exposure_s=seconds))
        for one, seconds in zip(measured, exact, strict=True)
    ]


def _off_line(seconds: NDArray[np.float64], levels: NDArray[np.float64]) -> float:
    """Sum of squares about a straight line."""
    return float(np.sum((levels - np.polyval(np.polyfit(seconds, levels, 1), seconds)) ** 2))


def _by_temperature(task: DarkTask, whole: DarkLadder) -> tuple[DarkCurrent, ...]:
    """Dark current at every temperature, where all have times enough; else the one that serves for all."""
    groups: dict[float | None, list[TimeFindings]] = defaultdict(list)
    for one in whole.off:
        groups[one.group.temperature_c].append(one)
    if len(groups) < 2 or any(len({one.group.exposure_s for one in own}) < FEWEST_TIMES for own in groups.values()):
        return (whole.current,)
    return tuple(
        dark_current([one.tiles for one in own], task.gain, celsius)
        for celsius, own in sorted(groups.items(), key=lambda item: item[0] or 0.0)
    )


def _listed(task: DarkTask, whole: DarkLadder) -> tuple[tuple[HotPixel, float | None], ...]:
    """Defects of the longest time (at several temperatures the first), and those that answer no light."""
    from yellowjacket.core.darks.defects_in_light import no_response

    told = [one for one in whole.off if one.pixels is not None]
    if not told:
        return ()
    longest_s = max(one.group.exposure_s for one in told)
    chosen = next(one for one in told if one.group.exposure_s == longest_s)
    table = chosen.pixels
    assert table is not None  # noqa: S101 - told holds no others
    found: list[tuple[HotPixel, float | None]] = [
        (one, rate) for one, rate in zip(table.pixels(), whole.rates_e_per_s(chosen), strict=True) if one.kind in LISTED
    ]
    known = {(one.x, one.y) for one, _ in found}
    light = [read_frame(Path(path)) for path in task.light]
    if light and all(frame.size == table.size for frame in light):
        found += [(one, None) for one in no_response(light) if (one.x, one.y) not in known]
    return tuple(found)
