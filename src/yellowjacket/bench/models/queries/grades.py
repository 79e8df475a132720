"""Questions to grades."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from django.db.models import Max, QuerySet

if TYPE_CHECKING:
    from yellowjacket.bench.models import Grade, Ladder, Lane


class GradeQuerySet(QuerySet["Grade"]):
    """Grades, earlier and in force."""

    def current(
        self, ladder: Ladder, person: str | None = None, lane: Lane | None = None
    ) -> Mapping[tuple[int, int], Grade]:
        """Grades in force by (rung id, use id), as is or of a lane; of one person, or whoever spoke last."""
        rows = self.filter(rung__ladder=ladder, lane=lane)
        if person is not None:
            rows = rows.filter(person=person)
        newest = rows.order_by().values("rung_id", "use_id").annotate(newest=Max("id")).values("newest")
        found = self.filter(pk__in=newest, grade__isnull=False)
        return {(grade.rung_id, grade.use_id): grade for grade in found}
