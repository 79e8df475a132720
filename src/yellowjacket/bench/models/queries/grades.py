"""Questions to grades."""

from __future__ import annotations

from collections.abc import Mapping

from django.db.models import Max

from yellowjacket.bench.models import Grade, Ladder, Lane


def current_grades(
    ladder: Ladder, person: str | None = None, lane: Lane | None = None
) -> Mapping[tuple[int, int], Grade]:
    """Grades in force by (rung id, use id), as is or of a lane; of one person, or whoever spoke last."""
    rows = Grade.objects.filter(rung__ladder=ladder, lane=lane)
    if person is not None:
        rows = rows.filter(person=person)
    newest = rows.values("rung_id", "use_id").annotate(newest=Max("id")).values_list("newest", flat=True)
    found = Grade.objects.filter(pk__in=list(newest), grade__isnull=False)
    return {(grade.rung_id, grade.use_id): grade for grade in found}
