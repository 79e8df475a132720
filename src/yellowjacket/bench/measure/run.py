"""Measuring a sitting: patches proposed where there are none, every rung whose inputs changed, relations."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np
from django.db import transaction
from django.db.models import Q, QuerySet
from numpy.typing import NDArray

from yellowjacket.bench.intake.originals import unusable
from yellowjacket.bench.intake.problems import misfit_from, note_problem
from yellowjacket.bench.jobs import progress as progress_
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.jobs.executor import run_all
from yellowjacket.bench.jobs.registry import handles
from yellowjacket.bench.measure.patches import propose
from yellowjacket.bench.models import Frame, Job, Ladder, Patch, Problem, Reading, Rung, Shot, Sitting
from yellowjacket.bench.models.queries.frames import Files, one_each
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.latitude.exposure_ladder import (
    EXPOSED,
    ExposureSignals,
    MeasuredExposure,
    relate_exposures,
    signals_of,
)
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import DARK_MEASURANDS, Measurand
from yellowjacket.core.metrology.measurands import Reading as CoreReading
from yellowjacket.core.metrology.notes import Remark
from yellowjacket.core.noise.smoothing import noise_hidden_stops
from yellowjacket.core.raw.frame import first_green
from yellowjacket.core.raw.rect import even_rect
from yellowjacket.core.readings.ladder import (
    MOVED_BY_CLIP,
    RELATED,
    RungHabits,
    RungSignals,
    relate_habits,
    relate_rungs,
    rung_signals,
    with_seen_clip,
)
from yellowjacket.core.readings.output_size import UseSize
from yellowjacket.core.readings.patch import UNIFORM, PatchSpec
from yellowjacket.core.readings.raw_modes import SAME, SamePixelsTask, same_pixels
from yellowjacket.core.readings.rung import SINGLE, RungResult, RungTask, measure_rung
from yellowjacket.core.readings.scene import Known

# Readings change when the way they are computed does: raise this with every change of the core's numbers.
# What stands before the number is of no meaning: with another name everything would be measured anew.
METHOD_VERSION = "0.1.0/7"
# Stands for the digest of a rung that was measured without some of its frames.
INCOMPLETE = "incomplete"


def start_measuring(sitting: Sitting) -> Job:
    """Start measuring everything that is not measured yet. Refuses sittings without frames."""
    if not Frame.objects.filter(sitting=sitting, shot__kind=Shot.Kind.LIGHT).exists():
        raise Refusal("There is no frame to measure yet. Shoot or import frames first.")
    return queue.start(sitting, Job.Kind.MEASURE)


@handles(Job.Kind.MEASURE)
def measure_sitting(job: Job, progress: progress_.Progress) -> str:
    """The measuring job: every rung of every ladder whose frames or patches changed."""
    # A ladder that is not shot yet, or all darks, has nothing to measure patches on.
    lit = Frame.objects.filter(shot__kind=Shot.Kind.LIGHT).values("shot__rung__ladder")
    ladders = list(job.sitting.ladders.filter(pk__in=lit).select_related("body"))
    refused: list[str] = []
    for ladder in list(ladders):
        if ladder.patches.filter(role=Patch.Role.GREY).exists():
            continue
        try:
            propose(ladder)
        except Refusal as refusal:
            # The other ladders are measured all the same.
            if len(ladders) == 1:
                raise
            ladders.remove(ladder)
            refused.append(f"{ladder}: {refusal}")
    stale, left_out = _measurable(job.sitting, [one for ladder in ladders for one in _stale(ladder)])
    progress.begin(len(stale))
    # Cores that no rung is left for decode the second file of a pair.
    threads = 2 if len(stale) < (os.cpu_count() or 1) else 1
    for task, outcome in run_all(measure_rung, [replace(one.task, threads=threads) for one in stale.values()]):
        store_result(job.sitting, stale[task.key], outcome)
        progress.step()
    for ladder in ladders:
        spread_clips(ladder)
    for ladder in ladders:
        store_relations(ladder)
        if ladder.rungs.filter(pk__in=list(stale)).exclude(value="").exists():
            _store_same_pixels(ladder)
    count = len(stale)
    done = f"{counted(count, 'rung')} measured" if count else "everything was measured already"
    if left_out:
        refused.append(f"{counted(left_out, 'frame')} could not be used: see Check")
    if refused:
        job.parameters["left_out"] = True
        job.save(update_fields=["parameters"])
    return ". ".join([done, *refused])


def _measurable(sitting: Sitting, stale: Sequence[Stale]) -> tuple[dict[int, Stale], int]:
    """What can be measured, by rung, and how many frames were left out: an original that is gone or was changed is named,
    and the rung is measured with the others, for now."""
    paths = [path for one in stale for path in (*one.task.light, *one.task.dark)]
    out = unusable(sitting, paths)
    found = {}
    for one in stale:
        light, dark = (tuple(path for path in group if path not in out) for group in (one.task.light, one.task.dark))
        if light == one.task.light and dark == one.task.dark:
            found[one.task.key] = one
        elif light:
            # With digests of its own: it is measured again as soon as the missing frames are back.
            found[one.task.key] = replace(one, task=replace(one.task, light=light, dark=dark), inputs=INCOMPLETE)
    return found, len(out)


@dataclass(frozen=True, slots=True)
class Stale:
    """A rung to measure: the work, and the digests of its inputs, as a whole and of patches that stand alone."""

    task: RungTask
    inputs: str
    patches: dict[str, str]


def _inputs_digest(task: RungTask, contents: dict[str, str], uniform: Sequence[dict[str, object]]) -> str:
    """Digest of everything a rung's own readings depend on: file contents, uniform patches, uses, method."""
    return _digest({
        "light": [contents[path] for path in task.light],
        "dark": [contents[path] for path in task.dark],
        "patches": list(uniform),
        "uses": [asdict(use) for use in task.uses],
        "picture": task.picture,
        "method": METHOD_VERSION,
    })  # fmt: skip


