"""From findings and grades to limits along ISO.

A grade falls at the first thing that goes, so the proposal does too: the limit is the last dial mark
before the first criterion fails, with the interpolated crossing and its interval behind it.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from yellowjacket.core.limits.crossing import Failure, Point, first_failure
from yellowjacket.core.limits.ending import Ended
from yellowjacket.core.limits.tolerance import LEVELS, Profile
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.notes import Missing, Note, Remark

# Grades 1–5 (A clean … E lost) on to the three levels: the worst grade that still belongs to each.
WORST_GRADE = {"clean": 1, "usable": 3, "emergency": 4}
GRADE_LETTERS = "ABCDE"
# A rung exposed so far off the plan shows another noise than its ISO has (common practice, no source).
_OFF_STOPS = 1.0


@dataclass(frozen=True, slots=True)
class RungFindings:
    """What limits need of one rung: its ISO (exact and as the dial shows it) and quantities by criterion key, at the
    size of the use. ``error_stops``: by how much it was exposed off the plan; None where that is unknown, or right."""

    iso: float
    mark: int
    findings: Mapping[str, Quantity]
    error_stops: float | None = None

    @property
    def off(self) -> bool:
        """Whether it shows another exposure than the one that is asked about."""
        return self.error_stops is not None and abs(self.error_stops) >= _OFF_STOPS


@dataclass(frozen=True, slots=True)
class Limit(Ended):
    """A limit along ISO for one level.

    ``mark``: last dial mark that holds, None when none does. ``crossing``: interpolated ISO where the
    criterion fails, with ``low``–``high``; None when nothing fails. ``at_least``: the ladder ended first.
    ``ended``: what failed first; ``why``: there is none; ``doubted``: rungs without reading or grade on the way.
    """

    level: str
    mark: int | None
    crossing: float | None = None
    low: float | None = None
    high: float | None = None
    at_least: bool = False
    ended: Note | None = None
    why: Note | None = None
    doubted: tuple[Note, ...] = ()

    @property
    def words(self) -> str:
        """As its dial mark: ISO 3200, at least ISO 102400, none; a dash where nothing tells."""
        if self.mark is None:
            return "none" if self.ended else "–"
        return f"at least ISO {self.mark}" if self.at_least else f"ISO {self.mark}"


def measured_limits(rungs: Sequence[RungFindings], profile: Profile) -> dict[str, Limit]:
    """Limits per level from readings; rungs from low to high ISO. One that was exposed a stop and more off the plan is named and
    does not decide."""
    off = [rung for rung in rungs if rung.off]
    kept = [rung for rung in rungs if not rung.off]
    points = [Point(math.log2(rung.iso), f"ISO {rung.mark}", rung.findings) for rung in kept]
    found = {level: _limit(level, kept, first_failure(points, profile, level)) for level in LEVELS}
    return {level: _with_off(limit, off) for level, limit in found.items()} if off else found


def _with_off(limit: Limit, off: Sequence[RungFindings]) -> Limit:
    """The same with the rungs named that do not decide. Where the others tell on which side of the crossing one lies, its mark
    counts."""
    named = tuple(Note(Missing.EXPOSED_OFF, (f"ISO {rung.mark}", rung.error_stops or 0.0)) for rung in off)
    before = [rung.mark for rung in off if limit.crossing is not None and rung.iso <= limit.crossing]
    mark = limit.mark if limit.mark is None else max([limit.mark, *before])
    return replace(limit, mark=mark, doubted=(*named, *limit.doubted))


def _limit(level: str, rungs: Sequence[RungFindings], found: Failure) -> Limit:
    crossing, low, high = (None if stops is None else 2.0**stops for stops in (found.stops, found.low, found.high))
    return Limit(
        level, None if found.last is None else rungs[found.last].mark, crossing, low, high, found.at_least,
        found.ended, found.why, found.doubted,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class GradedRung:
    """A rung with the grade in force (1–5) or None, and the reason given with it."""

    mark: int
    grade: int | None
    reason: str = ""


def graded_limits(rungs: Sequence[GradedRung]) -> dict[str, Limit]:
    """Limits per level from grades alone; rungs from low to high ISO.

    The limit is the last mark before the first grade worse than the level. Ungraded rungs below it are doubts.
    """
    return {level: _graded(rungs, level) for level in LEVELS}


def _graded(rungs: Sequence[GradedRung], level: str) -> Limit:
    if all(rung.grade is None for rung in rungs):
        return Limit(level, None, why=Note(Missing.NOT_GRADED))
    last: int | None = None
    open_marks: list[str] = []
    for rung in rungs:
        if rung.grade is None:
            open_marks.append(str(rung.mark))
            continue
        if rung.grade > WORST_GRADE[level]:
            ended = Note(Remark.IN_WORDS, (rung.reason,)) if rung.reason else None
            why = None if last is not None else Note(Missing.LOWEST_GRADED_WORSE)
            return Limit(level, last, ended=ended, why=why, doubted=_ungraded(open_marks))
        last = rung.mark
    return Limit(level, last, at_least=True, doubted=_ungraded(open_marks))


def _ungraded(marks: Sequence[str]) -> tuple[Note, ...]:
    return (Note(Missing.NOT_GRADED_AT, (", ".join(marks),)),) if marks else ()


def disagreement_stops(measured: Limit, graded: Limit) -> float | None:
    """Stops from the measured to the graded limit. None where one of them has no mark, where the lower one only says that its
    ladder went no further, and where rungs on the way were not graded."""
    if measured.mark is None or graded.mark is None or graded.doubted:
        return None
    lower = min((measured, graded), key=lambda one: one.mark or 0)
    if lower.at_least and measured.mark != graded.mark:
        return None
    return math.log2(graded.mark / measured.mark)
