"""Frames against plan: every problem on its rung. What is done about it is in ``remedies``."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from itertools import pairwise
from math import log2

from yellowjacket.bench.check.claims import claims_of, says_lenr
from yellowjacket.bench.intake.originals import OriginalState
from yellowjacket.bench.models import (
    Frame,
    Ladder,
    MarkedSpot,
    Reading,
    Rung,
    Shot,
)
from yellowjacket.bench.models.queries.readings import Said
from yellowjacket.bench.shoot.conditions import temperature_drifts
from yellowjacket.core.colour.colorimetry import rgb_of
from yellowjacket.core.exposure.dial import exact_exposure_s
from yellowjacket.core.exposure.notation import with_sign
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Remark
from yellowjacket.core.raw.frame_report import (
    FrameReport,
    exposure_stops,
    frame_is_soft,
    full_share,
    is_softer,
    locked_up,
    lockup_gap_s,
    report_from,
    sharpness_ratio,
    shift_px,
    spot_sharpness,
    structure_at,
)

# Exposure may lie this far from the plan (docs/methods.md).
EXPOSURE_TOLERANCE_STOPS = 1 / 6
# Repeats of one rung differ by less under steady light.
_REPEATS_TOLERANCE_STOPS = 0.05
# Frames may move by so many raw pixels before the same patch is another place.
_MOVED_PX = 4.0
# Noise alone moves the peak by a sixth of a thumbnail cell at the highest ISO (measured).
_MOVED_CELLS = 0.4
# Whole frames further apart in exposure are not held against each other for their structure.
_COMPARABLE_STOPS = 1.5
# Fine structure below this share of the reference is softer; noise adds to its scatter at high ISO.
_SOFT_SHARE = 0.85
_SURE_SE = 4.0
_CLIPPED_SHARE = 0.2
# So many rungs with one finding are decided at once.
_RUN_OF = 3
_DARK_SHARE = 0.9
# White balance of the file against the reference's.
_NEUTRAL_SHARE = 0.01
# A longer gap is a break, not a lock-up.
_LONGEST_GAP_S = 3600


@dataclass(frozen=True, slots=True)
class Finding:
    """Something about a rung that wants a decision. ``short`` stands in the sheet, ``text`` is the sentence."""

    code: str
    rung: Rung
    short: str
    text: str
    shot: Shot | None = None
    frame: Frame | None = None
    spot: MarkedSpot | None = None


@dataclass(frozen=True, slots=True)
class RungAudit:
    """What the looks at a rung's light frames say against the reference: the worst of its frames."""

    error_stops: float | None = None
    moved_px: float | None = None
    sharpness: float | None = None
    clipped_share: float | None = None

    @property
    def clipped_away(self) -> bool:
        """Whether so much clips that the exposure cannot be told."""
        return self.error_stops is None and (self.clipped_share or 0.0) > _CLIPPED_SHARE


@dataclass(frozen=True, slots=True)
class Run:
    """Rungs of a ladder that want the same decision, three and more."""

    code: str
    short: str
    rungs: tuple[Rung, ...]


@dataclass(frozen=True, slots=True)
class Audit:
    """A ladder audited: values by rung id, findings in the order of the rungs."""

    rungs: dict[int, RungAudit] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()

    def of(self, rung: Rung) -> list[Finding]:
        """Findings of one rung."""
        return [finding for finding in self.findings if finding.rung.pk == rung.pk]

    @property
    def runs(self) -> list[Run]:
        """What whole runs of rungs have in common, so that it is decided once."""
        by_code: dict[str, dict[int, Finding]] = {}
        for finding in self.findings:
            by_code.setdefault(finding.code, {}).setdefault(finding.rung.pk, finding)
        return [
            Run(code, next(iter(found.values())).short, tuple(one.rung for one in found.values()))
            for code, found in by_code.items()
            if len(found) >= _RUN_OF
        ]


