"""Exposure ladders and ISO ladders held fixed, as found in a folder without a plan. Pure functions of files."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from yellowjacket.core.latitude.exposure_ladder import MeasuredExposure, relate_exposures, signals_of
from yellowjacket.core.latitude.iso_invariance import (
    Invariance,
    Penalty,
    ShadowNoise,
    invariant_from,
    iso_noise,
    penalties,
)
from yellowjacket.core.latitude.push_pull import ExposedRung, StopLimit, pull_limits, push_limits
from yellowjacket.core.limits.tolerance import LEVELS, Profile
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.measurands import Measurand, Reading
from yellowjacket.core.metrology.notes import Missing, Note
from yellowjacket.core.noise.of_area import area_noise
from yellowjacket.core.patches.uniform import uniform_patches
from yellowjacket.core.photon_transfer.accumulate import Exposures, IsoTask, pairs_of
from yellowjacket.core.raw.clipping import clipped_share
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.rung import RungTask, measure_rung
from yellowjacket.core.survey.iso_ladders import named_patches

# Fewer exposure times than this are no ladder.
FEWEST_EXPOSURES = 3
# A frame is taken for the correct one when less than this share of its uniform areas' pixels clip.
_WHOLE = 1e-3
_PATCHES = 60


@dataclass(frozen=True, slots=True)
class FoundExposures:
    """What an exposure ladder of a folder gave. ``steps``: by file, nominal and measured stops."""

    iso: int
    steps: tuple[tuple[str, float, Quantity], ...]
    black_error_dn: Mapping[str, Quantity]
    push: Mapping[str, StopLimit]
    pull: Mapping[str, StopLimit]
    problems: tuple[FrameError, ...] = ()


def exposure_tasks(tasks: Sequence[IsoTask]) -> list[IsoTask]:
    """ISO settings whose light frames make an exposure ladder: pairs at three exposure times and more."""
    return [
        task
        for task in tasks
        if len({group.exposure_s for group in task.light if len(group.paths) > 1}) >= FEWEST_EXPOSURES
    ]


def exposure_ladder(task: IsoTask, profile: Profile | None = None) -> FoundExposures | None:
    """True steps, black error and limits of an exposure ladder; None where no frame of it shows a grey.

    The correct frame is the brightest whose uniform areas are whole. Limits are per pixel, by a profile or the default one.
    Raises FrameError for files that cannot be read.
    """
    groups = sorted((group for group in task.light if len(group.paths) > 1), key=lambda group: group.exposure_s)
    reference = _correct(groups)
    pair = [read_frame(Path(name)) for name in groups[reference].paths[:2]]
    patches = named_patches(*groups[reference].paths[:2])
    if not patches:
        return None
    darks = next((group.paths for group in task.dark if len(group.paths) > 1), ())
    results = [measure_rung(RungTask(n, group.paths[:2], tuple(darks[:2]), patches)) for n, group in enumerate(groups)]
    nominal = [math.log2(group.exposure_s / groups[reference].exposure_s) for group in groups]
    tag = dict(pair[0].black_dn)
    measured = [MeasuredExposure(n, nominal[n], results[n].readings, tag) for n in range(len(groups))]
    signals = signals_of(measured, pair[0].white_dn)
    related = relate_exposures(signals, reference, {patch.name: patch.role for patch in patches}, pair[0].xyz_to_camera)
    steps = [_of(related[n], Measurand.STEP_STOPS) or missing(Missing.NOT_MEASURED) for n in range(len(groups))]
    rungs = [
        ExposedRung(steps[n], f"{nominal[n]:+.1f}", _findings(results[n].readings, related[n]))
        for n in range(len(groups))
    ]
    highlight = next(
        (one for one in related[reference] if one.quantity == Measurand.CLIPS_AT_STOPS and one.patch == "highlight"),
        None,
    )
    profile = profile or Profile("default")
    seen = tuple(one for one in profile.criteria if one.key not in ("colour_separation", "detail"))
    profile = replace(profile, criteria=seen)
    return FoundExposures(
        task.iso,
        tuple((name, nominal[n], steps[n]) for n, group in enumerate(groups) for name in group.paths),
        {one.channel: one.result for one in related[reference] if one.quantity == Measurand.BLACK_ERROR_DN},
        push_limits(rungs, profile),
        pull_limits(
            highlight.result if highlight else missing(Missing.NO_LIGHT_AREA), highlight.channel if highlight else "",
            rungs, profile,
        ),
        tuple(error for result in results for error in result.problems),
    )  # fmt: skip


def _correct(groups: Sequence[Exposures]) -> int:
    """Place of the brightest exposure whose uniform areas are whole; areas are those of the middle of the ladder."""
    middle = groups[len(groups) // 2]
    first, second = (read_frame(Path(name)) for name in middle.paths[:2])
    rects = uniform_patches(first, second, _PATCHES)
    for n in range(len(groups) - 1, -1, -1):
        frame = read_frame(Path(groups[n].paths[0]))
        shares = [
            clipped_share(part, frame.black_dn[channel], frame.white_dn)
            for rect in rects
            for channel in frame.channels
            for part in rect.parts(frame, channel)
        ]
        # A full well below the top code piles up too: the noise of its areas is gone.
        if max(shares, default=0.0) < _WHOLE and not _full(groups[n], rects):
            return n
    return 0


def _full(group: Exposures, rects: Sequence[Rect]) -> bool:
    """Whether the brightest area of an exposure has less noise than a dimmer one: its wells are full."""
    first, second = (read_frame(Path(name)) for name in group.paths[:2])
    found = []
    for rect in rects:
        green = first.layout.greens[0]
        noise = area_noise((first, second), rect, green, first.black_dn[green])
        if noise.noise.value is not None and noise.signal.value is not None:
            found.append((noise.signal.value, noise.noise.value))
    if len(found) < 2:
        return False
    found.sort()
    brightest, loudest = found[-1][1], max(noise for _, noise in found)
    return brightest < 0.5 * loudest


def _of(readings: Sequence[Reading], quantity: str) -> Quantity | None:
    return next((one.result for one in readings if one.quantity == quantity), None)


def _findings(measured: Sequence[Reading], related: Sequence[Reading]) -> dict[str, Quantity]:
    """Quantities by criterion, as far as a folder tells them; patches are named by their role."""
    looked_at = {"grey_snr": Measurand.SNR, "shadow_snr": Measurand.SHADOW_SNR, "chroma_noise": Measurand.NOISE_CHROMA,
                 "neutral_drift": Measurand.CAST_DE00, "banding": Measurand.ROW_NOISE_SHARE}  # fmt: skip
    speaks = {
        one.quantity: one.result
        for one in (*measured, *related)
        if not one.use
        and (one.channel, one.patch or "") == (one.quantity.described.channel, one.quantity.described.role)
    }
    return {criterion: speaks[quantity] for criterion, quantity in looked_at.items() if quantity in speaks}


@dataclass(frozen=True, slots=True)
class FixedLight:
    """Pairs that hold the same light at several ISOs: ISO and paths, from low to high."""

    pairs: tuple[tuple[int, tuple[str, str]], ...]


def fixed_light(tasks: Sequence[IsoTask]) -> FixedLight | None:
    """The exposure time and aperture that most ISOs share, where at least two do."""
    shared: dict[float, list[tuple[int, tuple[str, str]]]] = {}
    for task in tasks:
        for group in task.light:
            if len(group.paths) > 1:
                shared.setdefault(group.exposure_s, []).append((task.iso, (group.paths[0], group.paths[1])))
    best = max(shared.values(), key=len, default=[])
    return FixedLight(tuple(sorted(best))) if len({iso for iso, _ in best}) > 1 else None


def fixed_noise(light: FixedLight) -> dict[int, dict[tuple[str, str], ShadowNoise]]:
    """Signal and noise of uniform areas by ISO; the areas are those of the highest ISO. Raises FrameError."""
    read = {iso: [read_frame(Path(name)) for name in paths] for iso, paths in light.pairs}
    top = read[max(read)]
    rects = uniform_patches(*pairs_of(top)[0], _PATCHES)
    found: dict[int, dict[tuple[str, str], ShadowNoise]] = {}
    for iso, (first, second) in read.items():
        found[iso] = {}
        for n, rect in enumerate(rects):
            for channel in first.channels:
                noise = area_noise((first, second), rect, channel, first.black_dn[channel])
                found[iso][f"area {n}", channel] = ShadowNoise(noise.signal, noise.noise)
    return found


def iso_against_push(
    models: Mapping[int, Mapping[Measurand, Quantity]],
    patches: Mapping[int, Mapping[tuple[str, str], ShadowNoise]],
) -> tuple[tuple[Penalty, ...], Invariance]:
    """Penalties and invariance of a body. ``models``: what was read of each ISO as a whole."""
    rungs = iso_noise(models, patches)
    found = penalties(rungs)
    return found, invariant_from(rungs, found)


def no_ladder() -> dict[str, StopLimit]:
    """Limits where there is no exposure ladder."""
    return {level: StopLimit(level, None, why=Note(Missing.NO_EXPOSURE_LADDER)) for level in LEVELS}
