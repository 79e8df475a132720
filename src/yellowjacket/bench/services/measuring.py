"""Measuring a sitting: patches proposed where there are none, every rung whose inputs changed, relations."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Sequence
from pathlib import Path

from django.db import transaction

from yellowjacket import __version__
from yellowjacket.bench.executor import run_all
from yellowjacket.bench.models import Frame, Job, Ladder, Patch, Problem, Reading, Rung, Shot, Sitting
from yellowjacket.bench.services import jobs
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.bench.services.frames import misfit_from, note_problem
from yellowjacket.bench.workers import propose_from
from yellowjacket.core.measure import (
    SINGLE,
    RungHabits,
    RungResult,
    RungSignals,
    RungTask,
    measure_rung,
    relate_habits,
    relate_rungs,
)
from yellowjacket.core.measure import Reading as CoreReading
from yellowjacket.core.patches import Proposal, even_rect
from yellowjacket.core.quantity import Quantity

# Readings change when the way they are computed does: raise this with every change of the core's numbers.
METHOD_VERSION = f"{__version__}/2"


def start_measuring(sitting: Sitting) -> Job:
    """Start measuring everything that is not measured yet. Refuses sittings without frames."""
    if not Frame.objects.filter(sitting=sitting, shot__kind=Shot.Kind.LIGHT).exists():
        raise Refusal("There is no frame to measure yet. Shoot or import frames first.")
    return jobs.start(sitting, Job.Kind.MEASURE)


def measure_sitting(job: Job, progress: jobs.Progress) -> str:
    """The measuring job: every rung of every ladder whose frames or patches changed."""
    ladders = list(job.sitting.ladders.select_related("body"))
    for ladder in ladders:
        if not ladder.patches.exists():
            propose(ladder)
    tasks = {task.key: (task, digest) for ladder in ladders for task, digest in _stale_tasks(ladder)}
    progress.begin(len(tasks))
    for task, outcome in run_all(measure_rung, [task for task, _ in tasks.values()]):
        store_result(job.sitting, task, tasks[task.key][1], outcome)
        progress.step()
    for ladder in ladders:
        store_relations(ladder)
    count = len(tasks)
    return f"{count} rung{'s' if count != 1 else ''} measured" if count else "everything was measured already"


def frames_by_rung(rungs: Iterable[Rung]) -> dict[int, dict[str, list[str]]]:
    """Frame paths per rung and kind, in one query."""
    found: dict[int, dict[str, list[str]]] = {rung.pk: {"light": [], "dark": []} for rung in rungs}
    rows = Frame.objects.filter(shot__rung__in=found).order_by("shot__repeat")
    for rung_id, kind, path in rows.values_list("shot__rung_id", "shot__kind", "path"):
        found[rung_id][kind].append(path)
    return found


def propose(ladder: Ladder) -> Sequence[Patch]:
    """Propose patches from the reference rung's pair and store them. Refuses when no rung has a pair."""
    rung, first, second = _pair_for_proposals(ladder)
    outcome = next(iter(run_all(propose_from, [(first, second)])))[1]
    if isinstance(outcome, Exception):
        misfit = misfit_from(outcome)
        raise Refusal(f"{rung}: a frame {misfit.reason} {misfit.remedy}")
    proposals = outcome
    if not any(p.role == "grey" for p in proposals):
        raise Refusal(
            f"No uniform neutral area near mid-grey was found on {rung}. Put a grey card into the scene, or draw the "
            "grey patch by hand on the Measure page."
        )
    return _replace_patches(ladder, proposals)


def _pair_for_proposals(ladder: Ladder) -> tuple[Rung, str, str]:
    """The reference rung's two light frames, or the nearest rung's that has two."""
    rungs = list(ladder.rungs.all())
    reference = reference_rung(ladder, rungs)
    paths = frames_by_rung(rungs)
    for rung in sorted(rungs, key=lambda rung: abs(rung.position - reference.position)):
        light = paths[rung.pk]["light"]
        if len(light) > 1:
            return rung, light[0], light[1]
    raise Refusal("No rung has two frames yet, and proposing patches needs a pair: shoot a second frame of one rung.")