def audit(ladder: Ladder, known: Sequence[Shot] | None = None, flags: Iterable[Said] | None = None) -> Audit:
    """Hold every frame of a ladder against its shot and against the reference frame; no file is opened. ``known``: its shots with
    their rungs and frames, ``flags``: what measuring remarked on its rungs, where they are known already."""
    rungs = list(ladder.rungs.all())
    of_ladder = Shot.objects.filter(rung__ladder=ladder).select_related("rung", "frame") if known is None else known
    shots = sorted(of_ladder, key=lambda shot: shot.order)
    light: dict[int, list[Frame]] = defaultdict(list)
    for shot in shots:
        frame = _frame_of(shot)
        if frame is not None and shot.kind == Shot.Kind.LIGHT:
            light[shot.rung_id].append(frame)
    reference = _reference(ladder, rungs, light, flags)
    findings: list[Finding] = [*_missing(shots), *_originals(ladder, shots)]
    if reference is not None:
        findings += _soft_from_the_start(reference)
    values: dict[int, RungAudit] = {}
    for rung in rungs:
        if reference is None or rung.pk not in light:
            continue
        values[rung.pk], found = _rung_audit(rung, light[rung.pk], reference)
        findings += found
    taken: dict[int, list[Frame]] = defaultdict(list)
    for shot in shots:
        frame = _frame_of(shot)
        if frame is not None:
            taken[shot.rung_id].append(frame)
    for rung in rungs:
        for frames, claim in claims_of(ladder, rung, taken[rung.pk]):
            who = frames[0].file_name + (f" (and {len(frames) - 1} more)" if len(frames) > 1 else "")
            findings.append(_of(frames[0], rung, claim.code, claim.short, f"{who} {claim.text}"))
    findings += _lockups(ladder, [shot for shot in shots if not says_lenr(taken[shot.rung_id])])
    if ladder.kind == Ladder.Kind.TIME:
        findings += _warmed(ladder)
    positions = {rung.pk: rung.position for rung in rungs}
    findings = [one for one in findings if f"{one.code}:{one.rung.key}" not in ladder.let_be]
    findings.sort(key=lambda finding: positions[finding.rung.pk])
    return Audit(values, tuple(findings))


def _frame_of(shot: Shot) -> Frame | None:
    return getattr(shot, "frame", None)


@dataclass(frozen=True, slots=True)
class _Reference:
    frame: Frame
    report: FrameReport
    expected_stops: float
    rung: Rung
    # Where focus is watched; spots that were soft from the start are not.
    spots: tuple[MarkedSpot, ...] = ()
    # Rungs whose raw was found to be smoothed.
    smoothed: frozenset[int] = frozenset()


def _reference(
    ladder: Ladder, rungs: Sequence[Rung], light: dict[int, list[Frame]], flags: Iterable[Said] | None
) -> _Reference | None:
    """The first frame of the reference rung, or of the nearest rung that has one."""
    with_frames = [rung for rung in rungs if light.get(rung.pk) and light[rung.pk][0].report]
    if not with_frames:
        return None
    wanted = ladder.reference_rung(rungs)
    rung = min(with_frames, key=lambda rung: abs(rung.position - wanted.position))
    frame = light[rung.pk][0]
    if flags is None:
        flags = Reading.objects.filter(rung__in=rungs, quantity=Measurand.FLAGS).said()
    smoothed = frozenset(row.rung_id for row in flags if row.result.has(Remark.SMOOTHED_HERE))
    spots = _in_focus(spot for spot in ladder.sitting.marked_spots.all() if spot.body_id == ladder.body_id)
    return _Reference(frame, report_from(frame.report), rung.expected_stops, rung, spots, smoothed)


def _in_focus(marked: Iterable[MarkedSpot]) -> tuple[MarkedSpot, ...]:
    return tuple(spot for spot in marked if not spot.ruled_out)


def _soft_from_the_start(reference: _Reference) -> Iterator[Finding]:
    """Spots, or without any the whole frame, that hold nothing fine in the very frame others are held against."""
    name = reference.frame.file_name
    for spot in reference.spots:
        structure = structure_at(reference.report, spot.x, spot.y)
        if structure is not None and structure.soft:
            text = f"“{spot}” is soft from the start in {name}: detail cannot be judged on it"
            yield Finding("soft-start", reference.rung, "soft spot", text, reference.frame.shot, spot=spot)
    if not reference.spots and frame_is_soft(reference.report):
        text = f"{name} holds nothing finer than about four pixels: focus was never there. Focus, and begin again"
        yield _of(reference.frame, reference.rung, "soft-start", "soft from the start", text)


