"""Questions to decisions."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, TypeAlias

from django.db.models import QuerySet

if TYPE_CHECKING:
    from yellowjacket.bench.models import Decision, Record

# By (use id, level).
Decisions: TypeAlias = "Mapping[tuple[int, str], Decision]"


class DecisionQuerySet(QuerySet["Decision"]):
    """Decisions of all versions of records."""

    def of(self, record: Record) -> Decisions:
        """Those of a version with their uses, by (use id, level); none of one that is not stored yet."""
        found = self.filter(record=record).select_related("use") if record.pk else ()
        return {(one.use_id, one.level): one for one in found}
