"""Questions to the readings."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from operator import itemgetter
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

from django.db.models import Q, QuerySet, TextField, Value
from django.db.models.functions import Cast

from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA, EXPOSURE_CRITERIA
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand

if TYPE_CHECKING:
    from yellowjacket.bench.models import Reading, Rung, Use  # noqa: F401 - named in the class below

# Beside the criteria a limit looks at how far a rung was exposed off the plan.
EXPOSURE_ERROR = "exposure_error"
# What limits look at, by quantity the key of its criterion.
LOOKED_AT = {criterion.quantity: criterion.key for criterion in (*DEFAULT_CRITERIA, *EXPOSURE_CRITERIA)} | {
    Measurand.EXPOSURE_ERROR_STOPS: EXPOSURE_ERROR
}
# Quantities by criterion key, by use (None: per pixel) and rung.
Findings: TypeAlias = Mapping[int | None, Mapping[int, Mapping[str, Quantity]]]


class Said(NamedTuple):
    """What one reading says, and of what; ``patch``: its name, None of the whole rung."""

    pk: int
    rung_id: int
    use_id: int | None
    patch: str | None
    quantity: str
    channel: str
    result: Quantity


@dataclass(frozen=True, slots=True)
class Spoken:
    """What stands for rungs: by use (None: per pixel), rung id and quantity."""

    rows: Mapping[int | None, Mapping[int, Mapping[Measurand, Quantity]]]

    @classmethod
    def of(cls, readings: Iterable[Said]) -> Spoken:
        """Of several readings of one quantity of a rung the first stands."""
        found: dict[int | None, dict[int, dict[Measurand, Quantity]]] = {}
        for one in readings:
            found.setdefault(one.use_id, {}).setdefault(one.rung_id, {}).setdefault(Measurand(one.quantity), one.result)
        return cls(found)

    @property
    def per_pixel(self) -> Mapping[int, Mapping[Measurand, Quantity]]:
        """By rung id and quantity, whatever the use."""
        return self.rows.get(None, {})

    def findings(self, rungs: Iterable[Rung]) -> Findings:
        """What limits look at, of some of the rungs."""
        wanted = {rung.pk for rung in rungs}
        found: dict[int | None, dict[int, dict[str, Quantity]]] = {}
        for use_id, of_use in self.rows.items():
            for rung_id, said in of_use.items():
                named = {LOOKED_AT[quantity]: result for quantity, result in said.items() if quantity in LOOKED_AT}
                if named and rung_id in wanted:
                    found.setdefault(use_id, {})[rung_id] = named
        return found


# As text: nearly all have no notes, and to decode each of thousands takes as long as to read it.
_RESULT = ("value", "low", "high", "n", Cast("notes", TextField()))
_SAID = ("pk", "rung_id", "use_id", "patch__name", "quantity", "channel", *_RESULT)


def _result(value: float | None, low: float | None, high: float | None, n: int, notes: str) -> Quantity:
    """What ``_RESULT`` fetched."""
    return Quantity.from_plain((value, low, high, n, () if notes == "[]" else json.loads(notes)))


class ReadingQuerySet(QuerySet["Reading"]):
    """Readings, and what they say of rungs."""

    def speaking(self, quantities: Iterable[Measurand]) -> ReadingQuerySet:
        """Of each quantity the reading that stands for its rung, as the registry says: of the rung or of a patch's role, in
        one channel."""
        asked = list(quantities)
        # Many stand in one place: to put a question of so many alternatives together takes longer than to answer it.
        by_place: dict[tuple[str, str], list[Measurand]] = {}
        for quantity in asked:
            known = quantity.described
            by_place.setdefault((known.role, known.channel), []).append(quantity)
        found = Q(pk__in=[])
        for (role, channel), standing in by_place.items():
            place = Q(patch__role=role) if role else Q(patch=None)
            found |= Q(place, quantity__in=standing, channel=channel)
        # Said once more, as the index is by rung and quantity: alternatives alone have every reading of a rung looked at.
        return self.filter(found, quantity__in=asked)

    def quantities(self, *fields: str) -> Iterator[tuple[Any, ...]]:
        """Of each reading the ``fields`` asked for, and last what it says: no more is fetched, pages look at hundreds."""
        for *named, value, low, high, n, notes in self.values_list(*fields, *_RESULT):
            yield (*named, _result(value, low, high, n, notes))

    def by_rung(self) -> dict[int, dict[Measurand, Quantity]]:
        """By rung id and quantity, in one query; of several of one quantity the first."""
        found: dict[int, dict[Measurand, Quantity]] = {}
        for rung_id, quantity, result in self.quantities("rung_id", "quantity"):
            found.setdefault(rung_id, {}).setdefault(Measurand(quantity), result)
        return found

    def said(self) -> list[Said]:
        """What each reading says, in the order they were made; one query."""
        return self.in_one({"": self})[""]

    def in_one(self, asked: Mapping[str, ReadingQuerySet]) -> dict[str, list[Said]]:
        """The answers to several questions by name, in one query, none without any: each is answered by an index of its own."""
        if not asked:
            return {}
        first, *others = (readings.order_by().values_list(Value(name), *_SAID) for name, readings in asked.items())
        found: dict[str, list[Said]] = {name: [] for name in asked}
        # Thousands of rows where many patches were read: nothing else is made of them.
        rows = first.union(*others, all=True) if others else first
        for name, pk, rung, use, patch, quantity, channel, *plain in rows:
            found[name].append(Said(pk, rung, use, patch, quantity, channel, _result(*plain)))
        for answer in found.values():
            answer.sort(key=itemgetter(0))
        return found

    def of_limits(self, rungs: Sequence[Rung]) -> ReadingQuerySet:
        """What limits look at, and what was remarked on a rung."""
        return self.speaking((*LOOKED_AT, Measurand.FLAGS)).filter(rung__in=rungs)

    def findings_by_use(self, rungs: Sequence[Rung]) -> Findings:
        """Quantities by criterion key for every rung and use (None: per pixel), in one query."""
        return Spoken.of(self.speaking(LOOKED_AT).filter(rung__in=rungs).said()).findings(rungs)


def at_use(findings: Findings, use: Use, rung: Rung) -> dict[str, Quantity]:
    """What a profile looks at of a rung, at a use's size; what does not depend on size, and uses no smaller, per pixel."""
    return {**findings.get(None, {}).get(rung.pk, {}), **findings.get(use.pk, {}).get(rung.pk, {})}
