"""Frames that exist already, sorted into ladders: by body, size, ISO, time and aperture, even or uneven.

Every frame ends in exactly one place: a rung of a ladder, or among the singles, or among those that do not say
their settings. What was guessed is told in sentences, so that a person can change it.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from yellowjacket.core.exposure import dial, notation
from yellowjacket.core.planning.ladder import Exposure

# A run of fewer rungs is no ladder.
_FEWEST_RUNGS = 3
# Exposures off the dial that differ by less are meant to be equal: a hand on a release is no better.
_SAME_BULB_SHARE = 0.02
# Darks of these times and longer are shot for thermal signal.
_LONG_S = 1.0


@dataclass(frozen=True, slots=True)
class FoundFrame:
    """What sorting needs of a frame; ``index`` is its place in the caller's list."""

    index: int
    make: str
    model: str
    serial: str
    width: int
    height: int
    iso: int | None
    exposure_s: float | None
    f_number: float | None
    dark: bool
    captured_at: datetime | None


@dataclass(frozen=True, slots=True)
class AdoptedRung:
    """One set of settings with the frames that have it, in the order of the clock."""

    iso: int
    exposure_s: float
    light: tuple[int, ...]
    darks: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class AdoptedLadder:
    """A ladder read backwards from its frames. ``kind``: iso, exposure or time; ``metered`` its reference rung."""

    kind: str
    method: str
    make: str
    model: str
    serial: str
    size: tuple[int, int]
    f_number: float
    metered: Exposure
    rungs: tuple[AdoptedRung, ...]


@dataclass(frozen=True, slots=True)
class Adoption:
    """The whole sorting: ladders, indices of singles and of frames without settings, and what was guessed."""

    ladders: tuple[AdoptedLadder, ...]
    singles: tuple[int, ...]
    unsaid: tuple[int, ...]
    guesses: tuple[str, ...]


_Settings = tuple[int, float]


def adopt(frames: Sequence[FoundFrame]) -> Adoption:
    """Sort frames into ladders. Nothing is lost: each index comes back exactly once."""
    unsaid = tuple(f.index for f in frames if f.iso is None or f.exposure_s is None)
    groups: dict[tuple[str, str, str, int, int], list[FoundFrame]] = defaultdict(list)
    for frame in frames:
        if frame.iso is not None and frame.exposure_s is not None:
            groups[frame.make, frame.model, frame.serial, frame.width, frame.height].append(frame)
    ladders: list[AdoptedLadder] = []
    singles: list[int] = []
    guesses: list[str] = []
    for group in groups.values():
        found, alone, said = _group(group)
        ladders += found
        singles += alone
        guesses += said
    return Adoption(tuple(ladders), tuple(sorted(singles)), unsaid, tuple(guesses))


def as_ladder(kind: str, frames: Sequence[FoundFrame]) -> AdoptedLadder:
    """These frames as one ladder of a kind, at a person's word: "iso", "exposure" or "time".

    Raises ValueError, with a sentence, where they cannot be one.
    """
    silent = [f for f in frames if f.iso is None or f.exposure_s is None]
    if silent:
        raise ValueError("Some of these frames do not say their ISO or time: correct that first.")
    if len({(f.make, f.model, f.serial, f.width, f.height) for f in frames}) != 1:
        raise ValueError("A ladder belongs to one body in one raw mode: choose frames of one.")
    capped = all(f.dark for f in frames)
    exposures = _exposures(frames)
    light = _by_settings((f for f in frames if not f.dark), exposures)
    darks = _by_settings((f for f in frames if f.dark), exposures)
    keys = sorted({*light, *darks})
    isos = {iso for iso, _ in keys}
    if kind == "iso" and len(keys) != len(isos):
        raise ValueError("An ISO ladder has one time at each ISO: leave the others out, or choose exposure.")
    if kind != "iso" and len(isos) != 1:
        raise ValueError(
            f"An {kind} ladder stands at one ISO." if kind == "exposure" else "A time ladder stands at one ISO."
        )
    rungs = tuple(AdoptedRung(*key, _indices(light.get(key, ())), _indices(darks.get(key, ()))) for key in keys)
    if kind != "time" and capped:
        raise ValueError("These are all darks: only a time ladder can be made of them.")
    method = "capped" if capped else "scene" if kind == "time" else "shutter"
    return _ladder(kind, method, frames, rungs)


def _exposures(frames: Iterable[FoundFrame]) -> dict[float, float]:
    """For each exposure time that files say the time of its rung (s): the mark of the dial, or what a clock by hand made
    of one intended time, which is never the same twice."""
    found: dict[float, float] = {}
    first_s = -math.inf
    for seconds in sorted({f.exposure_s for f in frames if f.exposure_s is not None}):
        mark = dial.mark_from_nominal(dial.SHUTTER_MARKS, seconds)
        if mark is None and seconds > first_s * (1 + _SAME_BULB_SHARE):
            first_s = seconds
        found[seconds] = mark.nominal if mark else first_s
    return found


