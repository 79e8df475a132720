"""How far a sitting is: the one query against counting by hand."""

import pytest
from django.utils import timezone

from yellowjacket.bench.check.how_far import HowFar
from yellowjacket.bench.models import (
    Decision,
    Frame,
    Grade,
    Job,
    Lane,
    MarkedSpot,
    OtherDecision,
    Problem,
    Reading,
    Record,
    RememberedLimit,
    Rung,
    RungDarks,
    Shot,
)
from yellowjacket.core.metrology.measurands import DARK_MEASURANDS

pytestmark = pytest.mark.django_db


def by_hand(ladder):
    """The same counts, row by row."""
    rungs = list(ladder.rungs.all())
    shots = list(Shot.objects.filter(rung__ladder=ladder))
    framed = [shot for shot in shots if Frame.objects.filter(shot=shot).exists()]
    lit = {shot.rung_id for shot in framed if shot.kind == "light"}
    dark = {shot.rung_id for shot in framed if shot.kind == "dark"}
    record = ladder.records.last()
    timed = ladder.kind == "time"
    return {
        "planned": len(shots), "taken": len(framed), "rungs": len(rungs), "lit": len(lit),
        "measured": sum(rung.pk in lit and bool(rung.measured_inputs) for rung in rungs),
        "dark": len(dark) if timed else 0,
        "darks_measured": RungDarks.objects.filter(rung__ladder=ladder).count() if timed else 0,
        "graded": len(Grade.objects.current(ladder)),
        "version": record.version if record else 0, "signed_by": record.signed_by if record else "",
        "signed": record is not None and record.signed,
        "ever_signed": any(one.signed for one in ladder.records.all()),
    }  # fmt: skip


def there(ladder):
    """Of which kinds there is anything, row by row."""
    readings = Reading.objects.filter(rung__ladder=ladder)
    return {
        "lanes": ladder.lanes.exists(), "darks": RungDarks.objects.filter(rung__ladder=ladder).exists(),
        "read": any(one.quantity not in DARK_MEASURANDS for one in readings),
        "findings": any(one.quantity == "flags" for one in readings),
        "grades": bool(Grade.objects.current(ladder)),
        "decisions": Decision.objects.filter(record__ladder=ladder).exists(),
        "other decisions": OtherDecision.objects.filter(record__ladder=ladder).exists(),
        "remembered": RememberedLimit.objects.filter(body=ladder.body).exists(),
    }  # fmt: skip


def said_to_be_there(ladder):
    found = HowFar.of(ladder.sitting)
    assert (ladder.pk in found.read) == found.has_of("read", ladder)
    return {kind: found.has_of(kind, ladder) for kind in there(ladder)}


def test_what_is_there_of_a_ladder_is_what_the_rows_say(measured, make_sitting):
    other = make_sitting(kind="time", method="capped")
    ladder, timed, use = measured.ladders.get(), other.ladders.get(), measured.uses.first()
    seen = [there(ladder)]
    assert said_to_be_there(ladder) == seen[0]
    assert said_to_be_there(timed) == dict.fromkeys(seen[0], False)
    # Of darks alone nothing was read in the light.
    Reading.objects.create(rung=timed.rungs.first(), channel="all", quantity=DARK_MEASURANDS[0], value=1.0)
    RungDarks.objects.create(rung=timed.rungs.first(), inputs="x", measured=b"")
    Lane.objects.create(ladder=ladder, kind=Lane.Kind.FINISH, name="gentle")
    Grade.objects.create(rung=ladder.rungs.first(), use=use, person="Wren", grade=2)
    record = Record.objects.create(ladder=ladder, version=1)
    Decision.objects.create(record=record, use=use, level="usable", iso=400)
    for _ in range(2):
        seen.append(there(ladder))
        assert said_to_be_there(ladder) == seen[-1]
        assert said_to_be_there(timed) == there(timed)
        OtherDecision.objects.create(record=record, what=f"push {len(seen)}", text="3 stops")
        RememberedLimit.objects.create(body=ladder.body, what=f"usable {len(seen)}", text="3200", source="notebook")
    assert not there(timed)["read"]
    assert there(timed)["darks"]
    assert all(any(one[kind] for one in (*seen, there(timed), there(ladder))) for kind in there(ladder))


