"""Along a ladder of stops: which criterion of a profile fails first, and where."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from yellowjacket.core.limits.ending import Ended, fails, without_reading
from yellowjacket.core.limits.tolerance import Criterion, Profile
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.notes import Missing, Note


@dataclass(frozen=True, slots=True)
class Point:
    """A rung on its way to failing: how far along in stops, its name, and quantities by criterion key."""

    stops: float
    name: str
    findings: Mapping[str, Quantity]


@dataclass(frozen=True, slots=True)
class Failure(Ended):
    """Where a level ends. ``last``: index of the last point that holds, None when none does.

    ``stops``: interpolated place of the failure with ``low``–``high``, None when nothing fails. ``at_least``: the ladder
    ended first. ``ended``: the criterion that failed; ``why``: none holds; ``doubted``: points without a reading up to there.
    """

    last: int | None
    stops: float | None = None
    low: float | None = None
    high: float | None = None
    at_least: bool = False
    ended: Note | None = None
    why: Note | None = None
    doubted: tuple[Note, ...] = ()


def first_failure(points: Sequence[Point], profile: Profile, level: str) -> Failure:
    """The first criterion to fail along the points, which go from the best to the worst."""
    barred = next((note for criterion in profile.criteria if (note := _barred(points, criterion)) is not None), None)
    if barred is not None:
        # What the files cannot say might have failed anywhere: no limit is made of the rest.
        return Failure(None, why=barred)
    along = [_along(points, criterion, level) for criterion in profile.criteria]
    found = [failure for failure in along if failure is not None]
    doubts = tuple(
        without_reading(criterion, _why(points, criterion))
        for criterion, failure in zip(profile.criteria, along, strict=True)
        if failure is None and not _idle(points, criterion)
    )
    if not found:
        return Failure(None, why=Note(Missing.NOTHING_MEASURED), doubted=doubts)
    first = min(
        found,
        key=lambda one: (math.inf if one.stops is None else one.stops, -1 if one.last is None else one.last),
    )
    return replace(first, doubted=doubts + first.doubted)


# Reasons that lie in the kind of file: no rung shot anew would change them.
_BARS = (Missing.DEMOSAICED, Missing.CAMERA_PICTURE)


def _barred(points: Sequence[Point], criterion: Criterion) -> Note | None:
    """Why the files can never tell a criterion, None where they can."""
    for point in points:
        quantity = point.findings.get(criterion.key)
        if quantity is not None and not quantity.known and quantity.has(*_BARS):
            return quantity.notes[0]
    return None


def _idle(points: Sequence[Point], criterion: Criterion) -> bool:
    """Whether a criterion of colour meets a sensor that sees none: there is nothing to doubt."""
    found = [point.findings.get(criterion.key) for point in points]
    return any(one is not None and one.has(Missing.NO_COLOUR_FILTERS) for one in found)


def _why(points: Sequence[Point], criterion: Criterion) -> str:
    for point in points:
        quantity = point.findings.get(criterion.key)
        if quantity is not None and not quantity.known and quantity.reason:
            return quantity.reason
    return criterion.needs


def _along(points: Sequence[Point], criterion: Criterion, level: str) -> Failure | None:
    """Where one criterion fails, or None when it was measured nowhere."""
    measured: list[tuple[int, Quantity]] = []
    gaps: list[int] = []
    for n, point in enumerate(points):
        quantity = point.findings.get(criterion.key)
        if quantity is None or quantity.value is None:
            gaps.append(n)
        else:
            measured.append((n, quantity))
    if not measured:
        return None

    def doubts(end: int) -> tuple[Note, ...]:
        """Points without a reading up to the failing one leave the limit open to doubt."""
        names = [points[n].name for n in gaps if n < end]
        return (Note(Missing.NO_READING_AT, (", ".join(names),)),) if names else ()

    threshold = criterion.threshold(level)
    for place, (n, quantity) in enumerate(measured):
        if criterion.holds(quantity.value, level):  # type: ignore[arg-type]
            continue
        if place == 0:
            why = Note(Missing.FAILS_ON_LOWEST if n == 0 else Missing.FAILS_ON_FIRST, (criterion.label,))
            at = points[n].stops
            return Failure(None, at, None, at, False, fails(criterion), why, doubts(n))
        before = measured[place - 1]
        stops, low, high = _crossing(
            points[before[0]].stops, before[1], points[n].stops, quantity, threshold, criterion.at_least
        )
        return Failure(before[0], stops, low, high, False, fails(criterion), doubted=doubts(n))
    return Failure(measured[-1][0], at_least=True, doubted=doubts(len(points)))


def _crossing(
    at_before: float, before: Quantity, at_after: float, after: Quantity, threshold: float, at_least: bool
) -> tuple[float, float, float]:
    """Stops where the criterion meets its threshold, straight in its logarithm, and the interval.

    The interval moves both ends of the segment to their own 95 % bounds together; it is cut at one stop beyond the
    segment, past which the two rungs say nothing.
    """
    value, lows, highs = (
        _meets(at_before, one, at_after, other, threshold)
        for one, other in ((before.value, after.value), (before.low, after.low), (before.high, after.high))
    )
    early, late = (lows, highs) if at_least else (highs, lows)
    begin, end = sorted((at_before, at_after))
    middle = min(max(value, begin), end)
    return middle, min(max(early, begin - 1), middle), max(min(late, end + 1), middle)


def _meets(at_before: float, before: float | None, at_after: float, after: float | None, threshold: float) -> float:
    floor = 1e-3 * threshold
    first = math.log2(max(before if before is not None else floor, floor))
    second = math.log2(max(after if after is not None else floor, floor))
    if first == second:
        return (at_before + at_after) / 2
    return at_before + (math.log2(threshold) - first) / (second - first) * (at_after - at_before)
