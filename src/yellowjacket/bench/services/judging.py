"""Grades: one more row for every word said, the newest in force."""

from __future__ import annotations

from collections.abc import Mapping

from django.db.models import Max

from yellowjacket.bench.models import Grade, Ladder, Rung, Use
from yellowjacket.bench.services.errors import Refusal


def grade_rung(rung: Rung, use: Use, person: str, grade: int, *, size_percent: int, equalised: bool) -> Grade:
    """Store a grade 1–5 (A clean … E lost) of a rung for a use."""
    _check(rung, use, person)
    if not 1 <= grade <= 5:
        raise Refusal(f"A grade is 1 to 5, not {grade}.")
    return Grade.objects.create(
        rung=rung, use=use, person=person, grade=grade, size_percent=size_percent, equalised=equalised
    )


def give_reason(rung: Rung, use: Use, person: str, reason: str) -> Grade:
    """Add the reason to the grade in force; refuses when there is none yet."""
    current = current_grades(rung.ladder, person).get((rung.pk, use.pk))
    if current is None:
        raise Refusal("Give the grade first, then its reason.")
    if reason not in Grade.Reason.values:
        raise Refusal(f"There is no reason {reason!r}; there are {', '.join(Grade.Reason.values)}.")
    return Grade.objects.create(
        rung=rung, use=use, person=person, grade=current.grade, reason=reason,
        size_percent=current.size_percent, equalised=current.equalised,
    )  # fmt: skip


def take_back(rung: Rung, use: Use, person: str) -> Grade:
    """Take the grade in force back; the history keeps both rows."""
    _check(rung, use, person)
    return Grade.objects.create(rung=rung, use=use, person=person, grade=None)


def _check(rung: Rung, use: Use, person: str) -> None:
    if not person:
        raise Refusal("Say who is judging first: type a name into the field at the top.")
    if use.sitting_id != rung.ladder.sitting_id:
        raise Refusal("That use belongs to another sitting.")


def current_grades(ladder: Ladder, person: str | None = None) -> Mapping[tuple[int, int], Grade]:
    """Grades in force by (rung id, use id); of one person, or whoever spoke last."""
    rows = Grade.objects.filter(rung__ladder=ladder)
    if person is not None:
        rows = rows.filter(person=person)
    newest = rows.values("rung_id", "use_id").annotate(newest=Max("id")).values_list("newest", flat=True)
    found = Grade.objects.filter(pk__in=list(newest), grade__isnull=False)
    return {(grade.rung_id, grade.use_id): grade for grade in found}