def _digest(parts: object) -> str:
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()


def _stale(ladder: Ladder, files: Mapping[int, Files] | None = None) -> list[Stale]:
    """Rungs whose inputs are not those of their stored readings, each with as little to measure as that takes. ``files``: of
    its rungs, where they are known already."""
    rungs = list(ladder.rungs.all())
    files = Frame.objects.files_of(rungs) if files is None else files
    specs = tuple(patch.spec for patch in ladder.patches.all())
    alone = {spec.name: (spec, _digest(asdict(spec))) for spec in specs if spec.role not in UNIFORM}
    digests = {name: digest for name, (_, digest) in alone.items()}
    found_uses = (UseSize.of(str(use.pk), use.view) for use in ladder.sitting.uses.all())
    uses = tuple(use for use in found_uses if use is not None)
    picture = (ladder.body.pixel_width, ladder.body.pixel_height)
    full = _largest(files)
    found: list[Stale] = []
    partly: list[Stale] = []
    # Most rungs have one size: its patches are written out once.
    fitted: dict[tuple[int, int], tuple[tuple[PatchSpec, ...], list[dict[str, object]]]] = {}
    for rung in rungs:
        own_files = files[rung.pk]
        if not own_files.light:
            continue
        # A raw mode of fewer pixels shows the same scene smaller: patches shrink with it.
        size = own_files.size or full
        if size not in fitted:
            scaled = tuple(scaled_specs(specs, full, size))
            fitted[size] = scaled, [asdict(spec) for spec in scaled if spec.role in UNIFORM]
        own, uniform = fitted[size]
        task = RungTask(rung.pk, tuple(own_files.light), tuple(own_files.dark), own, uses, picture)
        inputs = _inputs_digest(task, own_files.contents, uniform)
        changed = tuple(
            spec for spec in own if spec.name in alone and rung.measured_patches.get(spec.name) != alone[spec.name][1]
        )
        if inputs != rung.measured_inputs:
            found.append(Stale(task, inputs, digests))
        elif changed:
            partly.append(Stale(replace(task, dark=(), patches=changed), inputs, digests))
    if partly:
        known = _known([one.task.key for one in partly])
        found += [replace(one, task=replace(one.task, known=known[one.task.key])) for one in partly]
    return found


