"""From findings and grades to limits along ISO.

A grade falls at the first thing that goes, so the proposal does too: the limit is the last dial mark
before the first criterion fails, with the interpolated crossing and its interval behind it.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yellowjacket.core.quantity import Quantity
from yellowjacket.core.tolerance import LEVELS, Criterion, Profile

# Grades 1–5 (A clean … E lost) on to the three levels: the worst grade that still belongs to each.
WORST_GRADE = {"clean": 1, "usable": 3, "emergency": 4}
GRADE_LETTERS = "ABCDE"


@dataclass(frozen=True, slots=True)
class RungFindings:
    """What limits need of one rung: its ISO (exact and as the dial shows it) and quantities by criterion key, at the
    size of the use."""

    iso: float
    mark: int
    findings: Mapping[str, Quantity]


@dataclass(frozen=True, slots=True)
class Limit:
    """A limit along ISO for one level.

    ``mark``: last dial mark that holds, None when none does. ``crossing``: interpolated ISO where the
    criterion fails, with ``low``–``high``; None when nothing fails. ``at_least``: the ladder ended first.
    ``criterion``: label of what failed first. ``doubts``: sentences on missing or straddling rungs.
    """

    level: str
    mark: int | None
    crossing: float | None = None
    low: float | None = None
    high: float | None = None
    at_least: bool = False
    criterion: str = ""
    criterion_key: str = ""
    doubts: tuple[str, ...] = ()
    reason: str = ""


def measured_limits(rungs: Sequence[RungFindings], profile: Profile) -> dict[str, Limit]:
    """Limits per level from readings; rungs from low to high ISO."""
    return {level: _first_to_fail(rungs, profile, level) for level in LEVELS}


def _first_to_fail(rungs: Sequence[RungFindings], profile: Profile, level: str) -> Limit:
    along = [_along(rungs, criterion, level) for criterion in profile.criteria]
    found = [limit for limit in along if limit is not None]
    doubts = tuple(
        f"{criterion.label} has no readings: {_why(rungs, criterion)}"
        for criterion, limit in zip(profile.criteria, along, strict=True)
        if limit is None
    )
    if not found:
        return Limit(level, None, reason="nothing measured yet", doubts=doubts)
    first = min(found, key=lambda limit: (math.inf if limit.crossing is None else limit.crossing, limit.mark or 0))
    return Limit(
        level, first.mark, first.crossing, first.low, first.high, first.at_least, first.criterion, first.criterion_key,
        doubts + first.doubts, first.reason,
    )  # fmt: skip


def _why(rungs: Sequence[RungFindings], criterion: Criterion) -> str:
    for rung in rungs:
        quantity = rung.findings.get(criterion.key)
        if quantity is not None and quantity.reason:
            return quantity.reason
    return criterion.needs


def _along(rungs: Sequence[RungFindings], criterion: Criterion, level: str) -> Limit | None:
    """The limit by one criterion, or None when it was measured nowhere."""
    measured: list[tuple[RungFindings, Quantity]] = []
    gaps: list[int] = []
    for rung in rungs:
        quantity = rung.findings.get(criterion.key)
        if quantity is None or quantity.value is None:
            gaps.append(rung.mark)
        else:
            measured.append((rung, quantity))
    if not measured:
        return None
    threshold = criterion.threshold(level)
    for n, (_rung, quantity) in enumerate(measured):
        if criterion.holds(quantity.value, level):  # type: ignore[arg-type]
            continue
        doubts = _doubts(gaps, measured, n)
        if n == 0:
            reason = f"{criterion.label} fails on the lowest rung already"
            first_iso = measured[0][0].iso
            return Limit(level, None, first_iso, None, first_iso, False, criterion.label, criterion.key, doubts, reason)
        crossing, low, high = _crossing(measured[n - 1], measured[n], threshold, criterion.at_least)
        return Limit(level, measured[n - 1][0].mark, crossing, low, high, False, criterion.label, criterion.key, doubts)
    return Limit(level, measured[-1][0].mark, at_least=True, doubts=_doubts(gaps, measured, len(measured)))


def _doubts(gaps: Sequence[int], measured: Sequence[tuple[RungFindings, Quantity]], failed: int) -> tuple[str, ...]:
    """Rungs without a reading up to the failing one leave the limit open to doubt."""
    end = measured[failed][0].mark if failed < len(measured) else math.inf
    missing_marks = [str(mark) for mark in gaps if mark < end]
    if not missing_marks:
        return ()
    return (f"no reading at ISO {', '.join(missing_marks)}",)


def _crossing(
    before: tuple[RungFindings, Quantity], after: tuple[RungFindings, Quantity], threshold: float, at_least: bool
) -> tuple[float, float, float]:
    """ISO where the criterion meets its threshold, straight in the logarithms, and its interval.

    The interval moves both ends of the segment to their own 95 % bounds together; it is cut at one stop
    beyond the segment, past which the two rungs say nothing.
    """
    value = _log_crossing(before[0].iso, before[1].value, after[0].iso, after[1].value, threshold)
    lows = _log_crossing(before[0].iso, before[1].low, after[0].iso, after[1].low, threshold)
    highs = _log_crossing(before[0].iso, before[1].high, after[0].iso, after[1].high, threshold)
    early, late = (lows, highs) if at_least else (highs, lows)
    inside = sorted((before[0].iso, after[0].iso))
    clamp = lambda iso: min(max(iso, inside[0] / 2), inside[1] * 2)  # noqa: E731
    middle = min(max(value, inside[0]), inside[1])
    return middle, min(clamp(early), middle), max(clamp(late), middle)


def _log_crossing(
    iso_before: float, before: float | None, iso_after: float, after: float | None, threshold: float
) -> float:
    floor = 1e-3 * threshold
    first = math.log2(max(before if before is not None else floor, floor))
    second = math.log2(max(after if after is not None else floor, floor))
    if first == second:
        return math.sqrt(iso_before * iso_after)
    share = (math.log2(threshold) - first) / (second - first)
    return float(2.0 ** (math.log2(iso_before) + share * math.log2(iso_after / iso_before)))


@dataclass(frozen=True, slots=True)
class GradedRung:
    """A rung with the grade in force (1–5) or None, and the reason key given with it."""

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
        return Limit(level, None, reason="not graded yet")
    last: int | None = None
    open_marks: list[str] = []
    for rung in rungs:
        if rung.grade is None:
            open_marks.append(str(rung.mark))
            continue
        if rung.grade > WORST_GRADE[level]:
            doubts = (f"not graded at ISO {', '.join(open_marks)}",) if open_marks else ()
            reason = "" if last is not None else "the lowest graded rung is worse already"
            return Limit(level, last, criterion=rung.reason, criterion_key=rung.reason, doubts=doubts, reason=reason)
        last = rung.mark
    doubts = (f"not graded at ISO {', '.join(open_marks)}",) if open_marks else ()
    return Limit(level, last, at_least=True, doubts=doubts)


def disagreement_stops(measured: Limit, graded: Limit) -> float | None:
    """Stops from the measured to the graded limit, or None where one of them has no mark."""
    if measured.mark is None or graded.mark is None:
        return None
    return math.log2(graded.mark / measured.mark)
