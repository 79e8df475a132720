"""Questions to grades."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, TypeAlias

from django.db.models import Max, QuerySet

if TYPE_CHECKING:
    from yellowjacket.bench.models import Grade, Ladder, Lane

# By (rung id, use id).
Grades: TypeAlias = "Mapping[tuple[int, int], Grade]"


class GradeQuerySet(QuerySet["Grade"]):
    """Grades, earlier and in force."""

    def current(self, ladder: Ladder, person: str | None = None, lane: Lane | None = None) -> Grades:
        """Grades in force by (rung id, use id), as is or of a lane; of one person, or whoever spoke last."""
        rows = self.filter(rung__ladder=ladder, lane=lane)
        if person is not None:
            rows = rows.filter(person=person)
        return {(grade.rung_id, grade.use_id): grade for grade in self._in_force(rows)}

    def by_lane(self, ladders: Sequence[Ladder], person: str | None = None) -> dict[int | None, Grades]:
        """Grades in force on ladders by the id of their lane, None as is, and (rung id, use id); of one person, or whoever spoke
        last. One query."""
        rows = self.filter(rung__ladder__in=ladders)
        if person is not None:
            rows = rows.filter(person=person)
        found: dict[int | None, dict[tuple[int, int], Grade]] = {}
        for grade in self._in_force(rows, "lane_id"):
            found.setdefault(grade.lane_id, {})[grade.rung_id, grade.use_id] = grade
        return dict(found)

    def in_force_in(self, sitting: int) -> GradeQuerySet:
        """Grades in force on all ladders of a sitting as they are, one of every rung and use that has any, whoever spoke last.
        ``sitting``: its id."""
        return self._in_force(self.filter(rung__ladder__sitting=sitting, lane=None))

    def _in_force(self, rows: GradeQuerySet, *also: str) -> GradeQuerySet:
        """The newest of every rung and use among ``rows``, and of what else is told apart, but for those that were taken back."""
        newest = rows.order_by().values("rung_id", "use_id", *also).annotate(newest=Max("id")).values("newest")
        return self.filter(pk__in=newest, grade__isnull=False)
