"""Measuring a sitting: patches proposed where there are none, every rung whose inputs changed, relations."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterable, Sequence
from dataclasses import asdict, replace
from pathlib import Path

from django.db import transaction
from django.db.models import Q

from yellowjacket import __version__
from yellowjacket.bench.executor import run_all
from yellowjacket.bench.models import Frame, Job, Ladder, Patch, Problem, Reading, Rung, Shot, Sitting
from yellowjacket.bench.services import jobs
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.bench.services.frames import frames_by_rung, misfit_from, note_problem
from yellowjacket.bench.services.patching import propose, reference_rung
from yellowjacket.core.at_use import UseSize
from yellowjacket.core.measure import SINGLE, RungResult, RungTask, measure_rung
from yellowjacket.core.quantity import Quantity
from yellowjacket.core.readings import Reading as CoreReading
from yellowjacket.core.relations import RungHabits, RungSignals, relate_habits, relate_rungs

# Readings change when the way they are computed does: raise this with every change of the core's numbers.
METHOD_VERSION = f"{__version__}/3"


def start_measuring(sitting: Sitting) -> Job:
    """Start measuring everything that is not measured yet. Refuses sittings without frames."""
    if not Frame.objects.filter(sitting=sitting, shot__kind=Shot.Kind.LIGHT).exists():
        raise Refusal("There is no frame to measure yet. Shoot or import frames first.")
    return jobs.start(sitting, Job.Kind.MEASURE)


def measure_sitting(job: Job, progress: jobs.Progress) -> str:
    """The measuring job: every rung of every ladder whose frames or patches changed."""
    ladders = list(job.sitting.ladders.select_related("body"))
    for ladder in ladders:
        if not ladder.patches.filter(role=Patch.Role.GREY).exists():
            propose(ladder)
    tasks = {task.key: (task, digest) for ladder in ladders for task, digest in _stale_tasks(ladder)}
    progress.begin(len(tasks))
    # Cores that no rung is left for decode the second file of a pair.
    threads = 2 if len(tasks) < (os.cpu_count() or 1) else 1
    for task, outcome in run_all(measure_rung, [replace(task, threads=threads) for task, _ in tasks.values()]):
        store_result(job.sitting, task, tasks[task.key][1], outcome)
        progress.step()
    for ladder in ladders:
        store_relations(ladder)
    count = len(tasks)
    return f"{count} rung{'s' if count != 1 else ''} measured" if count else "everything was measured already"


def inputs_digest(task: RungTask, contents: dict[str, str]) -> str:
    """Digest of everything a rung's readings depend on: file contents, patches, uses, method."""
    parts = {
        "light": [contents[path] for path in task.light],
        "dark": [contents[path] for path in task.dark],
        "patches": [asdict(patch) for patch in task.patches],
        "uses": [asdict(use) for use in task.uses],
        "picture": task.picture,
        "method": METHOD_VERSION,
    }
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()


def _stale_tasks(ladder: Ladder) -> list[tuple[RungTask, str]]:
    """Tasks for rungs whose inputs are not those of their stored readings."""
    rungs = list(ladder.rungs.all())
    paths = frames_by_rung(rungs)
    contents = dict(Frame.objects.filter(shot__rung__ladder=ladder).values_list("path", "sha256"))
    specs = tuple(patch.spec for patch in ladder.patches.all())
    uses = tuple(
        UseSize(str(use.pk), use.output_pixels) for use in ladder.sitting.uses.all() if use.output_pixels is not None
    )
    picture = (ladder.body.pixel_width, ladder.body.pixel_height)
    tasks = []
    for rung in rungs:
        light, dark = paths[rung.pk]["light"], paths[rung.pk]["dark"]
        task = RungTask(rung.pk, tuple(light), tuple(dark), specs, uses, picture)
        if light and (digest := inputs_digest(task, contents)) != rung.measured_inputs:
            tasks.append((task, digest))
    return tasks


def unmeasured(ladder: Ladder) -> int:
    """How many rungs have frames whose readings are missing or out of date."""
    if not ladder.patches.exists():
        return ladder.rungs.filter(shots__frame__isnull=False, shots__kind=Shot.Kind.LIGHT).distinct().count()
    return len(_stale_tasks(ladder))


