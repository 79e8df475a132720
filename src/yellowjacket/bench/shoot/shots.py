"""The day itself: the next shot, taken, skipped, accepted."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime

from django.db.models import prefetch_related_objects
from django.utils import timezone

from yellowjacket.bench.models import Body, Frame, Ladder, Shot, Sitting, SittingEvent
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import undo_log

_MOST_SKIP_CHARACTERS = 120


def of_ladders(ladders: Sequence[Ladder], without: Sequence[str] = ("frame__report",)) -> list[Shot]:
    """All their shots in order, with their frames, and their rungs, which know these very ladders. ``without``: what is not
    fetched; what a look at a frame said is forty times the rest of it."""
    prefetch_related_objects(list(ladders), "rungs")
    rungs = {rung.pk: rung for ladder in ladders for rung in ladder.rungs.all()}
    shots = Shot.objects.filter(rung__ladder__in=[ladder.pk for ladder in ladders]).select_related("frame")
    found = list(shots.defer(*without).order_by("order", "pk"))
    for shot in found:
        shot.rung = rungs[shot.rung_id]
    return found


def due(sitting: Sitting) -> list[Shot]:
    """Shots still to be taken, in order."""
    return due_of(of_ladders(list(sitting.ladders.select_related("body"))))


def due_of(shots: Iterable[Shot]) -> list[Shot]:
    """Those of shots in order, with their rungs and frames, that are still to be taken: no frame, not said to be taken, not
    skipped, and what the light reaches."""
    return [
        shot for shot in shots
        if not hasattr(shot, "frame") and shot.taken_at is None and not shot.skipped and not shot.rung.short_by_stops
    ]  # fmt: skip


def take(shot: Shot) -> SittingEvent:
    """Say that a shot was taken; its frame will be matched when the card is read."""
    _must_be_due(shot)
    sitting = shot.rung.ladder.sitting
    looked_at = sitting.first_accepted_at is not None or _first_taken(sitting) or shot.rung.ladder.capped
    if not looked_at and due(sitting)[:1] != [shot]:
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


def first_frame(shots: Iterable[Shot]) -> Frame | None:
    """The first light frame that is in. ``shots``: of a sitting, with their frames."""
    lit = [shot for shot in shots if shot.kind == Shot.Kind.LIGHT and hasattr(shot, "frame")]
    return min(lit, key=lambda shot: shot.order).frame if lit else None


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


def clock_offset_s(shots: Iterable[Shot]) -> float | None:
    """By how much the body's clock is ahead of this computer's, in seconds, time zones taken off. ``shots``: of a sitting, with
    their rungs and frames.

    The median over shots that were said to be taken here and whose frames are in; None with too few of them.
    """
    offsets = sorted(
        # "Taken" is said when the exposure has ended.
        (datetime.fromisoformat(shot.frame.captured_at) - shot.taken_at.replace(tzinfo=None)).total_seconds()
        + shot.rung.exposure_s
        for shot in shots
        if shot.taken_at is not None and hasattr(shot, "frame") and shot.frame.captured_at
    )
    if len(offsets) < _FEWEST_CLOCKED:
        return None
    middle = offsets[len(offsets) // 2]
    return middle - _ZONE_S * round(middle / _ZONE_S)