def counted(sitting):
    found = HowFar.of(sitting).ladders
    return {
        ladder.pk: {name: getattr(found[ladder.pk], name) for name in by_hand(ladder)}
        for ladder in sitting.ladders.all()
    }


def test_the_counts_are_those_of_the_rows(measured, make_sitting):
    other = make_sitting(kind="time", method="capped")
    ladder = measured.ladders.get()
    use, (first, second, *_) = measured.uses.first(), ladder.rungs.all()
    for grade in (2, None, 3):
        Grade.objects.create(rung=first, use=use, person="Wren", grade=grade)
    Grade.objects.create(rung=second, use=use, person="Wren", grade=1)
    Grade.objects.create(rung=second, use=use, person="Wren", grade=None)
    lane = Lane.objects.create(ladder=ladder, kind=Lane.Kind.FINISH, name="gentle")
    Grade.objects.create(rung=second, use=use, person="Wren", grade=4, lane=lane)
    Record.objects.create(ladder=ladder, version=1, signed_by="Wren", signed_at=timezone.now())
    Record.objects.create(ladder=ladder, version=2)
    Frame.objects.filter(shot__rung=second, shot__kind="light").update(shot=None)
    Rung.objects.filter(pk=first.pk).update(measured_inputs="")
    timed = other.ladders.get()
    dark = Shot.objects.filter(rung__ladder=timed, kind="dark").first()
    Frame.objects.filter(shot__kind="dark").update(shot=None)
    loose = Frame.objects.filter(shot=None).last()
    Frame.objects.filter(pk=loose.pk).update(shot=dark, sitting=other)
    RungDarks.objects.create(rung=dark.rung, inputs="x", measured=b"")
    for sitting in (measured, other):
        assert counted(sitting) == {one.pk: by_hand(one) for one in sitting.ladders.all()}
    found = counted(measured)[ladder.pk]
    assert (found["graded"], found["version"], found["signed"], found["ever_signed"]) == (
        1, 2, False, True,
    )  # fmt: skip
    assert HowFar.of(measured).extras == Frame.objects.filter(sitting=measured, shot=None).count() > 0
    assert HowFar.of(other).extras == 0


def test_a_job_is_told_of_while_it_runs_and_when_it_went_wrong(measured):
    def told(**fields):
        Job.objects.create(sitting=measured, kind=Job.Kind.MEASURE, message="done", **fields)
        return HowFar.of(measured).job_has_to_be_told

    assert told(state=Job.State.RUNNING)
    assert not told(state=Job.State.DONE)
    assert told(state=Job.State.DONE, parameters={"left_out": True})
    assert told(state=Job.State.FAILED)
    assert told(state=Job.State.STOPPED)
    assert not told(state=Job.State.DONE)


def test_whatever_a_look_at_frames_rests_on_changes_what_is_counted(measured):
    seen = {HowFar.of(measured).day}
    spot = MarkedSpot.objects.create(sitting=measured, body=measured.ladders.get().body, name="pin", x=10, y=10)
    seen.add(HowFar.of(measured).day)
    spot.ruled_out = "soft from the start"
    spot.save()
    seen.add(HowFar.of(measured).day)
    Problem.objects.create(sitting=measured, file_name="F9.DNG", code="changed", reason="has changed.", remedy="Look.")
    seen.add(HowFar.of(measured).day)
    assert HowFar.of(measured).problems == (1, 1)
    Frame.objects.filter(sitting=measured).last().delete()
    seen.add(HowFar.of(measured).day)
    assert len(seen) == 5