def reference_rung(ladder: Ladder, rungs: Sequence[Rung]) -> Rung:
    """The rung the others are held against.

    On an ISO ladder native base ISO, the cleanest that is not extended; else the metered exposure.
    """
    if ladder.kind == Ladder.Kind.ISO:
        native = [rung for rung in rungs if rung.iso >= ladder.body.native_lowest_iso]
        return min(native or rungs, key=lambda rung: rung.iso)
    return min(rungs, key=lambda rung: (abs(rung.at_stops), rung.position))


@transaction.atomic
def _replace_patches(ladder: Ladder, proposals: Sequence[Proposal]) -> list[Patch]:
    ladder.patches.all().delete()
    ladder.rungs.update(measured_inputs="")
    fields = 0
    patches = []
    for proposal in proposals:
        fields += proposal.role == "field"
        name = f"field {fields}" if proposal.role == "field" else proposal.role
        r = proposal.rect
        patches.append(Patch(ladder=ladder, name=name, role=proposal.role, x=r.x, y=r.y, w=r.w, h=r.h))
    return Patch.objects.bulk_create(patches)


@transaction.atomic
def place_patch(ladder: Ladder, role: str, x: float, y: float, w: float, h: float) -> Patch:
    """Move (or draw) the patch of a role, kept even and inside the frame; its rungs want measuring again.

    Refuses unknown roles and ladders without frames.
    """
    if role not in (Patch.Role.GREY, Patch.Role.SHADOW, Patch.Role.BLACK):
        raise Refusal(f"There is no patch called {role!r}; there are grey, shadow and black.")
    size = Frame.objects.filter(shot__rung__ladder=ladder).values_list("width", "height").first()
    if size is None:
        raise Refusal("There is no frame to draw on yet. Shoot or import frames first.")
    rect = even_rect(x, y, w, h, *size)
    patch, _ = Patch.objects.update_or_create(
        ladder=ladder, name=role, defaults={"role": role, "x": rect.x, "y": rect.y, "w": rect.w, "h": rect.h}
    )
    return patch


def inputs_digest(light: Sequence[str], dark: Sequence[str], patches: Sequence[Patch], contents: dict[str, str]) -> str:
    """Digest of everything a rung's readings depend on: file contents, patches, method."""
    parts = {
        "light": [contents[path] for path in light],
        "dark": [contents[path] for path in dark],
        "patches": [[p.name, p.role, p.x, p.y, p.w, p.h] for p in patches],
        "method": METHOD_VERSION,
    }
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()


def _stale_tasks(ladder: Ladder) -> list[tuple[RungTask, str]]:
    """Tasks for rungs whose inputs are not those of their stored readings."""
    rungs = list(ladder.rungs.all())
    paths = frames_by_rung(rungs)
    contents = dict(Frame.objects.filter(shot__rung__ladder=ladder).values_list("path", "sha256"))
    patches = list(ladder.patches.all())
    specs = tuple(patch.spec for patch in patches)
    tasks = []
    for rung in rungs:
        light, dark = paths[rung.pk]["light"], paths[rung.pk]["dark"]
        digest = inputs_digest(light, dark, patches, contents)
        if light and digest != rung.measured_inputs:
            tasks.append((RungTask(rung.pk, tuple(light), tuple(dark), specs), digest))
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
            rung=rung, patch_id=patches[r.patch] if r.patch else None, channel=r.channel, quantity=r.quantity,
            value=r.result.value, low=r.result.low, high=r.result.high, n=r.result.n, reason=r.result.reason[:300],
            method=r.method, excluded=r.excluded,
        )
        for r in readings
        if r.patch is None or r.patch in patches
    )  # fmt: skip


@transaction.atomic
def store_relations(ladder: Ladder) -> None:
    """Exposure error and neutral drift of every rung, from the stored readings."""
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
    for reading in Reading.objects.filter(rung__in=rungs, patch=None, channel="all"):
        found[reading.rung_id][reading.quantity] = reading.result
    return [RungHabits(rung.pk, rung.iso, found[rung.pk]) for rung in sorted(rungs, key=lambda rung: rung.iso)]


def _signals(ladder: Ladder, rungs: Sequence[Rung]) -> list[RungSignals]:
    grey: dict[int, dict[str, Quantity]] = {rung.pk: {} for rung in rungs}
    rows = Reading.objects.filter(rung__in=rungs, patch__role=Patch.Role.GREY, quantity="signal_dn")
    for reading in rows:
        grey[reading.rung_id][reading.channel] = reading.result
    return [RungSignals(rung.pk, grey[rung.pk], rung.settings(ladder.f_number).level_stops) for rung in rungs]
