"""What the desk shows: bodies with their limits and their newest change, sittings with what is left to do; in few queries."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.db.models import Count, Func, JSONField, QuerySet, Value

from yellowjacket.bench.models import (
    BlindRound,
    Body,
    Decision,
    Job,
    Problem,
    Record,
    Rung,
    RungDarks,
    Shot,
    Sitting,
)
from yellowjacket.bench.register import history
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.limits.tolerance import LEVELS


@dataclass(frozen=True, slots=True)
class LimitRow:
    """The newest signed limits of a body for one use: ISO by level, then what else was found of it."""

    use: str
    marks: Sequence[str]
    besides: Sequence[str]


@dataclass(frozen=True, slots=True)
class BodyRow:
    """A body: its newest signed record, its limits by use, those for any use, and what changed against the record before."""

    body: Body
    record: Record | None
    limits: Sequence[LimitRow]
    besides: Sequence[str] = ()
    changes: Sequence[str] = ()


def body_rows(bodies: Iterable[Body]) -> list[BodyRow]:
    """What is known of bodies, in four queries whatever their number."""
    shown = list(bodies)
    newest, before = _last_two(shown)
    decisions: dict[int, dict[str, dict[str, str]]] = {}
    rows = Decision.objects.filter(record__in=[one.pk for one in newest.values()]).select_related("use")
    for decision in rows.order_by("use__position"):
        uses = decisions.setdefault(decision.record_id, {})
        uses.setdefault(decision.use.name, {})[decision.level] = str(decision.iso or "none")
    found = []
    for body in shown:
        record = newest.get(body.pk)
        if record is None:
            found.append(BodyRow(body, None, ()))
            continue
        besides = _besides(record)
        limits = [
            LimitRow(use, [marks.get(level, "–") for level in LEVELS], besides.get(use, ()))
            for use, marks in decisions.get(record.pk, {}).items()
        ]
        earlier = before.get(body.pk)
        changes = history.changed(earlier, record) if earlier else ()
        found.append(BodyRow(body, record, limits, besides.get("", ()), changes))
    return found


def _last_two(bodies: Sequence[Body]) -> tuple[dict[int, Record], dict[int, Record]]:
    """Of every body the record of its newest sitting, and that of the ladder before; of every ladder the newest version."""
    signed = Record.objects.filter(signed_at__isnull=False, ladder__body__in=bodies)
    ladders: dict[int, dict[int, tuple[object, int]]] = {}
    columns = ("ladder__body_id", "ladder_id", "ladder__sitting__held_on", "pk")
    for body, ladder, held_on, pk in signed.order_by("version").values_list(*columns):
        ladders.setdefault(body, {})[ladder] = (held_on, pk)
    last = {body: sorted(of_body.values())[-2:] for body, of_body in ladders.items()}
    wanted = [pk for pair in last.values() for _, pk in pair]
    # Of what a record rests on most are the readings of every rung: they stay in the database.
    told = Func("evidence", Value("$.readings"), function="json_remove", output_field=JSONField())
    signed_ones = Record.objects.filter(pk__in=wanted).select_related("ladder__sitting").defer("evidence")
    records = signed_ones.annotate(told=told).in_bulk()
    for one in records.values():
        one.evidence = one.told
    newest: dict[int, Record] = {body: records[pair[-1][1]] for body, pair in last.items()}
    before: dict[int, Record] = {body: records[pair[0][1]] for body, pair in last.items() if len(pair) > 1}
    return newest, before


def _besides(record: Record) -> Mapping[str, Sequence[str]]:
    """Limits besides ISO by use, empty for any: as decided, else as found."""
    found: dict[str, list[str]] = {}
    for one in record.evidence.get("others", []):
        text = one.get("decided") or one["text"]
        if text != "–":
            found.setdefault(one["use"], []).append(f"{one['what'].removesuffix(', usable')} {text}")
    return found


@dataclass(frozen=True, slots=True)
class SittingRow:
    """A sitting: light shots planned and taken, rungs and how many are measured, darks, signed records; ``attention``: what
    waits for a decision, in words."""

    sitting: Sitting
    planned: int
    taken: int
    rungs: int
    measured: int
    darks: int
    signed: int
    attention: Sequence[str]

    @property
    def bodies(self) -> list[Body]:
        """The bodies it tested, each once, in the order of its ladders."""
        return list(dict.fromkeys(ladder.body for ladder in self.sitting.ladders.all()))


def sitting_rows(sittings: Iterable[Sitting]) -> list[SittingRow]:
    """What is left to do of each, counted table by table: one join over all would multiply them."""
    shown = list(sittings)

    def counted(rows: QuerySet[Any], to_sitting: str = "sitting") -> dict[int, int]:
        found = rows.filter(**{f"{to_sitting}__in": [one.pk for one in shown]}).order_by().values_list(to_sitting)
        return dict(found.annotate(Count("pk")))

    shots = Shot.objects.filter(kind=Shot.Kind.LIGHT)
    planned, taken, rungs, measured, dark, signed = (
        counted(shots, "rung__ladder__sitting"), counted(shots.filter(frame__isnull=False), "rung__ladder__sitting"),
        counted(Rung.objects.all(), "ladder__sitting"),
        counted(Rung.objects.exclude(measured_inputs=""), "ladder__sitting"),
        counted(RungDarks.objects.all(), "rung__ladder__sitting"),
        counted(Record.objects.filter(signed_at__isnull=False), "ladder__sitting"),
    )  # fmt: skip
    problems = counted(Problem.objects.all())
    unfinished = counted(BlindRound.objects.filter(finished_at__isnull=True, open_until__isnull=True))
    failed = _failed(shown)
    return [
        SittingRow(
            one, planned.get(one.pk, 0), taken.get(one.pk, 0), rungs.get(one.pk, 0), measured.get(one.pk, 0),
            dark.get(one.pk, 0), signed.get(one.pk, 0),
            _attention(problems.get(one.pk, 0), unfinished.get(one.pk, 0), failed.get(one.pk, "")),
        )
        for one in shown
    ]  # fmt: skip


def _failed(sittings: Sequence[Sitting]) -> dict[int, str]:
    """By sitting the kind of its last job, where that failed."""
    last: dict[int, Job] = {}
    for job in Job.objects.filter(sitting__in=sittings).order_by("pk"):
        if job.sitting_id is not None:
            last[job.sitting_id] = job
    return {pk: job.get_kind_display() for pk, job in last.items() if job.state == Job.State.FAILED}


def _attention(problems: int, rounds: int, failed: str) -> list[str]:
    said = [f"{failed} failed"] if failed else []
    if problems:
        said.append(f"{counted(problems, 'file')} to decide on")
    if rounds:
        said.append(f"{counted(rounds, 'blind round')} begun")
    return said