def _by_settings(frames: Iterable[FoundFrame], exposures: Mapping[float, float]) -> dict[_Settings, list[FoundFrame]]:
    """Frames by ISO and exposure time of the rung, each in the order of the clock."""
    found: dict[_Settings, list[FoundFrame]] = defaultdict(list)
    for frame in sorted(
        frames, key=lambda f: (f.captured_at is None, f.captured_at and f.captured_at.isoformat(), f.index)
    ):
        assert frame.iso is not None  # noqa: S101 - frames without settings were set aside
        assert frame.exposure_s is not None  # noqa: S101
        found[frame.iso, exposures[frame.exposure_s]].append(frame)
    return found


def _group(frames: Sequence[FoundFrame]) -> tuple[list[AdoptedLadder], list[int], list[str]]:
    """One body in one raw mode."""
    exposures = _exposures(frames)
    light = _by_settings((f for f in frames if not f.dark), exposures)
    darks = _by_settings((f for f in frames if f.dark), exposures)
    runs, guesses = _runs_of(light)
    ladders = []
    for kind, keys in runs:
        rungs = tuple(
            AdoptedRung(iso, seconds, _indices(light[iso, seconds]), _indices(darks.pop((iso, seconds), [])))
            for iso, seconds in keys
        )
        ladders.append(_ladder(kind, "shutter", frames, rungs))
    used = {key for _, keys in runs for key in keys}
    alone = [f.index for key, members in light.items() if key not in used for f in members]
    for iso in sorted({iso for iso, _ in darks}):
        times = sorted(seconds for dark_iso, seconds in darks if dark_iso == iso)
        if len(times) == 1 and len(darks[iso, times[0]]) == 1:
            # One dark alone says nothing of a course.
            alone += _indices(darks[iso, times[0]])
            continue
        rungs = tuple(AdoptedRung(iso, seconds, (), _indices(darks[iso, seconds])) for seconds in times)
        ladders.append(_ladder("time", "capped", frames, rungs))
        if times[-1] < _LONG_S:
            guesses.append(f"Darks at ISO {iso} belong to no light rung: they stand as a ladder of their own.")
    return ladders, alone, guesses


def _indices(frames: Iterable[FoundFrame]) -> tuple[int, ...]:
    return tuple(frame.index for frame in frames)


def _runs_of(light: Mapping[_Settings, Sequence[FoundFrame]]) -> tuple[list[tuple[str, list[_Settings]]], list[str]]:
    """Runs of settings that make ladders, and what was guessed; each setting is in one run at most."""
    times: dict[int, list[float]] = defaultdict(list)
    for iso, seconds in light:
        times[iso].append(seconds)
    guesses: list[str] = []
    runs: list[tuple[str, list[_Settings]]] = []
    # Several times at one ISO: an exposure ladder there; one time an ISO: the line of an ISO ladder.
    crossed = [iso for iso in sorted(times) if len(times[iso]) >= _FEWEST_RUNGS]
    line = [iso for iso in sorted(times) if iso not in crossed]
    for iso in crossed:
        runs.append(("exposure", [(iso, seconds) for seconds in sorted(times[iso])]))
        if line:
            guesses.append(f"ISO {iso} was shot at {len(times[iso])} exposure times: taken as an exposure ladder.")
    if len(crossed) > 1:
        guesses.append(f"Exposure ladders at {len(crossed)} ISO settings: they cross, rung by rung.")
    if len(line) >= _FEWEST_RUNGS or (line and any(len(light[iso, times[iso][0]]) > 1 for iso in line)):
        levels = [math.log2(iso * seconds) for iso in line for seconds in times[iso]]
        middle = sorted(levels)[len(levels) // 2]
        keys = []
        for iso in line:
            best = min(times[iso], key=lambda seconds: (abs(math.log2(iso * seconds) - middle), seconds))
            keys.append((iso, best))
            if len(times[iso]) > 1:
                guesses.append(
                    f"ISO {iso} was shot at {len(times[iso])} times: {notation.shutter_label(best)} fits the ladder, the "
                    "others are singles."
                )
        runs.append(("iso", keys))
    return runs, guesses


def _ladder(kind: str, method: str, frames: Sequence[FoundFrame], rungs: tuple[AdoptedRung, ...]) -> AdoptedLadder:
    first = frames[0]
    apertures = sorted(f.f_number for f in frames if f.f_number)
    f_number = apertures[len(apertures) // 2] if apertures else 8.0
    middle = rungs[len(rungs) // 2] if kind == "exposure" else rungs[0]
    if kind == "iso":
        middle = next((rung for rung in rungs if rung.iso >= 100), rungs[0])
    metered = Exposure(middle.iso, middle.exposure_s, f_number)
    size = (first.width, first.height)
    return AdoptedLadder(kind, method, first.make, first.model, first.serial, size, f_number, metered, rungs)
