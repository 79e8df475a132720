"""Frames against plan: every problem on its rung, and the remedies."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from itertools import pairwise

from django.core.cache import cache
from django.db import transaction
from django.db.models import Count, Max

from yellowjacket.bench.models import Frame, Ladder, Problem, Rung, Shot, Sitting, SittingEvent
from yellowjacket.bench.services import daylog
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.bench.services.frames import add_frame
from yellowjacket.bench.services.measuring import reference_rung
from yellowjacket.core.audit import (
    FrameReport,
    exposure_stops,
    is_softer,
    lockup_gap_s,
    report_from,
    sharpness_ratio,
    shift_px,
)
from yellowjacket.core.frames import FrameError
from yellowjacket.core.inspection import inspect_file
from yellowjacket.core.stops import exact_exposure_s, format_stops

# Exposure may lie this far from the plan (docs/methods.md).
EXPOSURE_TOLERANCE_STOPS = 1 / 6
# Repeats of one rung differ by less under steady light.
_REPEATS_TOLERANCE_STOPS = 0.05
# Frames may move by so many raw pixels before the same patch is another place.
_MOVED_PX = 4.0
# Noise alone moves the peak by a sixth of a thumbnail cell at the highest ISO (measured).
_MOVED_CELLS = 0.4
# Fine structure below this share of the reference is softer; noise adds to its scatter at high ISO.
_SOFT_SHARE = 0.85
_CLIPPED_SHARE = 0.2
_DARK_SHARE = 0.9
# White balance of the file against the reference's.
_NEUTRAL_SHARE = 0.01
# LENR shows from exposures of this length on; shorter lock-ups drown in handling.
_LENR_FROM_S = 4.0
# A lock-up is at least this share of the exposure: files are stamped in whole seconds.
_LOCKUP_SHARE = 0.9


@dataclass(frozen=True, slots=True)
class Finding:
    """Something about a rung that wants a decision. ``short`` stands in the sheet, ``text`` is the sentence."""

    code: str
    rung: Rung
    short: str
    text: str
    shot: Shot | None = None
    frame: Frame | None = None


@dataclass(frozen=True, slots=True)
class RungAudit:
    """What the looks at a rung's light frames say against the reference: the worst of its frames."""

    error_stops: float | None = None
    moved_px: float | None = None
    sharpness: float | None = None
    clipped_share: float | None = None


@dataclass(frozen=True, slots=True)
class Audit:
    """A ladder audited: values by rung id, findings in the order of the rungs."""

    rungs: dict[int, RungAudit] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()

    def of(self, rung: Rung) -> list[Finding]:
        """Findings of one rung."""
        return [finding for finding in self.findings if finding.rung.pk == rung.pk]


def audit(ladder: Ladder) -> Audit:
    """Hold every frame of a ladder against its shot and against the reference frame; no file is opened."""
    rungs = list(ladder.rungs.all())
    shots = list(Shot.objects.filter(rung__ladder=ladder).select_related("rung", "frame").order_by("order"))
    light: dict[int, list[Frame]] = defaultdict(list)
    for shot in shots:
        frame = _frame_of(shot)
        if frame is not None and shot.kind == Shot.Kind.LIGHT:
            light[shot.rung_id].append(frame)
    reference = _reference(ladder, rungs, light)
    findings: list[Finding] = list(_missing(shots))
    values: dict[int, RungAudit] = {}
    for rung in rungs:
        if reference is None or rung.pk not in light:
            continue
        values[rung.pk], found = _rung_audit(rung, light[rung.pk], reference)
        findings += found
    findings += _lockups(ladder, shots)
    positions = {rung.pk: rung.position for rung in rungs}
    findings.sort(key=lambda finding: positions[finding.rung.pk])
    return Audit(values, tuple(findings))


def open_count(sitting: Sitting) -> int:
    """How much wants a decision, remembered until a frame, a file or an action changes it."""
    frames = Frame.objects.filter(sitting=sitting).aggregate(count=Count("pk"), last=Max("pk"), placed=Count("shot"))
    events = sitting.events.aggregate(count=Count("pk"), undone=Count("undone_at"))
    key = f"open-{sitting.pk}-{sorted(frames.items())}-{sorted(events.items())}".replace(" ", "")
    found = cache.get(key)
    if found is None:
        found = sum(len(audit(ladder).findings) for ladder in sitting.ladders.select_related("body"))
        cache.set(key, found)
    return int(found) + sitting.problems.count()


