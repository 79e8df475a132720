"""Measuring darks of a sitting, and what a ladder of them says as a whole."""

from __future__ import annotations

import hashlib
import json
from collections import OrderedDict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from statistics import fmean

from django.db.models import Subquery

from yellowjacket.bench.darks.packed import packed, unpacked
from yellowjacket.bench.darks.sensor_temperature import Warmth, frames_with_noted, warmth_of
from yellowjacket.bench.intake.originals import unusable
from yellowjacket.bench.intake.problems import misfit_from, note_problem
from yellowjacket.bench.jobs import progress as progress_
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.jobs.executor import run_all
from yellowjacket.bench.jobs.registry import handles
from yellowjacket.bench.models import Body, Frame, Job, Ladder, Problem, Reading, Rung, RungDarks, Shot, Sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.darks.exposure_group import DarkGroup, TimeFindings, TimeTask, measure_time
from yellowjacket.core.darks.hot_pixels import also_in
from yellowjacket.core.darks.series import DarkLadder, Known
from yellowjacket.core.exposure.dial import exact_exposure_s
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.measurands import DARK_MEASURANDS, Measurand
from yellowjacket.core.metrology.notes import Missing

# Raise with every change of how darks are measured.
METHOD_VERSION = "0.1.0/8"
# Stands for the digest of darks of which some could not be used.
INCOMPLETE = "incomplete"
# Ladders that stay assembled between requests.
_KEPT = 8
# So many other ladders are looked into for the same pixels.
_OTHERS = 6
_assembled: OrderedDict[str, MeasuredDarks] = OrderedDict()


def start_measuring(sitting: Sitting) -> Job:
    """Start measuring every dark that is not measured yet. Refuses sittings without darks."""
    if not Frame.objects.filter(sitting=sitting, shot__kind=Shot.Kind.DARK).exists():
        raise Refusal("There is no dark to measure yet. Shoot or import a time ladder with the lens capped first.")
    return queue.start(sitting, Job.Kind.DARKS)


@handles(Job.Kind.DARKS)
def measure_darks(job: Job, progress: progress_.Progress) -> str:
    """The job: every rung of every time ladder whose darks are new."""
    ladders = list(time_ladders(job.sitting))
    work = {task.key: (task, digest) for ladder in ladders for task, digest in _stale(ladder)}
    out = unusable(
        job.sitting, [path for task, _ in work.values() for path in (*task.group.paths, task.shortest or "")]
    )
    tasks = [one for task, _ in work.values() if (one := _without(task, out)) is not None]
    progress.begin(len(tasks))
    for task, outcome in run_all(measure_time, tasks):
        whole, digest = work[task.key]
        _store(job.sitting, task, digest if task == whole else INCOMPLETE, outcome)
        progress.step()
    for ladder in ladders:
        store_readings(ladder)
    count = len(tasks)
    done = f"darks of {counted(count, 'rung')} measured" if count else "all darks were measured already"
    return f"{done}. {counted(len(out), 'frame')} could not be used: see Check" if out else done


def _without(task: TimeTask, out: Collection[str]) -> TimeTask | None:
    """The task with the darks that can be used, None when there are none."""
    paths = tuple(path for path in task.group.paths if path not in out)
    if not paths:
        return None
    first = None if task.shortest in out else task.shortest
    return replace(task, group=replace(task.group, paths=paths), shortest=first)


def time_ladders(sitting: Sitting) -> Iterable[Ladder]:
    """Ladders whose darks are looked at: those along time."""
    return sitting.ladders.filter(kind=Ladder.Kind.TIME).select_related("body", "sitting__profile")


def unmeasured(ladder: Ladder, inputs: DarkInputs | None = None) -> int:
    """Rungs with darks that are not measured. ``inputs``: where that is known already."""
    return len(_stale(ladder, inputs))


