"""What of a record's surroundings was fetched already, so that it is not asked for again."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TypeAlias

from yellowjacket.bench.check.how_far import HowFar
from yellowjacket.bench.models import Frame, Ladder, Lane
from yellowjacket.bench.models.queries.decisions import Decisions
from yellowjacket.bench.models.queries.grades import Grades
from yellowjacket.bench.push.iso_invariance import IsoReadings
from yellowjacket.bench.record.proposals import Proposal

# Of each finish that was graded its limits.
Finished: TypeAlias = Sequence[tuple[Lane, Sequence[Proposal]]]


@dataclass(frozen=True, slots=True)
class Fetched:
    """Grades in force on the ladder by lane, the record's own decisions, the ladders of the sitting with their bodies, the
    ladder's frames with their shots, readings of the body's ISO ladders, limits with each finish, and how far the sitting is;
    None what was not fetched yet."""

    by_lane: Mapping[int | None, Grades] | None = None
    decisions: Decisions | None = None
    ladders: Sequence[Ladder] | None = None
    frames: Sequence[Frame] | None = None
    readings: IsoReadings | None = None
    finished: Finished | None = None
    so_far: HowFar | None = None

    @property
    def grades(self) -> Grades | None:
        """Those as is."""
        return None if self.by_lane is None else self.by_lane.get(None, {})

    def may_have(self, kind: str, ladder: Ladder) -> bool:
        """Whether there may be something of a kind for a ladder, so that it has to be asked for."""
        return self.so_far is None or self.so_far.has_of(kind, ladder)

    @property
    def read(self) -> frozenset[int] | None:
        """Ids of the ladders that something was read of in the light; None where that was not fetched."""
        return None if self.so_far is None else self.so_far.read


NOTHING_FETCHED = Fetched()
