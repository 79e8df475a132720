"""A sitting in open formats: readings as CSV, everything as JSON. Described in docs/exports.md."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator

from yellowjacket.bench.csv_cells import safe_text
from yellowjacket.bench.exchange.document_types import (
    SCHEMA,
    FramePart,
    GradePart,
    LadderPart,
    LanePart,
    ReadingPart,
    RecordPart,
    SittingDocument,
    UsePart,
    VerdictPart,
)
from yellowjacket.bench.models import (
    Frame,
    Grade,
    Ladder,
    Lane,
    PairVerdict,
    Reading,
    Record,
    Sitting,
    Use,
)
from yellowjacket.bench.plan.sittings import UseSpec
from yellowjacket.bench.record.evidence import conditions, proposed

CSV_COLUMNS = (
    "sitting", "body", "serial", "iso", "exposure_s", "f_number", "patch", "role", "use", "channel", "quantity", "unit",
    "value", "low", "high", "n", "excluded", "reason", "method",
)  # fmt: skip
_CHUNK_ROWS = 500


def readings_csv(sitting: Sitting) -> Iterator[str]:
    """The readings of a sitting, one row each, in pieces."""
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    writer.writerow(CSV_COLUMNS)
    rows = Reading.objects.filter(rung__ladder__sitting=sitting).select_related("rung__ladder__body", "patch", "use")
    for n, reading in enumerate(rows.iterator(chunk_size=_CHUNK_ROWS)):
        writer.writerow(safe_text(value) for value in _reading_row(sitting, reading))
        if n % _CHUNK_ROWS == _CHUNK_ROWS - 1:
            yield buffer.getvalue()
            buffer.seek(0)
            buffer.truncate()
    yield buffer.getvalue()


def _reading_row(sitting: Sitting, reading: Reading) -> tuple[object, ...]:
    ladder, patch = reading.rung.ladder, reading.patch
    return (
        sitting.name, str(ladder.body), ladder.body.serial, reading.rung.iso, reading.rung.exposure_s, ladder.f_number,
        patch.name if patch else "", patch.role if patch else "",
        reading.use.name if reading.use else "", reading.channel, reading.quantity,
        reading.measurand.described.unit, reading.value, reading.low, reading.high, reading.n, reading.excluded,
        reading.reason, reading.method,
    )  # fmt: skip


def sitting_document(sitting: Sitting) -> SittingDocument:
    """The whole sitting as plain values, ready for JSON."""
    return {
        "schema": SCHEMA,
        "sitting": {
            "name": sitting.name, "scene": sitting.scene, "asked": sitting.question, "expected": sitting.expectation,
            "held_on": sitting.held_on.isoformat(), "lens": sitting.lens, "light": sitting.light,
            "temperature_c": sitting.temperature_c, "profile": sitting.profile.name,
        },
        "uses": [_use(use) for use in sitting.uses.all()],
        "ladders": [_ladder(ladder) for ladder in sitting.ladders.select_related("body", "sitting__profile")],
        "verdicts": [_verdict(verdict) for verdict in _verdicts(sitting)],
        "problems": [
            {"file_name": one.file_name, "code": one.code, "reason": one.reason, "remedy": one.remedy}
            for one in sitting.problems.all()
        ],
    }  # fmt: skip


def _use(use: Use) -> UsePart:
    spec = UseSpec.of(use)
    return {
        "name": spec.name, "output_pixels": spec.output_pixels, "crop_share": spec.crop_share,
        "print_width_cm": spec.print_width_cm, "viewing_cm": spec.viewing_cm, "monochrome": spec.monochrome,
    }  # fmt: skip


def _verdicts(sitting: Sitting) -> Iterable[PairVerdict]:
    rows = PairVerdict.objects.filter(use__sitting=sitting)
    return rows.select_related("one__ladder__body", "other__ladder__body", "one_lane", "other_lane", "use")


def _verdict(verdict: PairVerdict) -> VerdictPart:
    one, other = verdict.one, verdict.other
    return {
        "one": {"body": str(one.ladder.body), "rung": one.key}, "other": {"body": str(other.ladder.body), "rung": other.key},
        "one_lane": verdict.one_lane.name if verdict.one_lane else None,
        "other_lane": verdict.other_lane.name if verdict.other_lane else None,
        "use": verdict.use.name, "person": verdict.person, "score": verdict.score, "reason": verdict.reason or None,
        "blind": verdict.blind, "size_percent": verdict.size_percent or None, "developer": verdict.developer,
        "held_equal": verdict.held_equal, "given_at": verdict.given_at.isoformat(),
    }  # fmt: skip


def _lane(lane: Lane) -> LanePart:
    return {
        "name": lane.name, "kind": lane.kind, "settings": lane.settings, "person": lane.person,
        "pictures": [
            {
                "file": picture.file_name, "sha256": picture.sha256, "rung": picture.rung.key,
                "frame": picture.frame.sha256 if picture.frame else None, "matched_by": picture.matched_by,
                "place": [picture.a, picture.b, picture.x0, picture.y0], "effect": picture.effect,
            }
            for picture in lane.pictures.all()
        ],
    }  # fmt: skip


def _ladder(ladder: Ladder) -> LadderPart:
    frames: dict[int, list[FramePart]] = {}
    for frame in (
        Frame.objects.filter(shot__rung__ladder=ladder).defer("report").select_related("shot").order_by("shot__repeat")
    ):
        if frame.shot is not None:
            frames.setdefault(frame.shot.rung_id, []).append(_frame(frame, frame.shot.kind))
    readings: dict[int, list[ReadingPart]] = {}
    for reading in Reading.objects.filter(rung__ladder=ladder).select_related("patch"):
        readings.setdefault(reading.rung_id, []).append(_reading(reading))
    grades: dict[int, list[GradePart]] = {}
    for grade in Grade.objects.filter(rung__ladder=ladder).select_related("use", "lane"):
        grades.setdefault(grade.rung_id, []).append(_grade(grade))
    return {
        "kind": ladder.kind,
        "method": ladder.method,
        "body": {"make": ladder.body.make, "model": ladder.body.model, "serial": ladder.body.serial,
                 "pixels": [ladder.body.pixel_width, ladder.body.pixel_height]},
        "metered": {"iso": ladder.metered_iso, "exposure_s": ladder.metered_exposure_s, "f_number": ladder.f_number},
        "patches": [
            {"name": one.name, "role": one.role, "x": one.x, "y": one.y, "w": one.w, "h": one.h}
            for one in ladder.patches.all()
        ],
        "rungs": [
            {"iso": rung.iso, "exposure_s": rung.exposure_s, "extended": rung.extended, "frames": frames.get(rung.pk, []),
             "readings": readings.get(rung.pk, []), "grades": grades.get(rung.pk, [])}
            for rung in ladder.rungs.all()
        ],
        "lanes": [_lane(lane) for lane in ladder.lanes.prefetch_related("pictures__rung", "pictures__frame")],
        "conditions": conditions(ladder),
        "proposals": proposed(ladder),
        "records": [_record(record) for record in ladder.records.prefetch_related("decisions__use", "other_decisions")],
    }  # fmt: skip


def _frame(frame: Frame, kind: str) -> FramePart:
    return {
        "file": frame.file_name, "sha256": frame.sha256, "kind": kind, "captured_at": frame.captured_at or None,
        "firmware": frame.firmware, "width": frame.width, "height": frame.height,
    }  # fmt: skip


def _reading(reading: Reading) -> ReadingPart:
    result: ReadingPart = {
        "patch": reading.patch.name if reading.patch else None, "channel": reading.channel,
        "quantity": reading.quantity,
        "value": reading.value, "low": reading.low, "high": reading.high, "n": reading.n, "excluded": reading.excluded,
        "method": reading.method,
    }  # fmt: skip
    if reading.reason:
        result["reason"] = reading.reason
    return result


def _grade(grade: Grade) -> GradePart:
    return {
        "use": grade.use.name, "person": grade.person, "grade": grade.letter if grade.grade else None,
        "reason": grade.reason or None, "note": grade.note or None, "lane": grade.lane.name if grade.lane else None,
        "steps": grade.steps, "size_percent": grade.size_percent or None, "equalised": grade.equalised,
        "moved_stops": grade.moved_stops, "push_stops": grade.push_stops, "developer": grade.developer, "seen": grade.seen,
        "given_at": grade.given_at.isoformat(),
    }  # fmt: skip


def _record(record: Record) -> RecordPart:
    return {
        "version": record.version, "answer": record.answer, "note": record.note, "signed_by": record.signed_by or None,
        "signed_at": record.signed_at.isoformat() if record.signed_at else None, "evidence": record.evidence or None,
        "decisions": [
            {"use": decision.use.name, "level": decision.level, "iso": decision.iso}
            for decision in record.decisions.all()
        ],
        "besides": [{"what": one.what, "use": one.use, "text": one.text} for one in record.other_decisions.all()],
    }  # fmt: skip