def _store_same_pixels(ladder: Ladder) -> None:
    """Reduced raw modes against the full one at every setting that both were shot at: readings of the reduced rung."""
    rungs = [rung for rung in ladder.rungs.all() if rung.measured_inputs]
    files = Frame.objects.files_of(rungs)
    largest = _largest(files)
    full = {(rung.iso, rung.exposure_s): rung for rung in rungs if files[rung.pk].size == largest}
    patches = tuple(patch.spec for patch in ladder.patches.all())
    tasks, by_key = [], {rung.pk: rung for rung in rungs}
    for rung in rungs:
        other = full.get((rung.iso, rung.exposure_s))
        if other is None or files[rung.pk].size == largest:
            continue
        pairs = [files[one.pk].light[:2] for one in (other, rung)]
        if all(len(pair) == 2 for pair in pairs):
            large, small = ((pair[0], pair[1]) for pair in pairs)
            tasks.append(SamePixelsTask(rung.pk, large, small, patches, ladder.body.pixel_height))
    out = unusable(ladder.sitting, [path for task in tasks for path in (*task.full, *task.reduced)])
    tasks = [task for task in tasks if not out.keys() & {*task.full, *task.reduced}]
    for task, outcome in run_all(same_pixels, tasks):
        if isinstance(outcome, Exception):
            note_problem(ladder.sitting, Path(task.reduced[0]).name, misfit_from(outcome))
            continue
        Reading.objects.filter(rung=task.key, quantity__in=SAME).delete()
        _store_readings(by_key[task.key], outcome)


def _largest(files: Mapping[int, Files]) -> tuple[int, int]:
    """Width and height of the largest frames; zeros without any."""
    return max((one.size for one in files.values() if one.size), default=(0, 0))


def scaled_specs(specs: Sequence[PatchSpec], full: tuple[int, int], own: tuple[int, int]) -> tuple[PatchSpec, ...]:
    """Patches as they lie in frames of another size than those they were drawn on."""
    if own == full or not full[0]:
        return tuple(specs)
    across, down = own[0] / full[0], own[1] / full[1]
    return tuple(
        replace(
            spec,
            rect=even_rect(spec.rect.x * across, spec.rect.y * down, spec.rect.w * across, spec.rect.h * down, *own),
        )
        for spec in specs
    )


def _known(rungs: Sequence[int]) -> dict[int, Known]:
    """What was read of rungs already, as far as patches that stand alone need it."""
    black: dict[int, dict[str, float]] = {rung: {} for rung in rungs}
    grey: dict[int, dict[str, float]] = {rung: {} for rung in rungs}
    whole: dict[int, dict[str, Reading]] = {rung: {} for rung in rungs}
    rows = Reading.objects.filter(rung__in=rungs, use=None).filter(
        Q(quantity=Measurand.BLACK_DN)
        | Q(quantity=Measurand.SIGNAL_DN, patch__role=Patch.Role.GREY)
        | Q(quantity__in=(Measurand.PRNU, Measurand.CLIP_DN, Measurand.NEIGHBOUR_CORRELATION))
    )
    for row in rows:
        if row.quantity == Measurand.SIGNAL_DN and row.value is not None:
            grey[row.rung_id][row.channel] = row.value
        elif row.quantity == Measurand.BLACK_DN:
            black[row.rung_id][row.channel] = row.value or 0.0
        else:
            whole[row.rung_id][row.quantity] = row
    found = {}
    for rung in rungs:
        prnu, clip, lag = (
            whole[rung].get(name) for name in (Measurand.PRNU, Measurand.CLIP_DN, Measurand.NEIGHBOUR_CORRELATION)
        )
        top = clip.value - (first_green(black[rung]) or 0.0) if clip is not None and clip.value is not None else None
        smoothed = lag is not None and lag.result.has(Remark.SMOOTHED)
        hidden = noise_hidden_stops(lag.result).value or 0.0 if lag is not None and smoothed else 0.0
        found[rung] = Known(black[rung], grey[rung], prnu.value if prnu else None, top, hidden)
    return found


