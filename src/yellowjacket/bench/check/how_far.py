"""How far a sitting is, ladder by ladder, and what changes whenever anything of its day does: counted in one query."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, TypeAlias

from django.db import connection
from django.db.models import Count, Exists, F, Max, OuterRef, Q, QuerySet, Value
from django.db.models.expressions import Combinable

from yellowjacket.bench.intake.nameless import NAMELESS
from yellowjacket.bench.intake.originals import LOST
from yellowjacket.bench.models import (
    Conditions,
    Decision,
    Frame,
    Grade,
    Job,
    Ladder,
    Lane,
    MarkedSpot,
    OtherDecision,
    Problem,
    Reading,
    Record,
    RememberedLimit,
    Rung,
    Shot,
    Sitting,
    SittingEvent,
)
from yellowjacket.core.metrology.measurands import DARK_MEASURANDS, Measurand

# By kind of row the numbers of each ladder or of the sitting, of which one is another after every change.
Counts: TypeAlias = Mapping[str, Sequence[tuple[Any, ...]]]
_ANY_SITTING = -1
# What a look at the frames rests on.
_OF_THE_DAY = ("shots", "frames", "events", "problems", "spots", "conditions", "findings")


@dataclass(slots=True)
class LadderDone:
    """What is done of a ladder. ``lit``: rungs with light frames; ``dark``: with dark ones."""

    planned: int = 0
    taken: int = 0
    rungs: int = 0
    lit: int = 0
    measured: int = 0
    dark: int = 0
    darks_measured: int = 0
    graded: int = 0
    # Of its record the newest version, 0 without any, and who signed that; whether any version was ever signed.
    version: int = 0
    signed_by: str = ""
    signed: bool = False
    ever_signed: bool = False


@dataclass(frozen=True, slots=True)
class HowFar:
    """How far a sitting is."""

    ladders: Mapping[int, LadderDone]
    counts: Counts = field(repr=False)

    @classmethod
    def of(cls, sitting: Sitting) -> HowFar:
        """Asks the database once."""
        sql, parameters = _counting()
        rows: dict[str, list[tuple[Any, ...]]] = defaultdict(list)
        with connection.cursor() as cursor:
            cursor.execute(sql, [sitting.pk if one == _ANY_SITTING else one for one in parameters])
            for kind, *numbers in cursor.fetchall():
                rows[kind].append(tuple(numbers))
        ladders: dict[int, LadderDone] = defaultdict(LadderDone)
        for ladder, planned, _, taken in rows["shots"]:
            ladders[ladder].planned, ladders[ladder].taken = planned, taken
        for ladder, rungs, lit, measured in rows["rungs"]:
            ladders[ladder].rungs, ladders[ladder].lit, ladders[ladder].measured = rungs, lit, measured
        for ladder, measured, dark, _ in rows["darks"]:
            ladders[ladder].dark, ladders[ladder].darks_measured = dark, measured
        for ladder, graded, _, _ in rows["grades"]:
            ladders[ladder].graded = graded
        for ladder, version, signed, signed_by in sorted(rows["records"]):
            one = ladders[ladder]
            one.version, one.signed, one.signed_by = version, bool(signed), signed_by
            one.ever_signed = one.ever_signed or one.signed
        return cls(ladders, rows)

    @property
    def day(self) -> tuple[tuple[str, tuple[tuple[Any, ...], ...]], ...]:
        """What changes when a shot is planned, or a frame, an action, a file, a spot, a condition noted or a finding measured."""
        return tuple((kind, tuple(sorted(self.counts[kind]))) for kind in _OF_THE_DAY if kind in self.counts)

    def has(self, kind: str) -> bool:
        """Whether there is anything of a kind."""
        return bool(self.counts.get(kind))

    def has_of(self, kind: str, ladder: Ladder) -> bool:
        """Whether there is anything of a kind that is counted by ladder."""
        return any(row[0] == ladder.pk and row[1] for row in self.counts.get(kind, ()))

    @property
    def read(self) -> frozenset[int]:
        """Ids of the ladders that something was read of in the light."""
        return frozenset(row[0] for row in self.counts.get("read", ()))

    @property
    def extras(self) -> int:
        """Frames beside the plan."""
        return sum(every - on_a_shot for _, every, _, on_a_shot in self.counts.get("frames", ()))

    @property
    def problems(self) -> tuple[int, int]:
        """Files that were not used or are no longer what they were, and how many of them are the latter."""
        return next(((every, gone) for _, every, gone, _ in self.counts.get("problems", ())), (0, 0))

    @property
    def job_has_to_be_told(self) -> bool:
        """Whether the newest job is under way, or may have ended in a way that somebody has to read."""
        return any(newest == told for _, newest, told, _ in self.counts.get("jobs", ()))


@lru_cache(maxsize=1)
def _counting() -> tuple[str, tuple[Any, ...]]:
    """Words and values of the query for _ANY_SITTING: every page asks it, and to put it together takes thirty times as long as
    to answer it."""
    first, *others = (
        rows.order_by().values(group).annotate(a=a, b=b, c=c).values_list(Value(kind), group, "a", "b", "c")
        for kind, group, rows, a, b, c in _kinds()
    )
    sql, parameters = first.union(*others, all=True).query.sql_with_params()
    return str(sql), tuple(parameters)


def _each(filter: Q | None = None) -> Count:
    """How many, each once however many rows it was joined to."""
    return Count("pk", filter=filter, distinct=True)


def _kinds() -> Iterator[tuple[str, str, QuerySet[Any], Combinable, Combinable, Combinable]]:
    """Kinds of rows: name, by what they are grouped, of which rows, three columns."""
    none, every = Value(0), Count("pk")
    for_rungs = {"rung__ladder__sitting": _ANY_SITTING}
    of_rung, of_ladder = "rung__ladder", "ladder"
    yield "shots", of_rung, Shot.objects.filter(**for_rungs), every, Max("pk"), Count("frame")
    frames, events, problems, noted, jobs = (
        model.objects.filter(sitting=_ANY_SITTING) for model in (Frame, SittingEvent, Problem, Conditions, Job)
    )
    yield "frames", "sitting", frames, every, Max("pk"), Count("shot")
    yield "nameless", "sitting", frames.filter(NAMELESS), every, none, none
    yield "events", "sitting", events, every, Count("undone_at"), none
    yield "problems", "sitting", problems, every, Count("pk", filter=Q(code__in=LOST)), none
    spots = MarkedSpot.objects.filter(sitting=_ANY_SITTING)
    yield "spots", "sitting", spots, every, Max("pk"), Count("pk", filter=Q(ruled_out=""))
    yield "conditions", "sitting", noted, every, Max("pk"), none
    findings = Reading.objects.filter(quantity=Measurand.FLAGS, **for_rungs)
    yield "findings", of_rung, findings, every, Max("pk"), none
    rungs = Rung.objects.filter(ladder__sitting=_ANY_SITTING)
    lit = Q(shots__kind=Shot.Kind.LIGHT, shots__frame__isnull=False)
    measured = lit & ~Q(measured_inputs="")
    yield "rungs", of_ladder, rungs, _each(), _each(filter=lit), _each(filter=measured)
    dark = rungs.filter(ladder__kind=Ladder.Kind.TIME)
    in_the_dark = Q(shots__kind=Shot.Kind.DARK, shots__frame__isnull=False)
    yield "darks", of_ladder, dark, _each(filter=Q(darks__isnull=False)), _each(filter=in_the_dark), none
    yield "grades", of_rung, Grade.objects.in_force_in(_ANY_SITTING), every, Max("pk"), none
    yield "lanes", of_ladder, Lane.objects.filter(ladder__sitting=_ANY_SITTING), every, none, none
    in_light = Reading.objects.filter(rung=OuterRef("pk")).exclude(quantity__in=DARK_MEASURANDS)
    yield "read", of_ladder, rungs.filter(Exists(in_light)), every, none, none
    for kind, model in (("decisions", Decision), ("other decisions", OtherDecision)):
        yield kind, "record__ladder", model.objects.filter(record__ladder__sitting=_ANY_SITTING), every, none, none
    before = RememberedLimit.objects.filter(body__ladders__sitting=_ANY_SITTING)
    yield "remembered", "body__ladders", before, every, none, none
    records = Record.objects.filter(ladder__sitting=_ANY_SITTING)
    yield "records", of_ladder, records, F("version"), Count("signed_at"), F("signed_by")
    told = (
        Q(state__in=Job.OPEN) | Q(state__in=[Job.State.FAILED, Job.State.STOPPED]) | Q(parameters__has_key="left_out")
    )
    yield "jobs", "sitting", jobs, Max("pk"), Max("pk", filter=told), Count("pk", filter=Q(state__in=Job.OPEN))
