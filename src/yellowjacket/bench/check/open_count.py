"""How much of a sitting wants a decision, as every page of it says."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any, TypeAlias

from django.core.cache import cache
from django.db import connection
from django.db.models import Count, Max, Q, Value

from yellowjacket.bench.check.audit import GONE, audit
from yellowjacket.bench.models import Conditions, Frame, Problem, Reading, Shot, Sitting, SittingEvent
from yellowjacket.core.metrology.measurands import Measurand

# By kind of row three numbers, of which one is another after every change.
Counts: TypeAlias = Mapping[str, Sequence[int]]
_ANY_SITTING = -1


def open_count(sitting: Sitting, counts: Counts | None = None) -> int:
    """How much wants a decision, remembered until what an audit rests on changes. ``counts``: of the sitting, where
    they are known already."""
    counted = dict(counts_of(sitting) if counts is None else counts)
    problems, gone, _ = counted.pop("problems", [0, 0, 0])
    key = f"open-{sitting.pk}-{sorted(counted.items())}-{gone}".replace(" ", "")
    found = cache.get(key)
    if found is None:
        found = sum(len(audit(ladder).findings) for ladder in sitting.ladders.select_related("body"))
        cache.set(key, found)
    return int(found) + problems - gone


def counts_of(sitting: Sitting) -> Counts:
    """What changes when a planned shot, a frame, an action, a file, a noted condition or a measured finding does, in one
    query: of each kind that there is any of, three numbers."""
    sql, parameters = _counting()
    with connection.cursor() as cursor:
        cursor.execute(sql, [sitting.pk if one == _ANY_SITTING else one for one in parameters])
        return {kind: numbers for kind, *numbers in cursor.fetchall()}


@lru_cache(maxsize=1)
def _counting() -> tuple[str, tuple[Any, ...]]:
    """Words and values of that query for _ANY_SITTING: every page asks it, and to put it together takes thirty times as long as
    to answer it."""
    none = Value(0)
    of_rung = {"rung__ladder__sitting": _ANY_SITTING}
    frames, events, problems, noted = (
        model.objects.filter(sitting=_ANY_SITTING) for model in (Frame, SittingEvent, Problem, Conditions)
    )
    kinds = (
        ("shots", "rung__ladder__sitting", Shot.objects.filter(**of_rung), Count("pk"), Max("pk"), none),
        ("frames", "sitting", frames, Count("pk"), Max("pk"), Count("shot")),
        ("events", "sitting", events, Count("pk"), Count("undone_at"), none),
        ("problems", "sitting", problems, Count("pk"), Count("pk", filter=Q(code__in=list(GONE))), none),
        ("conditions", "sitting", noted, Count("pk"), Max("pk"), none),
        ("findings", "rung__ladder__sitting", Reading.objects.filter(quantity=Measurand.FLAGS, **of_rung), Count("pk"),
         Max("pk"), none),
    )  # fmt: skip
    first, *others = (
        rows.order_by().values(group).annotate(a=a, b=b, c=c).values_list(Value(kind), "a", "b", "c")
        for kind, group, rows, a, b, c in kinds
    )
    sql, parameters = first.union(*others).query.sql_with_params()
    return str(sql), tuple(parameters)
