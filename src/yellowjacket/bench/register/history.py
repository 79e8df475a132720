"""A body over firmware and time: its signed limits, and what changed by more than its uncertainty."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from yellowjacket.bench.models import Body, Record

_LEVEL = "usable"


@dataclass(frozen=True, slots=True)
class Entry:
    """A signed record in the life of a body: decided marks by use, firmware, and what is different from the one before."""

    record: Record
    firmware: str
    marks: Mapping[str, str]
    changes: tuple[str, ...]
    steady: tuple[str, ...]


def of_body(body: Body) -> list[Entry]:
    """Signed records of a body, newest first; of every ladder the newest version."""
    newest: dict[int, Record] = {}
    rows = Record.objects.filter(ladder__body=body, signed_at__isnull=False).select_related("ladder__sitting")
    for record in rows.order_by("version"):
        newest[record.ladder_id] = record
    ordered = sorted(newest.values(), key=lambda one: (one.ladder.sitting.held_on, one.pk))
    entries: list[Entry] = []
    before: Record | None = None
    for record in ordered:
        marks = {
            decision.use.name: str(decision.iso or "none")
            for decision in record.decisions.filter(level=_LEVEL).select_related("use").order_by("use__position")
        }
        changes, steady = _against(before, record) if before else ((), ())
        entries.append(Entry(record, _firmware(record), marks, changes, steady))
        before = record
    return entries[::-1]


def _firmware(record: Record) -> str:
    versions = record.evidence.get("conditions", {}).get("firmware") or []
    return ", ".join(map(str, versions))


def _measured(record: Record) -> dict[str, Mapping[str, Any]]:
    """Measured usable limits by use, as they stood when it was signed."""
    return {one["use"]: one["measured"] for one in record.evidence.get("proposals", []) if one["level"] == _LEVEL}


def changed(before: Record, after: Record) -> tuple[str, ...]:
    """What changed significantly from one record to the next, use by use."""
    return _against(before, after)[0]


def _against(before: Record, after: Record) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """What changed significantly and what did not: the intervals of both crossings decide."""
    changes, steady = [], []
    old, new = _measured(before), _measured(after)
    for use in old.keys() & new.keys():
        one, other = old[use], new[use]
        if not (one.get("crossing") and other.get("crossing")):
            continue
        stops = math.log2(other["crossing"] / one["crossing"])
        apart = _low(other) > _high(one) or _high(other) < _low(one)
        if apart:
            changes.append(f"{use}: {stops:+.1f} stop{'s' if abs(stops) >= 1.5 else ''}".replace("-", "−"))
        else:
            steady.append(use)
    return tuple(sorted(changes)), tuple(sorted(steady))


def _low(limit: Mapping[str, Any]) -> float:
    return float(limit.get("low") or limit["crossing"])


def _high(limit: Mapping[str, Any]) -> float:
    return float(limit.get("high") or limit["crossing"])
