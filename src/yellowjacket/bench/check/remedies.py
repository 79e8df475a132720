"""What is done about a problem of Check: each remedy is one step that can be undone. Originals stay where they are."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from django.db import transaction

from yellowjacket.bench.intake.frames import add_frame
from yellowjacket.bench.intake.match_shots import ShotFinder, candidate_from
from yellowjacket.bench.jobs.executor import frame_error, run_one
from yellowjacket.bench.models import Frame, Ladder, MarkedSpot, Problem, Rung, Shot, Sitting, SittingEvent
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import undo_log
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.planning.frame_to_shot import Slot
from yellowjacket.core.raw.first_look import inspect_file

_MOST_SPOTS = 8


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


def reshoot_rung(rung: Rung) -> None:
    """Every frame of a rung off its shot, to be shot again; each can be undone by itself."""
    for frame in Frame.objects.filter(shot__rung=rung).select_related("shot__rung", "sitting"):
        reshoot(frame)


# What concerns a rung as a whole and may be left as it is.
LET_BE = {
    "lenr": "the lock-up", "temperature": "the temperature", "exposure": "the exposure", "clipped": "the clipping",
    "black": "the darkness", "soft": "the softness", "moved": "the place", "light": "the change of light",
    "white-balance": "the white balance", "noise-reduction": "the noise reduction", "several": "the several exposures",
    "contradiction": "the contradiction",
}  # fmt: skip


def let_be(rung: Rung, code: str) -> SittingEvent:
    """Leave what was found on a rung as it is: it is not asked about again. Refuses what has a remedy of its own."""
    if code not in LET_BE:
        raise Refusal("This problem has its own remedy: use the button beside it.")
    ladder = rung.ladder
    kept = sorted({*ladder.let_be, f"{code}:{rung.key}"})
    return undo_log.act(
        ladder.sitting, SittingEvent.Kind.NOTE, f"{LET_BE[code]} of {rung} let be", [(ladder, {"let_be": kept})]
    )


def let_be_all(ladder: Ladder, code: str, rungs: Iterable[Rung]) -> SittingEvent:
    """The same for a run of rungs at once, in one step that can be undone."""
    if code not in LET_BE:
        raise Refusal("This problem has its own remedy: use the button beside it.")
    chosen = list(rungs)
    kept = sorted({*ladder.let_be, *(f"{code}:{rung.key}" for rung in chosen)})
    return undo_log.act(
        ladder.sitting,
        SittingEvent.Kind.NOTE,
        f"{LET_BE[code]} of {len(chosen)} rungs let be",
        [(ladder, {"let_be": kept})],
    )


def _off_its_shot(frame: Frame, kind: str, standing: str, reason: str) -> SittingEvent:
    shot = frame.shot
    if shot is None:
        raise Refusal(f"{frame.file_name} is on no shot.")
    text = f"{frame.file_name} off {shot.rung} {shot.kind} {shot.repeat}: {reason.strip()[:100]}"
    values = {"shot_id": None, "standing": standing, "standing_reason": reason.strip()[:120]}
    return undo_log.act(frame.sitting, kind, text, [(frame, values), (shot, {"taken_at": None})], shot=shot)


@transaction.atomic
def assign_problem(problem: Problem, shot: Shot) -> SittingEvent:
    """Put a file that did not fit by itself on a shot: the tester's word over the file's.

    Refuses shots that are taken and files that cannot be read.
    """
    _must_be_free(shot)
    if not problem.path:
        raise Refusal(f"{problem.file_name} was not stored; import it again.")
    try:
        facts = run_one(inspect_file, problem.path)
    except Exception as error:
        raise Refusal(str(frame_error(Path(problem.path), error))) from error
    overrides = _overrides(shot, facts.metadata.iso, facts.metadata.exposure_s, facts.metadata.f_number)
    frame = add_frame(problem.sitting, facts, shot, keep_problems=True)
    if not isinstance(frame, Frame):
        raise Refusal(str(frame))
    Frame.objects.filter(pk=frame.pk).update(overrides=overrides)
    text = f"{problem.file_name} on {shot.rung} {shot.kind} {shot.repeat}"
    return undo_log.act(problem.sitting, SittingEvent.Kind.ASSIGNED, text, shot=shot, created=frame, removed=problem)


def assign_frame(frame: Frame, shot: Shot) -> SittingEvent:
    """Put a frame that was kept as extra on a shot."""
    _must_be_free(shot)
    text = f"{frame.file_name} on {shot.rung} {shot.kind} {shot.repeat}"
    values = {
        "shot_id": shot.pk, "standing": Frame.Standing.USED, "standing_reason": "",
        "overrides": _overrides(shot, frame.iso, frame.exposure_s, frame.f_number),
    }  # fmt: skip
    return undo_log.act(frame.sitting, SittingEvent.Kind.ASSIGNED, text, [(frame, values)], shot=shot)


def _must_be_free(shot: Shot) -> None:
    if Frame.objects.filter(shot=shot).exists():
        raise Refusal(f"{shot} has a frame. Keep that one as extra first.")


def _overrides(shot: Shot, iso: int | None, exposure_s: float | None, f_number: float | None) -> dict[str, float]:
    """What the plan says where the file says something else; both are kept."""
    ladder = shot.rung.ladder
    planned = {"iso": shot.rung.iso, "exposure_s": shot.rung.exposure_s, "f_number": ladder.f_number}
    said = {"iso": iso, "exposure_s": exposure_s, "f_number": f_number}
    return {name: value for name, value in planned.items() if said[name] != value}


def rule_out(spot: MarkedSpot) -> SittingEvent:
    """A spot that was soft from the start: nobody judges detail on it any more."""
    return undo_log.act(
        spot.sitting, SittingEvent.Kind.RULED_OUT, f"“{spot}” on {spot.body}: soft from the start",
        [(spot, {"ruled_out": "soft from the start"})],
    )  # fmt: skip


def mark_spot(ladder: Ladder, name: str, x: int, y: int, note: str = "") -> SittingEvent:
    """Mark a spot where focus is watched on a body's frames. Refuses nameless, doubled and too many spots."""
    words = name.strip()[:40]
    present = MarkedSpot.objects.filter(sitting=ladder.sitting, body=ladder.body)
    if not words:
        raise Refusal("Name the spot: antenna, label, pin.")
    if present.filter(name=words).exists():
        raise Refusal(f"A spot named “{words}” is marked already.")
    if present.count() >= _MOST_SPOTS:
        raise Refusal(f"{_MOST_SPOTS} spots are marked already; delete one first.")
    spot = MarkedSpot.objects.create(
        sitting=ladder.sitting, body=ladder.body, name=words, x=x, y=y, note=note.strip()[:200]
    )
    return undo_log.act(ladder.sitting, SittingEvent.Kind.NOTE, f"spot “{words}” marked on {ladder.body}", created=spot)


