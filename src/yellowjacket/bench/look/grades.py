"""Grades: one more row for every word said, the newest in force. As is, or of a lane's pictures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass

from yellowjacket.bench.models import Grade, Ladder, Lane, Rung, Use
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.exposure.notation import with_sign
from yellowjacket.core.judging.psychometrics import kappa
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.rendering.develop import PLAIN

# Grades of the coarse scale (always, if I must, never) on the fine one.
COARSE = {1: 2, 2: 4, 3: 5}
_NOTE_LENGTH = 200
# A correction that moved by less is the same picture to the eye.
_SAME_STOPS = 0.05


@dataclass(frozen=True, slots=True)
class View:
    """What was looked at: magnification in per cent (0 is the size of the use), whether brightness was equalised, by how
    many stops that moved the picture, the push, the developer, and whether alone, side by side or on paper."""

    size_percent: int = 100
    equalised: bool = True
    moved_stops: float | None = None
    push_stops: float = 0.0
    developer: str = PLAIN
    seen: str = Grade.Seen.ALONE


def grade_rung(
    rung: Rung, use: Use, person: str, grade: int, view: View | None = None, *, lane: Lane | None = None, steps: int = 5
) -> Grade:
    """Store a grade of a rung for a use: 1–5 (A clean … E lost), or 1–3 of the coarse scale."""
    _check(rung, use, person)
    if steps not in (3, 5) or not 1 <= grade <= steps:
        raise Refusal(f"A grade is 1 to {3 if steps == 3 else 5}, not {grade}.")
    value = COARSE[grade] if steps == 3 else grade
    return Grade.objects.create(
        rung=rung, use=use, person=person, lane=lane, grade=value, steps=steps, **asdict(view or View())
    )


def give_reason(
    rung: Rung, use: Use, person: str, reason: str = "", *, note: str | None = None, lane: Lane | None = None
) -> Grade:
    """Add the reason or the note to the grade in force; refuses when there is none yet."""
    current = Grade.objects.current(rung.ladder, person, lane).get((rung.pk, use.pk))
    if current is None:
        raise Refusal("Give the grade first, then its reason.")
    if note is None and reason not in Grade.Reason.values:
        raise Refusal(f"There is no reason {reason!r}; there are {', '.join(Grade.Reason.values)}.")
    return Grade.objects.create(
        rung=rung, use=use, person=person, lane=lane, grade=current.grade, steps=current.steps,
        reason=current.reason if note is not None else reason,
        note=current.note if note is None else note.strip()[:_NOTE_LENGTH], **asdict(view_of(current)),
    )  # fmt: skip


def view_of(grade: Grade) -> View:
    """What was looked at for a grade."""
    return View(grade.size_percent, grade.equalised, grade.moved_stops, grade.push_stops, grade.developer, grade.seen)


def take_back(rung: Rung, use: Use, person: str, lane: Lane | None = None) -> Grade:
    """Take the grade in force back; the history keeps both rows."""
    _check(rung, use, person)
    return Grade.objects.create(rung=rung, use=use, person=person, lane=lane, grade=None)


def undo(ladder: Ladder, person: str) -> Grade:
    """Undo the last word said on a ladder: what was in force before it stands again. Refuses when nothing was said."""
    rows = Grade.objects.filter(rung__ladder=ladder, person=person)
    last = rows.last()
    if last is None:
        raise Refusal("There is no grade to undo.")
    before = rows.filter(rung=last.rung, use=last.use, lane=last.lane, pk__lt=last.pk).last()
    if before is None:
        return take_back(last.rung, last.use, person, last.lane)
    return Grade.objects.create(
        rung=last.rung, use=last.use, person=person, lane=last.lane, grade=before.grade, steps=before.steps,
        reason=before.reason, note=before.note, **asdict(view_of(before)),
    )  # fmt: skip


def _check(rung: Rung, use: Use, person: str) -> None:
    if not person:
        raise Refusal("Say who is judging first: type a name into the field at the top.")
    if use.sitting_id != rung.ladder.sitting_id:
        raise Refusal("That use belongs to another sitting.")


def to_look_at_again(grade: Grade, moved_stops: float | None) -> str:
    """Why a grade wants another look, or nothing: the correction that was in force has changed since."""
    if not grade.equalised or grade.moved_stops is None or moved_stops is None:
        return ""
    change = moved_stops - grade.moved_stops
    if abs(change) <= _SAME_STOPS:
        return ""
    return (
        f"graded when the picture was moved by {with_sign(grade.moved_stops)} stop; it is {with_sign(moved_stops)} now"
    )


@dataclass(frozen=True, slots=True)
class Agreement:
    """Grades of two people for a use, rung by rung, and how far they agree beyond chance."""

    one: str
    other: str
    rows: Sequence[tuple[Rung, Grade | None, Grade | None]]
    kappa: Quantity


def people_of(ladder: Ladder) -> list[str]:
    """Who graded a ladder as is, in alphabetical order."""
    names = Grade.objects.filter(rung__ladder=ladder, lane=None, grade__isnull=False).order_by("person")
    return list(names.values_list("person", flat=True).distinct())


def agreement(ladder: Ladder, use: Use, one: str, other: str) -> Agreement:
    """Two people's grades side by side, with Cohen's kappa weighted by squared distance."""
    first, second = Grade.objects.current(ladder, one), Grade.objects.current(ladder, other)
    rows = [(rung, first.get((rung.pk, use.pk)), second.get((rung.pk, use.pk))) for rung in ladder.rungs.all()]
    both = [(a.grade, b.grade) for _, a, b in rows if a is not None and b is not None]
    return Agreement(one, other, rows, kappa([a or 0 for a, _ in both], [b or 0 for _, b in both]))