def _frame_of(shot: Shot) -> Frame | None:
    return getattr(shot, "frame", None)


@dataclass(frozen=True, slots=True)
class _Reference:
    frame: Frame
    report: FrameReport
    expected_stops: float


def _reference(ladder: Ladder, rungs: Sequence[Rung], light: dict[int, list[Frame]]) -> _Reference | None:
    """The first frame of the reference rung, or of the nearest rung that has one."""
    with_frames = [rung for rung in rungs if light.get(rung.pk) and light[rung.pk][0].report]
    if not with_frames:
        return None
    wanted = reference_rung(ladder, rungs)
    rung = min(with_frames, key=lambda rung: abs(rung.position - wanted.position))
    frame = light[rung.pk][0]
    return _Reference(frame, report_from(frame.report), rung.expected_stops)


def _missing(shots: Sequence[Shot]) -> Iterator[Finding]:
    """Shots without a frame on a ladder that has any."""
    if not any(_frame_of(shot) for shot in shots):
        return
    for shot in shots:
        if _frame_of(shot) is None and not shot.skipped:
            text = f"{shot.kind} frame {shot.repeat} is not in"
            yield Finding("missing", shot.rung, "missing", text, shot)


def _rung_audit(rung: Rung, frames: Sequence[Frame], reference: _Reference) -> tuple[RungAudit, list[Finding]]:
    found: list[Finding] = []
    errors: list[float] = []
    moves: list[float] = []
    sharp: list[float] = []
    clipped: list[float] = []
    reports = [report_from(frame.report) for frame in frames if frame.report]
    for frame, report in zip(frames, reports, strict=False):
        measured = exposure_stops(report, reference.report)
        if measured is not None:
            error = measured - (rung.expected_stops - reference.expected_stops)
            errors.append(error)
            if abs(error) > EXPOSURE_TOLERANCE_STOPS:
                text = f"{frame.file_name} is {format_stops(error)} stop off the plan"
                found.append(_of(frame, rung, "exposure", f"{format_stops(error)} stop", text))
        found += _moved(frame, rung, report, reference, moves)
        ratio = sharpness_ratio(report, reference.report)
        if ratio is not None:
            sharp.append(ratio)
            if is_softer(report, reference.report, _SOFT_SHARE):
                share = f"{ratio * 100:.0f} % of the fine structure of {reference.frame.file_name}"
                text = f"{frame.file_name} has {share}: focus or shake"
                found.append(_of(frame, rung, "soft", "softer", text))
        clipped.append(report.clipped_share)
        found += _levels(frame, rung, report)
        found += _neutral(frame, rung, reference.frame)
    found += _repeats(rung, frames, reports)
    worst = max(errors, key=abs, default=None)
    return RungAudit(worst, max(moves, default=None), min(sharp, default=None), max(clipped, default=None)), found


def _of(frame: Frame, rung: Rung, code: str, short: str, text: str) -> Finding:
    return Finding(code, rung, short, text, frame.shot, frame)


def _moved(
    frame: Frame, rung: Rung, report: FrameReport, reference: _Reference, moves: list[float]
) -> Iterator[Finding]:
    shift = shift_px(report, reference.report)
    if shift is None:
        return
    distance = float((shift[0] ** 2 + shift[1] ** 2) ** 0.5)
    moves.append(distance)
    if distance > max(_MOVED_PX, _MOVED_CELLS * report.cell_px):
        text = (
            f"{frame.file_name} lies {distance:.0f} px from {reference.frame.file_name}: the camera or the scene moved"
        )
        yield _of(frame, rung, "moved", "moved", text)


def _levels(frame: Frame, rung: Rung, report: FrameReport) -> Iterator[Finding]:
    if report.clipped_share > _CLIPPED_SHARE and rung.expected_stops < 1:
        yield _of(
            frame, rung, "clipped", "clipped", f"{frame.file_name}: {report.clipped_share * 100:.0f} % of it is clipped"
        )
    if report.dark_share > _DARK_SHARE and rung.expected_stops > -3:
        yield _of(frame, rung, "black", "near black", f"{frame.file_name} is nearly black: capped, or far too short")