def _stale(ladder: Ladder, inputs: DarkInputs | None = None) -> list[tuple[TimeTask, str]]:
    inputs = inputs or DarkInputs.of([ladder])
    frames, kept = inputs.frames, inputs.kept[ladder.pk].inputs
    gain = inputs.known[ladder.pk].gain_e_per_dn.value
    rungs = [rung for rung in ladder.rungs.all() if rung.pk in frames]
    shortest = min(rungs, key=lambda rung: (rung.exposure_s, rung.lenr), default=None)
    first = frames[shortest.pk][0] if shortest else None
    told = [METHOD_VERSION, first.sha256 if first else None, None if gain is None else f"{gain:.6g}"]
    found = []
    for rung in rungs:
        # Contents, not places: the same darks lie elsewhere on another machine.
        digest = _digest([*told, [frame.sha256 for frame in frames[rung.pk]], rung.lenr])
        if kept.get(rung.pk) != digest:
            group = DarkGroup(
                exact_exposure_s(rung.exposure_s), None, tuple(one.path for one in frames[rung.pk]), rung.lenr
            )
            found.append((TimeTask(group, gain, first.path if first else None, rung.pk), digest))
    return found


def take_as_measured(ladder: Ladder) -> None:
    """Darks that came measured with a sitting from elsewhere are so here: nothing is due."""
    for task, digest in _stale(ladder):
        RungDarks.objects.filter(rung_id=task.key).update(inputs=digest)


def _digest(parts: object) -> str:
    return hashlib.sha256(json.dumps(parts).encode()).hexdigest()


def _store(sitting: Sitting, task: TimeTask, digest: str, outcome: TimeFindings | Exception) -> None:
    if isinstance(outcome, Exception):
        note_problem(sitting, Path(task.group.paths[0]).name, misfit_from(outcome))
        return
    names = [Path(path).name for path in task.group.paths]
    Problem.objects.filter(sitting=sitting, code="not-dark", file_name__in=names).delete()
    for problem in outcome.problems:
        note_problem(sitting, problem.path.name, misfit_from(problem))
    RungDarks.objects.update_or_create(
        rung_id=task.key, defaults={"inputs": digest, "measured": packed(outcome)}
    )  # fmt: skip


@dataclass(slots=True)
class Kept:
    """What was measured of a ladder: inputs by rung id, and at which ISO settings."""

    inputs: dict[int, str] = field(default_factory=dict)
    isos: set[int] = field(default_factory=set)


@dataclass(frozen=True, slots=True)
class DarkInputs:
    """What darks of ladders rest on: dark frames by rung id, by ladder id what is kept of measuring them, by frame id how warm
    each was, and by ladder id what light frames say of its ISO."""

    frames: Mapping[int, Sequence[Frame]]
    kept: Mapping[int, Kept]
    warmth: Mapping[int, Warmth]
    known: Mapping[int, Known]

    @classmethod
    def of(cls, ladders: Sequence[Ladder]) -> DarkInputs:
        """In three queries for however many ladders."""
        return cls._with(ladders, _kept(ladders))

    @classmethod
    def where_measured(cls, ladders: Sequence[Ladder]) -> DarkInputs | None:
        """The same, None after one query where nothing of them was measured."""
        kept = _kept(ladders)
        return cls._with(ladders, kept) if any(one.inputs for one in kept.values()) else None

    @classmethod
    def of_newest(cls, body: Body) -> tuple[Ladder, DarkInputs] | None:
        """The same of the newest measured ladder of a body, with that; None after one query where there is none."""
        measured_ones = Ladder.objects.filter(body=body, rungs__darks__isnull=False)
        newest = measured_ones.order_by("-sitting__held_on", "-pk").values("pk")[:1]
        rows = RungDarks.objects.filter(rung__ladder=Subquery(newest)).defer("measured").select_related("rung__ladder")
        kept, ladder = Kept(), None
        for row in rows:
            ladder = row.rung.ladder
            kept.inputs[row.rung_id] = row.inputs
            kept.isos.add(row.rung.iso)
        return None if ladder is None else (ladder, cls._with([ladder], {ladder.pk: kept}))

    @classmethod
    def _with(cls, ladders: Sequence[Ladder], kept: Mapping[int, Kept]) -> DarkInputs:
        frames = frames_with_noted().darks_of(*ladders)
        warmth = warmth_of(frame for own in frames.values() for frame in own)
        return cls(frames, kept, warmth, _known_of(ladders))

    def of_rungs(self, rungs: Iterable[int]) -> dict[int, Warmth]:
        """Mean temperature of each rung's darks, where every one of them is known."""
        found = {}
        for rung_id in rungs:
            own = self.frames.get(rung_id, ())
            told = [self.warmth[frame.pk] for frame in own if frame.pk in self.warmth]
            if own and len(told) == len(own):
                course = tuple(one.celsius for one in told)
                found[rung_id] = replace(told[0], celsius=fmean(course), course=course)
        return found