@transaction.atomic
def store_result(sitting: Sitting, task: RungTask, digest: str, outcome: RungResult | Exception) -> None:
    """Replace a rung's readings; a failure becomes a problem and leaves the earlier readings alone."""
    if isinstance(outcome, Exception):
        note_problem(sitting, Path(task.light[0]).name, misfit_from(outcome))
        return
    names = [Path(path).name for path in task.light]
    Problem.objects.filter(sitting=sitting, code=SINGLE, file_name__in=names).delete()
    for problem in outcome.problems:
        note_problem(sitting, problem.path.name, misfit_from(problem))
    rung = Rung.objects.select_related("ladder").get(pk=task.key)
    rung.readings.all().delete()
    _store_readings(rung, outcome.readings)
    rung.measured_inputs = digest
    rung.save(update_fields=["measured_inputs"])


def _store_readings(rung: Rung, readings: Iterable[CoreReading]) -> None:
    patches = dict(Patch.objects.filter(ladder_id=rung.ladder_id).values_list("name", "pk"))
    Reading.objects.bulk_create(
        Reading(
            rung=rung, patch_id=patches[r.patch] if r.patch else None, use_id=int(r.use) if r.use else None,
            channel=r.channel, quantity=r.quantity,
            value=r.result.value, low=r.result.low, high=r.result.high, n=r.result.n, reason=r.result.reason[:300],
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
    reference = reference_rung(ladder, rungs)
    matrix = Frame.objects.filter(shot__rung=reference).first()
    signals = _signals(ladder, rungs)
    related = relate_rungs(signals, reference.pk, matrix.xyz_to_camera if matrix else None)
    for key, readings in relate_habits(_habits(rungs) if ladder.kind == Ladder.Kind.ISO else []).items():
        related[key] += readings
    names = {reading.quantity for readings in related.values() for reading in readings}
    Reading.objects.filter(rung__in=rungs, quantity__in=names).delete()
    for rung in rungs:
        _store_readings(rung, related[rung.pk])


def _habits(rungs: Sequence[Rung]) -> list[RungHabits]:
    """Readings over all channels by rung, from low to high ISO."""
    found: dict[int, dict[str, Quantity]] = {rung.pk: {} for rung in rungs}
    for reading in Reading.objects.filter(rung__in=rungs, patch=None, use=None, channel="all"):
        found[reading.rung_id][reading.quantity] = reading.result
    return [RungHabits(rung.pk, rung.iso, found[rung.pk]) for rung in sorted(rungs, key=lambda rung: rung.iso)]


def _signals(ladder: Ladder, rungs: Sequence[Rung]) -> list[RungSignals]:
    """What relating needs, in one query: signals of grey, black and colour patches, detail of textures."""
    levels: dict[int, dict[str, dict[str, dict[str, Quantity]]]] = {rung.pk: {} for rung in rungs}
    detail: dict[int, dict[tuple[str, str, str], Quantity]] = {rung.pk: {} for rung in rungs}
    related = (Patch.Role.GREY, Patch.Role.BLACK, Patch.Role.COLOUR)
    rows = Reading.objects.filter(rung__in=rungs).filter(
        Q(quantity="signal_dn", patch__role__in=related) | Q(quantity__in=("detail", "colour_detail"))
    )
    for reading in rows.select_related("patch"):
        patch = reading.patch
        assert patch is not None  # noqa: S101 - the filter asks for patches
        if reading.quantity == "signal_dn":
            levels[reading.rung_id].setdefault(patch.role, {}).setdefault(patch.name, {})[reading.channel] = (
                reading.result
            )
        else:
            use = str(reading.use_id) if reading.use_id else ""
            detail[reading.rung_id][patch.name, reading.quantity, use] = reading.result

    def only(rung: Rung, role: str) -> dict[str, Quantity]:
        return next(iter(levels[rung.pk].get(role, {}).values()), {})

    return [
        RungSignals(
            rung.pk, only(rung, Patch.Role.GREY), rung.settings(ladder.f_number).level_stops,
            only(rung, Patch.Role.BLACK), levels[rung.pk].get(Patch.Role.COLOUR, {}), detail[rung.pk],
        )
        for rung in rungs
    ]  # fmt: skip
