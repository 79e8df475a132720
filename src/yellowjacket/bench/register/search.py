"""Finding what was kept: bodies, sittings, notes and file names by a few words."""

from __future__ import annotations

from dataclasses import dataclass
from functools import reduce
from operator import and_

from django.db.models import Q

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


def find(text: str) -> list[Hit]:
    """Everything in which all words of the text stand, bodies and sittings first; too little text finds nothing."""
    words = [word for word in text.split() if word]
    if sum(map(len, words)) < _SHORTEST:
        return []

    def all_in(*fields: str) -> Q:
        return reduce(
            and_, (reduce(lambda a, b: a | b, (Q(**{f"{f}__icontains": word}) for f in fields)) for word in words)
        )

    hits = [
        Hit("body", f"{body} {body.serial}".strip(), body=body)
        for body in Body.objects.filter(all_in("make", "model", "serial", "nickname", "setting_notes"))[:MOST]
    ]
    hits += [
        Hit("sitting", f"{one.name}, {one.held_on:%-d %b %Y}: {one.question}", one, step="plan")
        for one in Sitting.objects.filter(all_in("name", "scene", "question", "expectation", "lens", "light"))[:MOST]
    ]
    records = Record.objects.filter(all_in("note", "answer", "signed_by")).select_related("ladder__sitting")
    hits += [Hit("record", one.answer or one.note, one.ladder.sitting) for one in records[:MOST]]
    grades = Grade.objects.exclude(note="").filter(all_in("note")).select_related("rung__ladder__sitting")
    hits += [Hit("grade", f"{one.rung}: {one.note}", one.rung.ladder.sitting, step="look") for one in grades[:MOST]]
    spots = MarkedSpot.objects.filter(all_in("name", "note")).select_related("sitting")
    hits += [Hit("spot", f"{one.name} {one.note}".strip(), one.sitting, step="look") for one in spots[:MOST]]
    events = SittingEvent.objects.exclude(text="").filter(all_in("text"), undone_at=None).select_related("sitting")
    hits += [Hit("log", one.text, one.sitting, step="shoot") for one in events[:MOST]]
    frames = Frame.objects.filter(all_in("path")).defer("report").select_related("sitting")
    # Words of a folder's name would find every file in it: the file's own name must have one.
    named = [one for one in frames[: 10 * MOST] if any(word.lower() in one.file_name.lower() for word in words)]
    hits += [Hit("file", one.file_name, one.sitting, step="check") for one in named[:MOST]]
    return hits
