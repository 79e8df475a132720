"""How a limit ends, typed: what failed, why there is none, what leaves it open to doubt; words for people are made here."""

from __future__ import annotations

from yellowjacket.core.limits.tolerance import Criterion
from yellowjacket.core.metrology.notes import Missing, Note, Remark


def fails(criterion: Criterion) -> Note:
    """That this criterion failed first."""
    return Note(Remark.CRITERION_FAILS, (criterion.key, criterion.label))


class Ended:
    """Of a limit whose ``ended``, ``why`` and ``doubted`` are typed: the same in words."""

    __slots__ = ()
    ended: Note | None
    why: Note | None
    doubted: tuple[Note, ...]

    @property
    def criterion(self) -> str:
        """What failed first; empty where nothing did."""
        return str(self.ended) if self.ended else ""

    @property
    def criterion_key(self) -> str:
        """Key of the criterion that failed; empty where something else ended it, or nothing."""
        failed = self.ended is not None and self.ended.kind is Remark.CRITERION_FAILS
        return str(self.ended.details[0]) if failed and self.ended else ""

    @property
    def reason(self) -> str:
        """Why there is no limit; empty where there is one."""
        return str(self.why) if self.why else ""

    @property
    def doubts(self) -> tuple[str, ...]:
        """What was not read or graded on the way to it."""
        return tuple(map(str, self.doubted))


def without_reading(criterion: Criterion, why: str) -> Note:
    """The doubt that a criterion was measured nowhere."""
    return Note(Missing.CRITERION_WITHOUT_READINGS, (criterion.label, why))
