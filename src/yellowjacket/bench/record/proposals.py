"""Limits as measured and as graded, side by side."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from yellowjacket.bench.models import Frame, Grade, Ladder, Lane, Reading, Rung, Shot, Use
from yellowjacket.bench.models.queries.grades import Grades
from yellowjacket.bench.models.queries.readings import EXPOSURE_ERROR, Findings, at_use
from yellowjacket.core.exposure import dial
from yellowjacket.core.limits.iso_limits import (
    GradedRung,
    Limit,
    RungFindings,
    disagreement_stops,
    graded_limits,
    measured_limits,
)
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.notes import Missing, Note

# Measured and graded further apart than this are pointed out (the trade's own bar, docs/methods.md).
DISAGREE_STOPS = 1.0


@dataclass(frozen=True, slots=True)
class Proposal:
    """Measured and graded limit of one use and level beside each other."""

    use: Use
    level: str
    measured: Limit
    graded: Limit
    apart_stops: float | None

    @property
    def proposed(self) -> Limit | None:
        """What is accepted unless the tester decides otherwise: as measured, else as graded; None where neither tells."""
        told = (one for one in (self.measured, self.graded) if one.mark is not None or one.ended is not None)
        return next(told, None)

    @property
    def disagree(self) -> bool:
        """Whether eye and numbers differ by more than a stop."""
        return self.apart_stops is not None and abs(self.apart_stops) > DISAGREE_STOPS


def proposals(
    ladder: Ladder, lane: Lane | None = None, grades: Grades | None = None, findings: Findings | None = None,
    frames: Iterable[Frame] | None = None,
) -> list[Proposal]:  # fmt: skip
    """Every use and level, measured and graded; none for ladders that do not run along ISO.

    ``lane``: graded with a finish instead of as is; measured stays as is, a finish has no raw readings. ``grades``: those in
    force, ``findings``: of its rungs, ``frames``: its own with their shots, where they are known already.
    """
    if ladder.kind != Ladder.Kind.ISO:
        return []
    rungs = list(ladder.rungs.all())
    findings = Reading.objects.findings_by_use(rungs) if findings is None else findings
    grades = Grade.objects.current(ladder, lane=lane) if grades is None else grades
    by_eye = not findings and _pictures_only(ladder, frames)
    result = []
    for use in ladder.sitting.uses.all():
        measured = (
            {level: Limit(level, None, why=Note(Missing.JUDGED_BY_EYE)) for level in LEVELS}
            if by_eye
            else measured_of(ladder, use, rungs, findings)
        )
        graded = graded_limits([_graded(rung, grades.get((rung.pk, use.pk))) for rung in rungs])
        result += [
            Proposal(use, level, measured[level], graded[level], disagreement_stops(measured[level], graded[level]))
            for level in LEVELS
        ]
    return result


def with_finishes(
    ladder: Ladder, findings: Findings | None = None, given: Mapping[int | None, Grades] | None = None,
    frames: Iterable[Frame] | None = None,
) -> list[tuple[Lane, list[Proposal]]]:  # fmt: skip
    """The same with each finish of a ladder that was graded. ``findings``: of its rungs, ``given``: grades in force by lane,
    ``frames``: its own with their shots, where they are known already."""
    lanes = list(ladder.lanes.all())
    if given is None:
        given = Grade.objects.by_lane([ladder]) if lanes else {}
    return [(lane, proposals(ladder, lane, given[lane.pk], findings, frames)) for lane in lanes if lane.pk in given]


def _pictures_only(ladder: Ladder, frames: Iterable[Frame] | None = None) -> bool:
    """Whether its frames are camera pictures, whose noise has been through a converter."""
    if frames is None:
        first = Frame.objects.filter(shot__rung__ladder=ladder, shot__kind=Shot.Kind.LIGHT).defer("report").first()
    else:
        lit = [frame for frame in frames if frame.shot is not None and frame.shot.kind == Shot.Kind.LIGHT]
        first = min(lit, key=lambda frame: frame.pk, default=None)
    return first is not None and first.mosaic_layout.rendered


def measured_of(ladder: Ladder, use: Use, rungs: Sequence[Rung], findings: Findings) -> Mapping[str, Limit]:
    """The measured limits of a use by level. ``findings``: what ``findings_by_use`` says of the ladder's ``rungs``."""
    return measured_limits(
        [rung_findings(ladder, rung, at_use(findings, use, rung)) for rung in rungs],
        ladder.sitting.profile.criteria.seen_in(monochrome=use.monochrome),
    )


def rung_findings(ladder: Ladder, rung: Rung, found: dict[str, Quantity]) -> RungFindings:
    """A rung as limits see it, with its exposure error unless the tester let that be."""
    error = found.get(EXPOSURE_ERROR)
    right = error is None or f"exposure:{rung.key}" in ladder.let_be
    return RungFindings(dial.exact_iso(rung.iso), rung.iso, found, None if right or error is None else error.value)


def _graded(rung: Rung, grade: Grade | None) -> GradedRung:
    if grade is None:
        return GradedRung(rung.iso, None)
    return GradedRung(rung.iso, grade.grade, grade.get_reason_display())