@transaction.atomic
def store_result(sitting: Sitting, stale: Stale, outcome: RungResult | Exception) -> None:
    """Replace the readings that were measured; a failure becomes a problem and leaves the earlier ones alone."""
    task = stale.task
    if isinstance(outcome, Exception):
        note_problem(sitting, Path(task.light[0]).name, misfit_from(outcome))
        return
    names = [Path(path).name for path in task.light]
    Problem.objects.filter(sitting=sitting, code=SINGLE, file_name__in=names).delete()
    rung = Rung.objects.select_related("ladder").get(pk=task.key)
    for problem in outcome.problems:
        # A ladder of single frames is what was shot; one among pairs is a frame that is missing.
        if problem.code != SINGLE or not one_each(_frames_of(rung.ladder)):
            note_problem(sitting, problem.path.name, misfit_from(problem))
    if task.known is None:
        rung.readings.exclude(quantity__in=DARK_MEASURANDS).delete()
    else:
        own = Q(patch__name__in=[patch.name for patch in task.patches])
        rung.readings.filter(own | Q(patch=None, quantity__in={one.quantity for one in outcome.readings})).delete()
    _store_readings(rung, outcome.readings)
    rung.measured_inputs, rung.measured_patches = stale.inputs, stale.patches
    rung.save(update_fields=["measured_inputs", "measured_patches"])


def _frames_of(ladder: Ladder) -> QuerySet[Frame]:
    return Frame.objects.filter(shot__rung__ladder=ladder).defer("report").select_related("shot")


def _store_readings(rung: Rung, readings: Iterable[CoreReading]) -> None:
    patches = dict(Patch.objects.filter(ladder_id=rung.ladder_id).values_list("name", "pk"))
    Reading.objects.bulk_create(
        Reading(
            rung=rung, patch_id=patches[r.patch] if r.patch else None, use_id=int(r.use) if r.use else None,
            channel=r.channel, quantity=r.quantity,
            value=r.result.value, low=r.result.low, high=r.result.high, n=r.result.n,
            notes=[note.plain for note in r.result.notes],
            method=r.method[:200], excluded=r.excluded,
        )
        for r in readings
        if r.patch is None or r.patch in patches
    )  # fmt: skip


@transaction.atomic
def store_relations(ladder: Ladder) -> None:
    """What the rungs of a ladder say about each other, from the stored readings."""
    rungs = [rung for rung in ladder.rungs.all() if rung.measured_inputs]
    if not rungs:
        return
    reference = ladder.reference_rung(rungs)
    matrix = Frame.objects.filter(shot__rung=reference).first()
    signals = _signals(ladder, rungs)
    related = relate_rungs(signals, reference.pk, matrix_of(matrix))
    for key, readings in relate_habits(_habits(rungs) if ladder.kind == Ladder.Kind.ISO else []).items():
        related[key] += readings
    if ladder.kind == Ladder.Kind.EXPOSURE:
        exposed = relate_exposures(_exposures(ladder, rungs), reference.pk, _roles(ladder), matrix_of(matrix))
        for key, readings in exposed.items():
            related[key] += readings
    Reading.objects.filter(rung__in=rungs, quantity__in=(*RELATED, *EXPOSED)).delete()
    for rung in rungs:
        _store_readings(rung, related[rung.pk])


def spread_clips(ladder: Ladder) -> None:
    """Where wells were seen to be full at an ISO of a body, that counts for all rungs of the sitting at that ISO: on the
    others only the tag of the file stood in."""
    shot = Rung.objects.filter(ladder__sitting=ladder.sitting_id, ladder__body=ladder.body_id)
    rungs = {rung.pk: rung for rung in shot.exclude(measured_inputs="").select_related("ladder")}
    found = Reading.objects.filter(rung__in=rungs, patch=None, channel="all", quantity__in=MOVED_BY_CLIP)
    rows = list(found)
    full = {row.rung_id: row.result for row in rows if row.quantity == Measurand.SATURATION_E and row.use_id is None}
    seen: dict[tuple[int, str], tuple[str, Quantity]] = {}
    for pk, quantity in full.items():
        key = rungs[pk].iso, rungs[pk].value
        if quantity.known and not quantity.has(Remark.FROM_TAG, Remark.CLIP_SEEN_AT):
            seen.setdefault(key, (f"{rungs[pk]} of {rungs[pk].ladder}", quantity))
    changed = []
    for row in rows:
        key, tagged = (rungs[row.rung_id].iso, rungs[row.rung_id].value), full.get(row.rung_id)
        if tagged is None or key not in seen or not tagged.has(Remark.FROM_TAG):
            continue
        result = with_seen_clip(row.measurand, row.result, tagged, seen[key][1], seen[key][0])
        row.value, row.low, row.high, row.n = result.value, result.low, result.high, result.n
        row.notes = [note.plain for note in result.notes]
        changed.append(row)
    Reading.objects.bulk_update(changed, ["value", "low", "high", "n", "notes"])