def _neutral(frame: Frame, rung: Rung, reference: Frame) -> Iterator[Finding]:
    if not frame.neutral or not reference.neutral:
        return
    if any(abs(one / other - 1) > _NEUTRAL_SHARE for one, other in zip(frame.neutral, reference.neutral, strict=True)):
        text = f"{frame.file_name} has another white balance than {reference.file_name}: fix it in the menu"
        yield _of(frame, rung, "white-balance", "white balance", text)


def _repeats(rung: Rung, frames: Sequence[Frame], reports: Sequence[FrameReport]) -> Iterator[Finding]:
    for n in range(1, len(reports)):
        change = exposure_stops(reports[n], reports[0])
        if change is not None and abs(change) > _REPEATS_TOLERANCE_STOPS:
            text = f"{frames[n].file_name} got {format_stops(change)} stop against {frames[0].file_name}: the light changed"
            yield _of(frames[n], rung, "light", "light changed", text)


def _lockups(ladder: Ladder, shots: Sequence[Shot]) -> Iterator[Finding]:
    """LENR that was left on: the body was busy as long again after every long exposure of a rung."""
    timed = [(shot, frame) for shot in shots if (frame := _frame_of(shot)) is not None and frame.captured_at]
    timed.sort(key=lambda pair: pair[1].captured_at)
    rest_s = float(ladder.spec.get("rest_s", 0.0))
    gaps: dict[int, list[float]] = defaultdict(list)
    for (shot, frame), (_, after) in pairwise(timed):
        seconds = exact_exposure_s(shot.rung.exposure_s)
        if seconds >= _LENR_FROM_S:
            moments = [datetime.fromisoformat(one.captured_at) for one in (frame, after)]
            gaps[shot.rung_id].append(lockup_gap_s(moments[0], moments[1], seconds) - rest_s)
    rungs = {shot.rung_id: shot.rung for shot in shots}
    for rung_id, found in gaps.items():
        rung = rungs[rung_id]
        busy = min(found) >= _LOCKUP_SHARE * exact_exposure_s(rung.exposure_s)
        if busy and not rung.lenr:
            yield Finding(
                "lenr",
                rung,
                "LENR on?",
                f"the body was busy {min(found):.0f} s after the exposure: LENR seems to be on",
            )
        elif rung.lenr and not busy and (ladder.body.lenr_from_s or 0) <= rung.exposure_s:
            yield Finding(
                "lenr",
                rung,
                "LENR off?",
                f"the next release came {min(found):.0f} s after the exposure: LENR seems off",
            )


@dataclass(frozen=True, slots=True)
class Landed:
    """The light frame that came in last, what a look at it says, and what wants a decision."""

    frame: Frame
    text: str
    findings: tuple[Finding, ...]


def landed(ladder: Ladder) -> Landed | None:
    """The newest light frame of a ladder against its reference; None while there is none."""
    frames = Frame.objects.filter(shot__rung__ladder=ladder, shot__kind=Shot.Kind.LIGHT).select_related("shot__rung")
    newest = frames.order_by("-id").first()
    if newest is None or newest.shot is None or not newest.report:
        return None
    rungs = list(ladder.rungs.all())
    wanted = reference_rung(ladder, rungs)
    first = frames.filter(shot__rung=wanted).order_by("shot__repeat").first() or frames.order_by("shot__order").first()
    if first is None or first.shot is None or not first.report:
        return None
    reference = _Reference(first, report_from(first.report), first.shot.rung.expected_stops)
    values, findings = _rung_audit(newest.shot.rung, [newest], reference)
    parts = []
    if values.error_stops is not None and newest.pk != first.pk:
        parts.append(f"{format_stops(values.error_stops)} stop from the plan")
    parts.append(f"{(values.clipped_share or 0.0) * 100:.2f} % clipped")
    if values.sharpness is not None and newest.pk != first.pk:
        parts.append(f"fine structure {values.sharpness * 100:.0f} % of the reference")
    return Landed(newest, ", ".join(parts), tuple(findings))


