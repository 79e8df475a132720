"""Long darks as found in a folder: dark current by temperature, doubling, glow, hot pixels, longest usable exposure."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.darks.dark_current import FEWEST_TIMES, DarkCurrent, dark_current, doubling_c
from yellowjacket.core.darks.defects_in_light import no_response
from yellowjacket.core.darks.exposure_group import DarkGroup, TimeFindings, TimeTask
from yellowjacket.core.darks.faults import Fault, faults_of
from yellowjacket.core.darks.hot_pixels import (
    DEAD,
    HOT,
    STUCK,
    WARM,
    HotPixel,
    coming_back,
    rates_dn_per_s,
    standing_at,
)
from yellowjacket.core.darks.temperature import USUAL_DOUBLING_C, dark_law, warmed_s
from yellowjacket.core.darks.usable_exposure import ANSWERS, Longest, Shadow, courses, lifted_signal_e, longest
from yellowjacket.core.exposure.dial import exact_exposure_s
from yellowjacket.core.limits.tolerance import LONG_CRITERIA
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.intervals import density
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
class HotCount:
    """Hot and stuck pixels per megapixel at a time and temperature."""

    exposure_s: float
    temperature_c: float | None
    per_mpix: Quantity


@dataclass(frozen=True, slots=True)
class FoundDarks:
    """What the darks of one ISO gave. ``pixels``: of the longest time, with what they gather in e⁻/s (None: no gain);
    ``longest`` by answer, at the first temperature, per pixel, by the default profile."""

    iso: int
    currents: tuple[DarkCurrent, ...]
    doubling: Quantity
    counts: tuple[HotCount, ...]
    pixels: tuple[tuple[HotPixel, float | None], ...]
    longest: Mapping[str, Longest]
    faults: tuple[Fault, ...] = ()


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


def conclude(task: DarkTask, measured: Sequence[TimeFindings]) -> FoundDarks:
    """Everything that follows from the measured groups of a task. Raises FrameError for light frames that are gone."""
    measured = _timed(measured)
    ordered = sorted(measured, key=lambda one: (one.group.exposure_s, one.group.temperature_c or 0.0))
    told = [one for one in ordered if one.pixels is not None]
    for one, table in zip(told, coming_back([one.pixels for one in told if one.pixels is not None]), strict=True):
        ordered[ordered.index(one)] = replace(one, pixels=table)
    currents, doubling = _currents(task, ordered)
    counts = tuple(
        HotCount(one.group.exposure_s, one.group.temperature_c, density(standing_at(one.pixels), one.pixels.megapixels))
        for one in ordered
        if one.pixels is not None
    )
    listed = _listed(task, ordered, currents[0].gain.value)
    usable = _longest(task, ordered, currents, doubling)
    return FoundDarks(task.iso, currents, doubling, counts, listed, usable, tuple(_faults(ordered)))


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


def _faults(ordered: Sequence[TimeFindings]) -> Iterator[Fault]:
    """Darks of one temperature are held against each other."""
    for celsius in dict.fromkeys(one.group.temperature_c for one in ordered):
        own = [one for one in ordered if one.group.temperature_c == celsius]
        yield from faults_of([(one.group, one.tiles, one.range_dn) for one in own])


def _currents(task: DarkTask, ordered: Sequence[TimeFindings]) -> tuple[tuple[DarkCurrent, ...], Quantity]:
    """By temperature where every temperature has times enough; else all together, by the law of warmth."""
    by_temperature: dict[float | None, list[TimeFindings]] = defaultdict(list)
    for one in ordered:
        by_temperature[one.group.temperature_c].append(one)
    if all(len({one.group.exposure_s for one in own}) >= FEWEST_TIMES for own in by_temperature.values()):
        currents = tuple(
            dark_current([one.tiles for one in own], task.gain, celsius)
            for celsius, own in sorted(by_temperature.items(), key=lambda item: item[0] or 0.0)
        )
        return currents, doubling_c(currents)
    current, doubling = dark_law(
        [one.tiles for one in ordered], [one.group.temperature_c for one in ordered], task.gain
    )
    return (current,), doubling


def _listed(
    task: DarkTask, ordered: Sequence[TimeFindings], gain: float | None
) -> tuple[tuple[HotPixel, float | None], ...]:
    """Defects of the longest time (at several temperatures the first), and those that answer no light."""
    told = [one for one in ordered if one.pixels is not None]
    if not told:
        return ()
    longest_s = max(one.group.exposure_s for one in told)
    chosen = next(one for one in told if one.group.exposure_s == longest_s)
    table = chosen.pixels
    assert table is not None  # noqa: S101 - told holds no others
    alike = [
        (one.group.exposure_s, one.pixels)
        for one in told
        if one.pixels is not None and one.group.temperature_c == chosen.group.temperature_c
    ]
    rates = rates_dn_per_s(table, alike)
    found: list[tuple[HotPixel, float | None]] = [
        (one, None if gain is None or rate is None else rate * gain)
        for one, rate in zip(table.pixels(), rates, strict=True)
        if one.kind in LISTED
    ]
    known = {(one.x, one.y) for one, _ in found}
    light = [read_frame(Path(path)) for path in task.light]
    if light and all(frame.size == table.size for frame in light):
        found += [(one, None) for one in no_response(light) if (one.x, one.y) not in known]
    return tuple(found)


def _longest(
    task: DarkTask, ordered: Sequence[TimeFindings], currents: Sequence[DarkCurrent], doubling: Quantity
) -> dict[str, Longest]:
    first = currents[0]
    own = [one for one in ordered if one.group.temperature_c == first.temperature_c]
    degrees = doubling.value or USUAL_DOUBLING_C
    if len(own) < len(ordered) and len(currents) == 1 and first.temperature_c is not None:
        reference = first.temperature_c
        timed = [
            (warmed_s(one.group.exposure_s, one.group.temperature_c or reference, reference, degrees), one)
            for one in ordered
        ]
    else:
        timed = [(one.group.exposure_s, one) for one in own]
    shadow = None
    if task.saturation_e.value and task.read_noise_e.value and first.current.value is not None:
        shadow = Shadow(lifted_signal_e(task.saturation_e.value), task.read_noise_e.value, first.current)
    found = courses(timed, [], first.gain.value, 1.0)
    return {answer: longest(answer, found[answer], shadow, LONG_CRITERIA, _LEVEL) for answer in ANSWERS}
