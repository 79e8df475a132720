"""What of a record's surroundings was fetched already, so that it is not asked for again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TypeAlias

from yellowjacket.bench.models import Frame, Ladder, Lane
from yellowjacket.bench.models.queries.decisions import Decisions
from yellowjacket.bench.models.queries.grades import Grades
from yellowjacket.bench.push.iso_invariance import IsoReadings
from yellowjacket.bench.record.proposals import Proposal

# Of each finish that was graded its limits.
Finished: TypeAlias = Sequence[tuple[Lane, Sequence[Proposal]]]


@dataclass(frozen=True, slots=True)
class Fetched:
    """Grades in force on the ladder, the record's own decisions, the ladders of the sitting with their bodies, the ladder's
    frames with their shots, readings of the body's ISO ladders, and limits with each finish; None what was not fetched yet."""

    grades: Grades | None = None
    decisions: Decisions | None = None
    ladders: Sequence[Ladder] | None = None
    frames: Sequence[Frame] | None = None
    readings: IsoReadings | None = None
    finished: Finished | None = None


NOTHING_FETCHED = Fetched()