def _kept(ladders: Sequence[Ladder]) -> dict[int, Kept]:
    found = {ladder.pk: Kept() for ladder in ladders}
    rows = RungDarks.objects.filter(rung__ladder__in=ladders)
    for ladder_id, rung_id, inputs, iso in rows.values_list("rung__ladder_id", "rung_id", "inputs", "rung__iso"):
        found[ladder_id].inputs[rung_id] = inputs
        found[ladder_id].isos.add(iso)
    return found


def _known_of(ladders: Sequence[Ladder]) -> dict[int, Known]:
    """By ladder id what the newest ISO ladder of its body says of its ISO."""
    names = (Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_E, Measurand.SATURATION_E)
    rows = Reading.objects.filter(
        rung__ladder__body__in=[ladder.body_id for ladder in ladders], patch=None, use=None, channel="all",
        rung__iso__in=[ladder.metered_iso for ladder in ladders], quantity__in=names, value__isnull=False,
    ).order_by("pk")  # fmt: skip
    found: dict[tuple[int, int], dict[str, Quantity]] = {}
    for body_id, iso, quantity, result in rows.quantities("rung__ladder__body_id", "rung__iso", "quantity"):
        found.setdefault((body_id, iso), {})[quantity] = result
    known = {}
    for ladder in ladders:
        own = found.get((ladder.body_id, ladder.metered_iso), {})
        nothing = missing(Missing.NO_LIGHT_FRAMES_OF_ISO, ladder.metered_iso)
        known[ladder.pk] = Known(*(own.get(name, nothing) for name in names))
    return known


@dataclass(frozen=True, slots=True)
class MeasuredDarks:
    """A ladder's darks: the whole, findings by rung id, how warm each rung was, and at which ISO settings."""

    whole: DarkLadder
    by_rung: Mapping[int, TimeFindings]
    warmth: Mapping[int, Warmth]
    isos: Collection[int] = ()


def measured(ladder: Ladder, inputs: DarkInputs | None = None) -> MeasuredDarks | None:
    """What was measured of a ladder, assembled; None before anything was. ``inputs``: what it rests on, where that is known."""
    inputs = inputs or DarkInputs.where_measured([ladder])
    rows = inputs.kept[ladder.pk].inputs if inputs is not None else {}
    if inputs is None or not rows:
        return None
    warmth, known = inputs.of_rungs(rows), inputs.known[ladder.pk]
    key = _digest([
        sorted(rows.items()), sorted((pk, one.course) for pk, one in warmth.items()),
        [(q.value, q.low, q.high) for q in (known.gain_e_per_dn, known.read_noise_e, known.saturation_e)],
    ])  # fmt: skip
    found = _assembled.get(key)
    if found is None:
        stored = RungDarks.objects.filter(rung__ladder=ladder).order_by("rung__position")
        by_rung = {
            one.rung_id: unpacked(bytes(one.measured), warmth[one.rung_id].celsius if one.rung_id in warmth else None)
            for one in stored
        }
        whole = DarkLadder(list(by_rung.values()), known)
        # The whole names pixels anew that blink: its own findings are handed out.
        again = {one.group: one for one in (*whole.off, *whole.on)}
        found = MeasuredDarks(whole, {pk: again[one.group] for pk, one in by_rung.items()}, warmth)
        _assembled[key] = found
        while len(_assembled) > _KEPT:
            _assembled.popitem(last=False)
    return replace(found, isos=inputs.kept[ladder.pk].isos)