def _warmed(ladder: Ladder) -> Iterator[Finding]:
    """The rung furthest from the temperature the ladder began at."""
    drifts = temperature_drifts(ladder)
    if drifts:
        shot, now, first = max(drifts, key=lambda drift: abs(drift[1] - drift[2]))
        text = f"noted {now:g} °C here and {first:g} °C at first: the dark signal drifts with it. Rest longer, or let it be"
        yield Finding("temperature", shot.rung, f"{now - first:+.1f} °C".replace("-", "−"), text, shot)


def _missing(shots: Sequence[Shot]) -> Iterator[Finding]:
    """Shots without a frame on a ladder that has any."""
    if not any(_frame_of(shot) for shot in shots):
        return
    for shot in shots:
        if _frame_of(shot) is None and not shot.skipped:
            text = f"{shot.kind} frame {shot.repeat} is not in"
            yield Finding("missing", shot.rung, "missing", text, shot)


# What is said of a file that is no longer what was imported, by the code of its problem.
GONE = {OriginalState.MISSING: "file gone", OriginalState.CHANGED: "file changed"}


def _originals(ladder: Ladder, shots: Sequence[Shot]) -> Iterator[Finding]:
    """Frames whose files were found gone or changed when they were last to be used."""
    noted = {one.path or one.file_name: one for one in ladder.sitting.problems.all() if one.code in GONE}
    for shot in shots:
        frame = _frame_of(shot)
        one = noted.get(frame.path) or noted.get(frame.file_name) if frame is not None else None
        if frame is not None and one is not None:
            yield _of(frame, shot.rung, one.code, GONE[OriginalState(one.code)], str(one))


def _rung_audit(rung: Rung, frames: Sequence[Frame], reference: _Reference) -> tuple[RungAudit, list[Finding]]:
    found: list[Finding] = []
    errors: list[float] = []
    moves: list[float] = []
    sharp: list[float] = []
    smooth = rung.pk in reference.smoothed
    clipped: list[float] = []
    # Frames of older versions were never looked at: they are left out together with the look they lack.
    looked_at = [(frame, report_from(frame.report)) for frame in frames if frame.report]
    for frame, report in looked_at:
        # A camera's own curve moves brightness by more than a plan allows: its pictures tell no exposure.
        measured = None if frame.mosaic_layout.rendered else exposure_stops(report, reference.report)
        if measured is not None:
            error = measured - (rung.expected_stops - reference.expected_stops)
            errors.append(error)
            if abs(error) > EXPOSURE_TOLERANCE_STOPS:
                text = f"{frame.file_name} is {with_sign(error)} stop off the plan"
                found.append(_of(frame, rung, "exposure", f"{with_sign(error)} stop", text))
        found += _moved(frame, rung, report, reference, moves)
        softer = list(_softer(frame, rung, report, reference, sharp))
        # What the raw smooths is no fault of focus.
        found += [] if smooth else softer
        full = max(report.clipped_share, full_share(report, reference.report))
        clipped.append(full)
        found += _levels(frame, rung, report, full)
        found += _neutral(frame, rung, reference.frame)
    found += _repeats(rung, looked_at)
    worst = max(errors, key=abs, default=None)
    return RungAudit(worst, max(moves, default=None), min(sharp, default=None), max(clipped, default=None)), found


def _of(frame: Frame, rung: Rung, code: str, short: str, text: str) -> Finding:
    return Finding(code, rung, short, text, frame.shot, frame)


def _softer(
    frame: Frame, rung: Rung, report: FrameReport, reference: _Reference, sharp: list[float]
) -> Iterator[Finding]:
    """Fine structure on the marked spots; over the whole frame where none is marked."""
    of = f"of the fine structure of {reference.frame.file_name}"
    for spot in reference.spots:
        found = spot_sharpness(report, reference.report, spot.x, spot.y)
        if found is not None:
            ratio, se = found
            sharp.append(ratio)
            if ratio + _SURE_SE * se < _SOFT_SHARE:
                text = f"{frame.file_name} has {ratio * 100:.0f} % {of} on “{spot}”: focus or shake"
                yield _of(frame, rung, "soft", "softer", text)
    apart = exposure_stops(report, reference.report)
    # Far from the reference's exposure other parts of the picture stand out of noise, or are cut off where most is full: their
    # structure is another one. So is that of noise reduction, or of another raw mode.
    comparable = apart is not None and abs(apart) <= _COMPARABLE_STOPS and rung.value == reference.rung.value
    ratio_whole = sharpness_ratio(report, reference.report) if comparable else None
    if not reference.spots and ratio_whole is not None:
        sharp.append(ratio_whole)
        if is_softer(report, reference.report, _SOFT_SHARE):
            text = f"{frame.file_name} has {ratio_whole * 100:.0f} % {of}: focus or shake"
            yield _of(frame, rung, "soft", "softer", text)


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


