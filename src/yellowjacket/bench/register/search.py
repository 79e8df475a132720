"""Finding what was kept: bodies, sittings, notes and file names by a few words."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import reduce
from itertools import islice
from operator import or_
from typing import Any

from django.db.models import Q, QuerySet

from yellowjacket.bench.models import Body, Frame, Grade, MarkedSpot, Record, Sitting, SittingEvent

MOST = 30
_SHORTEST = 2


@dataclass(frozen=True, slots=True)
class Hit:
    """Something found: what it is, its words, and the sitting or body it leads to."""

    what: str
    words: str
    sitting: Sitting | None = None
    body: Body | None = None
    step: str = "record"


@dataclass(frozen=True, slots=True)
class Found:
    """What was found, at most MOST of each kind; ``more``: whether there would be others."""

    hits: list[Hit]
    more: bool = False


def find(text: str) -> Found:
    """Everything in which all words of the text stand, bodies and sittings first, these by the bodies tested too; too little
    text finds nothing."""
    words = text.split()
    if sum(map(len, words)) < _SHORTEST:
        return Found([])

    def having(rows: QuerySet[Any], *fields: str) -> QuerySet[Any]:
        # A condition for each word: two words may be of two bodies of one sitting.
        for word in words:
            rows = rows.filter(reduce(or_, (Q(**{f"{field}__icontains": word}) for field in fields)))
        return rows

    bodies = having(Body.objects.all(), "make", "model", "serial", "nickname", "setting_notes")
    tested = ("ladders__body__make", "ladders__body__model", "ladders__body__serial", "ladders__body__nickname")
    sittings = having(
        Sitting.objects.all(), "name", "scene", "question", "expectation", "lens", "light", *tested
    ).distinct()
    records = having(Record.objects.select_related("ladder__sitting"), "note", "answer", "signed_by")
    grades = having(Grade.objects.exclude(note="").select_related("rung__ladder__sitting"), "note")
    spots = having(MarkedSpot.objects.select_related("sitting"), "name", "note")
    events = having(SittingEvent.objects.exclude(text="").filter(undone_at=None).select_related("sitting"), "text")
    frames = having(Frame.objects.defer("report").select_related("sitting"), "path")
    # Words of a folder's name would find every file in it: the file's own name must have one.
    named = (one for one in frames[: 10 * MOST] if any(word.lower() in one.file_name.lower() for word in words))
    few = slice(MOST + 1)
    every: list[Iterable[Hit]] = [
        (Hit("body", f"{one} {one.serial}".strip(), body=one) for one in bodies[few]),
        (Hit("sitting", f"{one.name}, {one.held_on:%-d %b %Y}: {one.question}", one, step="plan") for one in sittings[few]),
        (Hit("record", one.answer or one.note, one.ladder.sitting) for one in records[few]),
        (Hit("grade", f"{one.rung}: {one.note}", one.rung.ladder.sitting, step="look") for one in grades[few]),
        (Hit("spot", f"{one.name} {one.note}".strip(), one.sitting, step="look") for one in spots[few]),
        (Hit("log", one.text, one.sitting, step="shoot") for one in events[few]),
        (Hit("file", one.file_name, one.sitting, step="check") for one in islice(named, MOST + 1)),
    ]  # fmt: skip
    kinds = [list(kind) for kind in every]
    return Found([hit for kind in kinds for hit in kind[:MOST]], any(len(kind) > MOST for kind in kinds))