def store_readings(ladder: Ladder) -> None:
    """What the darks of every rung say, as readings with their provenance."""
    found = measured(ladder)
    Reading.objects.filter(rung__ladder=ladder, quantity__in=DARK_MEASURANDS).delete()
    if found is None:
        return
    whole = found.whole
    rows = []
    for rung_id, one in found.by_rung.items():
        values: dict[str, tuple[Quantity, str]] = {
            Measurand.DARK_SIGNAL_E: (whole.signal_e(one), "mean of ordinary pixels over the bias of the line, × gain"),
            Measurand.DARK_NOISE_DN: (
                one.noise_dn,
                "half the variance of the difference of two darks, the middle tile",
            ),
            Measurand.HOT_PER_MPIX: (whole.hot_per_mpix(one), "lasting pixels over 8 spreads of their tile"),
            Measurand.HOT_SHOWING_PER_MPIX: (
                whole.showing_per_mpix(one),
                "of them those over 8 σ of the lifted shadow, five stops under grey",
            ),
            Measurand.HOT_REPAIRED_PER_MPIX: (
                whole.showing_per_mpix(one, repaired=True),
                "the same after a median of neighbours",
            ),
            Measurand.LIFTED_SHADOW_SNR: (whole.snr(one), "S/√(S + R² + D), five stops under grey"),
            Measurand.DARK_ROWS_DN: (one.rows_dn, "variance of row means beyond that of their pixels"),
            Measurand.DARK_COLUMNS_DN: (one.columns_dn, "variance of column means beyond that of their pixels"),
        }
        rows += [
            Reading(rung_id=rung_id, channel="all", quantity=name, value=q.value, low=q.low, high=q.high, n=q.n,
                    notes=[note.plain for note in q.notes], method=method)
            for name, (q, method) in values.items()
        ]  # fmt: skip
    Reading.objects.bulk_create(rows)


def others_with_darks(ladder: Ladder) -> list[Ladder]:
    """Other ladders of the body that darks were measured of."""
    others = Ladder.objects.filter(body=ladder.body_id, rungs__darks__isnull=False).exclude(pk=ladder.pk).distinct()
    return list(others.select_related("sitting", "body")[:_OTHERS])


def persistence(found: MeasuredDarks, others: Sequence[Ladder], inputs: DarkInputs) -> list[tuple[Ladder, Quantity]]:
    """Which share of a ladder's hot pixels stands in each of others of the body, too. ``inputs``: what their darks rest on."""
    own = next((one.pixels for one in reversed(found.whole.off) if one.pixels is not None), None)
    if own is None:
        return []
    rows = []
    for other in others:
        theirs = measured(other, inputs)
        tables = [one.pixels for one in theirs.whole.off if one.pixels is not None] if theirs else []
        same = [table for table in tables if table.size == own.size]
        rows.append((other, also_in(own, same) if same else missing(Missing.ANOTHER_SIZE)))
    return rows


def of_body(body: Body) -> MeasuredDarks | None:
    """The newest measured time ladder of a body."""
    newest = DarkInputs.of_newest(body)
    return measured(*newest) if newest else None


def rungs_of(found: MeasuredDarks, rungs: Sequence[Rung]) -> list[Rung]:
    """Rungs without LENR that have darks, or all that have where LENR was on throughout."""
    have = [rung for rung in rungs if rung.pk in found.by_rung]
    return [rung for rung in have if not rung.lenr] or have