def _levels(frame: Frame, rung: Rung, report: FrameReport, clipped: float) -> Iterator[Finding]:
    if clipped > _CLIPPED_SHARE and rung.expected_stops < 1:
        yield _of(frame, rung, "clipped", "clipped", f"{frame.file_name}: {clipped * 100:.0f} % of it is clipped")
    if report.dark_share > _DARK_SHARE and rung.expected_stops > -3:
        yield _of(frame, rung, "black", "near black", f"{frame.file_name} is nearly black: capped, or far too short")


def _neutral(frame: Frame, rung: Rung, reference: Frame) -> Iterator[Finding]:
    if not frame.neutral or not reference.neutral:
        return
    if any(abs(one / other - 1) > _NEUTRAL_SHARE for one, other in zip(frame.neutral, reference.neutral, strict=True)):
        text = f"{frame.file_name} has another white balance than {reference.file_name}: fix it in the menu"
        yield _of(frame, rung, "white-balance", "white balance", text)


def _repeats(rung: Rung, looked_at: Sequence[tuple[Frame, FrameReport]]) -> Iterator[Finding]:
    for frame, report in looked_at[1:]:
        first, first_report = looked_at[0]
        change = exposure_stops(report, first_report)
        if change is not None and abs(change) > _REPEATS_TOLERANCE_STOPS:
            text = f"{frame.file_name} got {with_sign(change)} stop against {first.file_name}: the light changed"
            yield _of(frame, rung, "light", "light changed", text)


def _lockups(ladder: Ladder, shots: Sequence[Shot]) -> Iterator[Finding]:
    """LENR that was left on, or off: whether the body was busy as long again after the long exposures of a rung."""
    timed = [(shot, frame) for shot in shots if (frame := _frame_of(shot)) is not None and frame.captured_at]
    timed.sort(key=lambda pair: pair[1].captured_at)
    rest_s = float(ladder.spec.get("rest_s", 0.0))
    gaps: dict[int, list[float]] = defaultdict(list)
    for (shot, frame), (_, after) in pairwise(timed):
        moments = [datetime.fromisoformat(one.captured_at) for one in (frame, after)]
        seconds = exact_exposure_s(shot.rung.exposure_s)
        gaps[shot.rung_id].append(lockup_gap_s(moments[0], moments[1], seconds) - rest_s)
    rungs = {shot.rung_id: shot.rung for shot in shots}
    free = {rung_id: (exact_exposure_s(rungs[rung_id].exposure_s), min(found)) for rung_id, found in gaps.items()}
    handling = min(free.values(), default=(0.0, 0.0))
    for rung_id, (seconds, gap) in free.items():
        rung = rungs[rung_id]
        busy = locked_up(seconds, gap, handling)
        if busy and not rung.lenr:
            text = f"the body was busy {gap:.0f} s after the exposure: LENR seems to be on"
            yield Finding("lenr", rung, "LENR on?", text)
        elif rung.lenr and busy is False and (ladder.body.lenr_from_s or 0) <= rung.exposure_s:
            text = f"the next release came {gap:.0f} s after the exposure: LENR seems off"
            yield Finding("lenr", rung, "LENR off?", text)


@dataclass(frozen=True, slots=True)
class Landed:
    """The light frame that came in last, what a look at it says, and what wants a decision."""

    frame: Frame
    text: str
    findings: tuple[Finding, ...]


