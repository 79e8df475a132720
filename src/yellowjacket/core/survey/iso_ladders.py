"""ISO limits of a body from a folder of frames without a plan: the same steps as a sitting. Pure functions of files."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from yellowjacket.core.exposure import dial
from yellowjacket.core.limits.iso_limits import Limit, RungFindings, measured_limits
from yellowjacket.core.limits.output_size import UseView
from yellowjacket.core.limits.tolerance import Profile
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand, Reading
from yellowjacket.core.patches.uniform import propose_patches
from yellowjacket.core.photon_transfer.accumulate import IsoTask
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.readings.ladder import relate_rungs, rung_signals
from yellowjacket.core.readings.output_size import UseSize
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungResult, RungTask, measure_rung

# The use that every body has: each pixel.
PER_PIXEL = "pixel level"
# Exposures whose product with ISO lies this near to each other were metered alike.
_ALIKE_STOPS = 1 / 4
_FEWEST_RUNGS = 2


@dataclass(frozen=True, slots=True)
class IsoLadderTask:
    """A ladder found in a folder: pairs metered alike, from low to high ISO, the reference among them; patches proposed on it."""

    rungs: tuple[RungTask, ...]
    isos: tuple[int, ...]
    light_stops: tuple[float, ...]
    reference: int
    patches: tuple[PatchSpec, ...]


def named_patches(first: str, second: str) -> tuple[PatchSpec, ...]:
    """Proposals on a pair of light frames, named as a sitting names them; none where no grey is found."""
    proposals = propose_patches(*(read_frame(Path(path)) for path in (first, second)))
    if not any(one.role == "grey" for one in proposals):
        return ()
    named, fields = [], 0
    for one in proposals:
        fields += one.role == "field"
        named.append(PatchSpec(f"field {fields}" if one.role == "field" else one.role, one.role, one.rect))
    return tuple(named)


def iso_ladder_task(tasks: Sequence[IsoTask], uses: Mapping[str, int], extended: Sequence[int]) -> IsoLadderTask | None:
    """The ladder of most ISO settings that were metered alike, two at least; None where there is none, or no grey in it.

    ``uses``: output pixels by name. ``extended``: ISO settings that are low extended: none of them is the reference.
    Raises FrameError for files that cannot be read.
    """
    pairs = [
        (math.log2(dial.exact_iso(task.iso) * dial.exact_exposure_s(group.exposure_s)), task, group.paths)
        for task in tasks for group in task.light if len(group.paths) > 1
    ]  # fmt: skip
    counted = Counter(round(stops / _ALIKE_STOPS) for stops, _, _ in pairs)
    if not counted:
        return None
    common, _ = counted.most_common(1)[0]
    chosen = {task.iso: (stops, task, paths) for stops, task, paths in pairs if round(stops / _ALIKE_STOPS) == common}
    isos = tuple(sorted(chosen))
    if len(isos) < _FEWEST_RUNGS:
        return None
    reference = next((iso for iso in isos if iso not in extended), isos[0])
    patches = named_patches(*chosen[reference][2][:2])
    if not patches:
        return None
    sizes = tuple(UseSize(name, pixels, UseView(pixels).looked_at) for name, pixels in uses.items())
    rungs = tuple(RungTask(iso, tuple(chosen[iso][2]), _darks(chosen[iso][1]), patches, sizes) for iso in isos)
    return IsoLadderTask(rungs, isos, tuple(chosen[iso][0] for iso in isos), reference, patches)


def _darks(task: IsoTask) -> tuple[str, ...]:
    """The darks of an ISO setting that tell its read noise: the shortest that were shot twice."""
    groups = sorted((group for group in task.dark if len(group.paths) > 1), key=lambda group: group.exposure_s)
    return tuple(groups[0].paths) if groups else ()


def measured_rung(task: RungTask) -> RungResult:
    """The readings of one setting: a piece of work for a process of its own."""
    return measure_rung(task)


@dataclass(frozen=True, slots=True)
class FoundIsoLimits:
    """Limits along ISO by use and level, and the files that failed."""

    limits: Mapping[str, Mapping[str, Limit]]
    problems: tuple[FrameError, ...] = ()


def iso_limits(
    task: IsoLadderTask, results: Sequence[RungResult], profile: Profile, uses: Sequence[str]
) -> FoundIsoLimits:
    """Limits per pixel and at every use, by a profile: what a record of the same frames proposes. Raises FrameError."""
    roles = {patch.name: patch.role for patch in task.patches}
    by_iso = {one.key: one for one in results}
    light = dict(zip(task.isos, task.light_stops, strict=True))
    first = next(rung.light[0] for rung in task.rungs if rung.key == task.reference)
    frame = read_frame(Path(first))
    readings = {iso: by_iso[iso].readings for iso in task.isos if iso in by_iso}
    related = relate_rungs(
        [rung_signals(iso, own, roles, light[iso], _tag(task, iso)) for iso, own in readings.items()],
        task.reference if task.reference in readings else min(readings), frame.xyz_to_camera,
    )  # fmt: skip
    found = {}
    for use in ("", *uses):
        rungs = [
            RungFindings(dial.exact_iso(iso), iso, _findings((*own, *related[iso]), roles, profile, use))
            for iso, own in sorted(readings.items())
        ]
        found[use or PER_PIXEL] = measured_limits(rungs, profile)
    return FoundIsoLimits(found, tuple(error for one in results for error in one.problems))


def _tag(task: IsoLadderTask, iso: int) -> Mapping[str, float]:
    """Black as the files of a setting name it."""
    return read_frame(Path(next(rung.light[0] for rung in task.rungs if rung.key == iso))).black_dn


def _findings(readings: Sequence[Reading], roles: Mapping[str, str], profile: Profile, use: str) -> dict[str, Quantity]:
    """What the profile looks at, at a use's size; what does not depend on size per pixel."""
    found: dict[str, Quantity] = {}
    keys = {one.quantity: one.key for one in profile.criteria}
    for size in ("", use) if use else ("",):
        told: dict[Measurand, Quantity] = {}
        for one in readings:
            place = (one.quantity.described.channel, one.quantity.described.role or "")
            if one.quantity in keys and one.use == size and (one.channel, roles.get(one.patch or "", "")) == place:
                told.setdefault(one.quantity, one.result)
        found |= {keys[quantity]: value for quantity, value in told.items()}
    return found