def delete_spot(spot: MarkedSpot) -> SittingEvent:
    """Take a marked spot away."""
    return undo_log.act(spot.sitting, SittingEvent.Kind.NOTE, f"spot “{spot}” deleted", removed=spot)


@transaction.atomic
def correct(frame: Frame, said: dict[str, float]) -> SittingEvent:
    """The tester's word over the file's for ISO, time or aperture; the file's own value stays beside it.

    A frame on no shot is looked at again with what was said, and goes to its shot when one is free.
    """
    overrides = {name: value for name, value in said.items() if value != getattr(frame, name)}
    if overrides == frame.overrides:
        raise Refusal(f"{frame.file_name}: nothing to correct; the file says the same.")
    names = {"iso": "ISO {:g}", "exposure_s": "{:g} s", "f_number": "f/{:g}"}
    words = ", ".join(names[name].format(value) for name, value in overrides.items()) or "as the file says"
    values: dict[str, object] = {"overrides": overrides}
    shot = None
    if frame.shot_id is None and frame.standing == Frame.Standing.EXTRA:
        frame.overrides = overrides
        found = ShotFinder(frame.sitting).find(candidate_from(frame))
        if isinstance(found, Slot):
            shot = Shot.objects.select_related("rung").get(pk=found.key)
            values |= {"shot_id": shot.pk, "standing": Frame.Standing.USED, "standing_reason": ""}
            words += f", on {shot.rung} {shot.kind} {shot.repeat}"
        frame.refresh_from_db()
    return undo_log.act(
        frame.sitting, SittingEvent.Kind.CORRECTED, f"{frame.file_name}: {words}", [(frame, values)], shot=shot
    )


@transaction.atomic
def correct_aperture(ladder: Ladder, f_number: float) -> SittingEvent:
    """The tester's word on the aperture of every frame of a ladder: a lens without contacts tells the body none."""
    frames = list(Frame.objects.filter(shot__rung__ladder=ladder))
    changes = [
        (frame, {"overrides": frame.overrides | {"f_number": f_number}})
        for frame in frames
        if frame.said("f_number") != f_number
    ]
    if not changes:
        raise Refusal(f"Every frame of {ladder} is said to be at f/{f_number:g} already.")
    words = f"{counted(len(changes), 'frame')} of {ladder}: f/{f_number:g}"
    return undo_log.act(ladder.sitting, SittingEvent.Kind.CORRECTED, words, changes)


def free_shots(sitting: Sitting, known: Iterable[Shot] | None = None) -> list[Shot]:
    """Shots without a frame, for choosing where a file belongs. ``known``: all of the sitting with their frames, where they are
    known already."""
    if known is not None:
        return sorted((shot for shot in known if not hasattr(shot, "frame")), key=lambda shot: shot.order)
    shots = Shot.objects.filter(rung__ladder__sitting=sitting, frame__isnull=True).select_related("rung__ladder__body")
    return list(shots.order_by("order"))