def _habits(rungs: Sequence[Rung]) -> list[RungHabits]:
    """Readings over all channels by rung, from low to high ISO."""
    found: dict[int, dict[str, Quantity]] = {rung.pk: {} for rung in rungs}
    for reading in Reading.objects.filter(rung__in=rungs, patch=None, use=None, channel="all"):
        found[reading.rung_id][reading.quantity] = reading.result
    return [RungHabits(rung.pk, rung.iso, found[rung.pk]) for rung in sorted(rungs, key=lambda rung: rung.iso)]


def _signals(ladder: Ladder, rungs: Sequence[Rung]) -> list[RungSignals]:
    """What relating needs, in one query: signals of grey, black and colour patches, detail of textures."""
    readings: dict[int, list[CoreReading]] = {rung.pk: [] for rung in rungs}
    related = (Patch.Role.GREY, Patch.Role.BLACK, Patch.Role.COLOUR)
    rows = Reading.objects.filter(rung__in=rungs).filter(
        Q(quantity=Measurand.SIGNAL_DN, patch__role__in=related)
        | Q(quantity__in=(Measurand.DETAIL, Measurand.COLOUR_DETAIL, Measurand.COLOUR_NOISE, Measurand.BLACK_DN))
    )
    for row in rows.select_related("patch"):
        use = str(row.use_id) if row.use_id else ""
        name = row.patch.name if row.patch else None
        readings[row.rung_id].append(CoreReading(name, row.channel, row.measurand, row.result, use=use))
    roles, tags = _roles(ladder), _tags(rungs)
    return [
        rung_signals(
            rung.pk, readings[rung.pk], roles, rung.settings(ladder.f_number).level_stops, tags.get(rung.pk, {})
        )
        for rung in rungs
    ]


def _tags(rungs: Sequence[Rung]) -> dict[int, dict[str, float]]:
    """Black as the files of each rung name it, by channel."""
    rows = Frame.objects.filter(shot__rung__in=rungs).order_by("-shot__order").values_list("shot__rung_id", "black_dn")
    return dict(rows)


def matrix_of(frame: Frame | None) -> NDArray[np.float64] | None:
    """The colour matrix of a frame's file, if there is a frame and it has one."""
    return frame.xyz_to_camera if frame is not None else None


def _roles(ladder: Ladder) -> dict[str, str]:
    return dict(ladder.patches.values_list("name", "role"))


def _exposures(ladder: Ladder, rungs: Sequence[Rung]) -> list[ExposureSignals]:
    """What relating exposures needs, in two queries."""
    readings: dict[int, list[CoreReading]] = {rung.pk: [] for rung in rungs}
    textured = (Patch.Role.TEXTURE, Patch.Role.COLOUR_TEXTURE)
    names = (
        Measurand.SIGNAL_DN, Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_DN, Measurand.CLIP_DN, Measurand.PRNU,
        Measurand.ROW_NOISE_DN, Measurand.BLACK_DN,
    )  # fmt: skip
    rows = Reading.objects.filter(rung__in=rungs, use=None, quantity__in=names)
    for row in rows.exclude(patch__role__in=textured).select_related("patch"):
        readings[row.rung_id].append(
            CoreReading(row.patch.name if row.patch else None, row.channel, row.measurand, row.result)
        )
    tags = _tags(rungs)
    white = max(Frame.objects.filter(shot__rung__in=rungs).values_list("white_dn", flat=True), default=0.0)
    metered = ladder.reference_rung(rungs).settings(ladder.f_number).level_stops
    return signals_of(
        [
            MeasuredExposure(
                rung.pk, rung.settings(ladder.f_number).level_stops - metered, readings[rung.pk], tags.get(rung.pk, {})
            )
            for rung in rungs
        ],
        white,
    )
