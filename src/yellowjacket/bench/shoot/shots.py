"""The day itself: the next shot, taken, skipped, accepted."""

from __future__ import annotations

from datetime import datetime

from django.db.models import QuerySet
from django.utils import timezone

from yellowjacket.bench.models import Body, Frame, Shot, Sitting, SittingEvent
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import undo_log

_MOST_SKIP_CHARACTERS = 120


def due(sitting: Sitting) -> QuerySet[Shot]:
    """Shots still to be taken, in order: no frame, not said to be taken, not skipped."""
    waiting = Shot.objects.filter(rung__ladder__sitting=sitting, frame__isnull=True, taken_at__isnull=True, skipped="")
    return waiting.filter(rung__short_by_stops=0).select_related("rung__ladder__body").order_by("order")


def take(shot: Shot) -> SittingEvent:
    """Say that a shot was taken; its frame will be matched when the card is read."""
    _must_be_due(shot)
    sitting = shot.rung.ladder.sitting
    looked_at = sitting.first_accepted_at is not None or _first_taken(sitting) or shot.rung.ladder.capped
    if not looked_at and due(sitting).first() != shot:
        raise Refusal("Take the first shot first: it is looked at before the rest is shot.")
    return undo_log.act(
        sitting, SittingEvent.Kind.TAKEN, f"{shot.rung} {shot.kind} {shot.repeat}", [(shot, {"taken_at": timezone.now()})],
        shot=shot,
    )  # fmt: skip


def skip(shot: Shot, reason: str) -> SittingEvent:
    """Leave a shot out. Refuses without a reason."""
    _must_be_due(shot)
    if not reason.strip():
        raise Refusal("Say why the shot is left out, in a word or two.")
    words = reason.strip()[:_MOST_SKIP_CHARACTERS]
    text = f"{shot.rung} {shot.kind} {shot.repeat}: {words}"
    return undo_log.act(
        shot.rung.ladder.sitting, SittingEvent.Kind.SKIPPED, text, [(shot, {"skipped": words})], shot=shot
    )


def accept_first(sitting: Sitting) -> SittingEvent:
    """The first frame is good: focus on the spots that matter, grey where it should be, nothing clipped."""
    if not _first_taken(sitting):
        raise Refusal("There is no first frame yet: take it, or let the simulated camera take it.")
    if sitting.first_accepted_at is not None:
        raise Refusal("The first frame is accepted already.")
    return undo_log.act(
        sitting, SittingEvent.Kind.ACCEPTED, "focus, grey and highlights looked at",
        [(sitting, {"first_accepted_at": timezone.now()})],
    )  # fmt: skip


def note(sitting: Sitting, text: str) -> SittingEvent:
    """Write something down with its time."""
    if not text.strip():
        raise Refusal("There is nothing to note.")
    return undo_log.act(sitting, SittingEvent.Kind.NOTE, text.strip())


def first_frame(sitting: Sitting) -> Frame | None:
    """The first light frame that is in."""
    frames = Frame.objects.filter(sitting=sitting, shot__kind=Shot.Kind.LIGHT).select_related("shot__rung__ladder")
    return frames.defer("report").order_by("shot__order").first()


def last_done(sitting: Sitting, body: Body) -> Shot | None:
    """The shot done last with a body: with a frame, or said to be taken."""
    shots = Shot.objects.filter(rung__ladder__sitting=sitting, rung__ladder__body=body)
    done = shots.exclude(frame__isnull=True, taken_at__isnull=True).select_related("rung__ladder__body")
    return done.order_by("order").last()


def _first_taken(sitting: Sitting) -> bool:
    taken = Shot.objects.filter(rung__ladder__sitting=sitting)
    return taken.filter(taken_at__isnull=False).exists() or taken.filter(frame__isnull=False).exists()


def _must_be_due(shot: Shot) -> None:
    if Frame.objects.filter(shot=shot).exists():
        raise Refusal(f"{shot} has its frame already.")
    if shot.skipped or shot.taken_at:
        raise Refusal(f"{shot} is done already; undo it first.")


# A body set to another time zone is off by whole half hours; that is no error of its clock.
_ZONE_S = 1800
_FEWEST_CLOCKED = 2


def clock_offset_s(sitting: Sitting) -> float | None:
    """By how much the body's clock is ahead of this computer's, in seconds, time zones taken off.

    The median over shots that were said to be taken here and whose frames are in; None with too few of them.
    """
    shots = Shot.objects.filter(rung__ladder__sitting=sitting, taken_at__isnull=False, frame__isnull=False)
    pairs = shots.exclude(frame__captured_at="").values_list("taken_at", "frame__captured_at", "rung__exposure_s")
    offsets = sorted(
        # "Taken" is said when the exposure has ended.
        (datetime.fromisoformat(captured) - taken.replace(tzinfo=None)).total_seconds() + seconds
        for taken, captured, seconds in pairs
        if taken is not None
    )
    if len(offsets) < _FEWEST_CLOCKED:
        return None
    middle = offsets[len(offsets) // 2]
    return middle - _ZONE_S * round(middle / _ZONE_S)