# Remedies.


def keep_as_extra(frame: Frame, reason: str = "kept beside the plan") -> SittingEvent:
    """Take a frame off its shot and keep it; the shot is free again."""
    return _off_its_shot(frame, SittingEvent.Kind.EXTRA, Frame.Standing.EXTRA, reason)


def exclude(frame: Frame, reason: str) -> SittingEvent:
    """Leave a frame out of everything, with the reason; the file stays where it is."""
    if not reason.strip():
        raise Refusal("Say why the frame is left out.")
    return _off_its_shot(frame, SittingEvent.Kind.EXCLUDED, Frame.Standing.EXCLUDED, reason)


def reshoot(frame: Frame) -> SittingEvent:
    """Free the shot so that it comes up on the Shoot page again; the frame is kept as extra."""
    return _off_its_shot(frame, SittingEvent.Kind.RESHOOT, Frame.Standing.EXTRA, "to be shot again")


def _off_its_shot(frame: Frame, kind: str, standing: str, reason: str) -> SittingEvent:
    shot = frame.shot
    if shot is None:
        raise Refusal(f"{frame.file_name} is on no shot.")
    text = f"{frame.file_name} off {shot.rung} {shot.kind} {shot.repeat}: {reason.strip()[:100]}"
    values = {"shot_id": None, "standing": standing, "standing_reason": reason.strip()[:120]}
    return daylog.act(frame.sitting, kind, text, [(frame, values), (shot, {"taken_at": None})], shot=shot)


@transaction.atomic
def assign_problem(problem: Problem, shot: Shot) -> SittingEvent:
    """Put a file that did not fit by itself on a shot: the tester's word over the file's.

    Refuses shots that are taken and files that cannot be read.
    """
    _must_be_free(shot)
    if not problem.path:
        raise Refusal(f"{problem.file_name} was not stored; import it again.")
    try:
        facts = inspect_file(problem.path)
    except FrameError as error:
        raise Refusal(str(error)) from error
    overrides = _overrides(shot, facts.metadata.iso, facts.metadata.exposure_s, facts.metadata.f_number)
    frame = add_frame(problem.sitting, facts, shot, keep_problems=True)
    if not isinstance(frame, Frame):
        raise Refusal(str(frame))
    Frame.objects.filter(pk=frame.pk).update(overrides=overrides)
    text = f"{problem.file_name} on {shot.rung} {shot.kind} {shot.repeat}"
    return daylog.act(problem.sitting, SittingEvent.Kind.ASSIGNED, text, shot=shot, created=frame, removed=problem)


def assign_frame(frame: Frame, shot: Shot) -> SittingEvent:
    """Put a frame that was kept as extra on a shot."""
    _must_be_free(shot)
    text = f"{frame.file_name} on {shot.rung} {shot.kind} {shot.repeat}"
    values = {
        "shot_id": shot.pk, "standing": Frame.Standing.USED, "standing_reason": "",
        "overrides": _overrides(shot, frame.iso, frame.exposure_s, frame.f_number),
    }  # fmt: skip
    return daylog.act(frame.sitting, SittingEvent.Kind.ASSIGNED, text, [(frame, values)], shot=shot)


def _must_be_free(shot: Shot) -> None:
    if Frame.objects.filter(shot=shot).exists():
        raise Refusal(f"{shot} has a frame. Keep that one as extra first.")


def _overrides(shot: Shot, iso: int | None, exposure_s: float | None, f_number: float | None) -> dict[str, float]:
    """What the plan says where the file says something else; both are kept."""
    ladder = shot.rung.ladder
    planned = {"iso": shot.rung.iso, "exposure_s": shot.rung.exposure_s, "f_number": ladder.f_number}
    said = {"iso": iso, "exposure_s": exposure_s, "f_number": f_number}
    return {name: value for name, value in planned.items() if said[name] != value}


def free_shots(sitting: Sitting) -> list[Shot]:
    """Shots without a frame, for choosing where a file belongs."""
    shots = Shot.objects.filter(rung__ladder__sitting=sitting, frame__isnull=True).select_related("rung__ladder__body")
    return list(shots.order_by("order"))