def landed(ladder: Ladder, of_sitting: Sequence[Shot], marked: Iterable[MarkedSpot]) -> Landed | None:
    """The newest light frame of a ladder against its reference; None while there is none. ``of_sitting``: shots of its sitting,
    with their rungs, ladders and frames; ``marked``: spots on the body's frames."""
    shots = [shot for shot in of_sitting if shot.rung.ladder_id == ladder.pk]
    light = [shot for shot in shots if shot.kind == Shot.Kind.LIGHT and _frame_of(shot) is not None]
    if not light:
        return None
    shot = max(light, key=lambda one: one.frame.pk)
    wanted = ladder.reference_rung(list(ladder.rungs.all()))
    of_reference = [one for one in light if one.rung_id == wanted.pk]
    held_against = (
        min(of_reference, key=lambda one: one.repeat) if of_reference else min(light, key=lambda one: one.order)
    )
    other = _beside_other_body(ladder, shot, of_sitting)
    newest, first = shot.frame, held_against.frame
    Frame.objects.fetch_reports([newest, first, *([other.frame] if other else [])])
    if not newest.report or not first.report:
        return None
    reference = _Reference(
        first, report_from(first.report), held_against.rung.expected_stops, held_against.rung, _in_focus(marked)
    )
    values, findings = _rung_audit(shot.rung, [newest], reference)
    parts = []
    if values.error_stops is not None and newest.pk != first.pk:
        parts.append(f"{with_sign(values.error_stops)} stop from the plan")
    parts.append(f"{(values.clipped_share or 0.0) * 100:.2f} % clipped")
    if values.sharpness is not None and newest.pk != first.pk:
        where = " on the marked spots" if reference.spots else ""
        parts.append(f"fine structure{where} {share_in_words(values.sharpness)}")
    if newest.pk == first.pk:
        findings += _soft_from_the_start(reference)
    parts += [*_gap_before(shot, shots), *_against(other, shot)]
    return Landed(newest, ", ".join(parts), tuple(findings))


def share_in_words(sharpness: float) -> str:
    """Fine structure as a share of the reference's; where noise covers it, what is left after noise was taken off may come out
    below nothing."""
    return f"{sharpness * 100:.0f} % of the reference" if sharpness > 0 else "covered by noise"


def _gap_before(shot: Shot, shots: Sequence[Shot]) -> Iterator[str]:
    """How long the body had been free before this release, by the files' own clock: a lock-up shows at once."""
    at = shot.frame.captured_at
    earlier = [
        one for one in shots if (frame := _frame_of(one)) is not None and frame.captured_at and frame.captured_at < at
    ]
    if not earlier:
        return
    before = max(earlier, key=lambda one: one.frame.captured_at)
    seconds = exact_exposure_s(before.rung.exposure_s)
    gap = lockup_gap_s(datetime.fromisoformat(before.frame.captured_at), datetime.fromisoformat(at), seconds)
    if 0 <= gap < _LONGEST_GAP_S:
        yield f"released {gap:.0f} s after the previous exposure ended"
        if locked_up(seconds, gap, (seconds, gap)) and not before.rung.lenr:
            yield "as long again as that exposure: is LENR on?"


def _beside_other_body(ladder: Ladder, shot: Shot, of_sitting: Sequence[Shot]) -> Shot | None:
    """The newest shot of another body at the same settings that is in; None without any."""
    rung = shot.rung
    same = (shot.kind, rung.iso, rung.exposure_s, ladder.f_number, rung.lamp_stops)
    found = [
        one for one in of_sitting
        if _frame_of(one) is not None and one.rung.ladder.body_id != ladder.body_id
        and (one.kind, one.rung.iso, one.rung.exposure_s, one.rung.ladder.f_number, one.rung.lamp_stops) == same
    ]  # fmt: skip
    return max(found, key=lambda one: one.frame.pk, default=None)


def _against(other: Shot | None, shot: Shot) -> Iterator[str]:
    """Brightness against another body's frame of the same settings, as shares of each one's range."""
    if other is None or shot.frame.report.get("level_dn") is None or not other.frame.report.get("level_dn"):
        return
    stops = log2(_range_share(shot.frame) / _range_share(other.frame))
    yield f"{with_sign(stops, 2)} stop against {other.rung.ladder.body.model} at the same settings"


def _range_share(frame: Frame) -> float:
    black = rgb_of(frame.black_dn)[1]
    return float(frame.report["level_dn"]) / (frame.white_dn - black)
