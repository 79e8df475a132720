"""Frames into a sitting: from facts about a file to a frame on its shot, or a problem with its remedy."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from django.db import transaction

from yellowjacket.bench.executor import WorkerDied
from yellowjacket.bench.models import Frame, Ladder, Problem, Shot, Sitting
from yellowjacket.core.frames import FrameError
from yellowjacket.core.inspection import FrameFacts
from yellowjacket.core.matching import NEARNESS, Candidate, LadderFacts, Misfit, Slot, find_slot


@transaction.atomic
def add_frame(
    sitting: Sitting,
    facts: FrameFacts,
    shot: Shot | None = None,
    *,
    keep_problems: bool = False,
    standing: str = Frame.Standing.USED,
) -> Frame | Problem:
    """Put one inspected file on its shot; what does not fit is noted with the reason.

    ``shot``: the shot that was asked for, when the camera is known to have taken it; else it is found by
    what the file says. ``keep_problems``: leave an earlier complaint about the file to the caller.
    ``standing``: kept beside the plan when it is not "used".
    The same content is never taken twice, whatever its name.
    """
    known = Frame.objects.filter(sitting=sitting, sha256=facts.sha256).first()
    name = Path(facts.path).name
    if known is not None:
        if known.path == facts.path:
            return known
        misfit = Misfit("duplicate", f"has the same content as {known.file_name}.", "Nothing to do; it is used once.")
        return note_problem(sitting, name, misfit, facts.path)
    if standing != Frame.Standing.USED:
        return Frame.objects.create(sitting=sitting, shot=None, standing=standing, **_fields(facts))
    if shot is None:
        found = _slot_in_sitting(sitting, facts)
        if isinstance(found, Misfit):
            return note_problem(sitting, name, found, facts.path)
        shot_id = found.key
    else:
        shot_id = shot.pk
    if not keep_problems:
        Problem.objects.filter(sitting=sitting, file_name=name).delete()
    return Frame.objects.create(sitting=sitting, shot_id=shot_id, **_fields(facts))


def note_problem(sitting: Sitting, file_name: str, misfit: Misfit, path: str = "") -> Problem:
    """Remember why a file was not used; the same complaint about a file is kept once.

    ``path``: where it lies, when it could be used after all.
    """
    problem, _ = Problem.objects.update_or_create(
        sitting=sitting,
        file_name=file_name[:255],
        code=misfit.code,
        defaults={"reason": misfit.reason, "remedy": misfit.remedy, "path": path},
    )
    return problem


def misfit_from(error: Exception) -> Misfit:
    """The complaint for a file that could not be read. Unexpected exceptions are raised on."""
    if isinstance(error, FrameError):
        return Misfit(error.code, error.reason, error.remedy)
    if isinstance(error, WorkerDied):
        return Misfit("crash", f"could not be read: {error}.", "Copy it from the card again, or leave it out.")
    raise error


def _slot_in_sitting(sitting: Sitting, facts: FrameFacts) -> Slot | Misfit:
    """The shot among all ladders of the sitting; of several refusals that of the nearest ladder is told."""
    refusals = [Misfit("ladder", "has no ladder to go to.", "Plan a ladder first.")]
    candidate = _candidate(facts)
    for ladder in sitting.ladders.select_related("body"):
        found = find_slot(candidate, _ladder_facts(ladder), _slots(ladder, candidate.iso or 0))
        if isinstance(found, Slot):
            return found
        refusals.append(found)
    return max(refusals, key=lambda misfit: NEARNESS.index(misfit.code))


def _candidate(facts: FrameFacts) -> Candidate:
    data = facts.metadata
    return Candidate(
        data.make,
        data.model,
        data.serial,
        data.iso,
        data.exposure_s,
        data.f_number,
        facts.dark,
        facts.width,
        facts.height,
    )


def _ladder_facts(ladder: Ladder) -> LadderFacts:
    body = ladder.body
    size = Frame.objects.filter(shot__rung__ladder=ladder).values_list("width", "height").first()
    return LadderFacts(body.make, body.model, body.serial, size)


def _slots(ladder: Ladder, iso: int) -> Sequence[Slot]:
    """The shots at an ISO: a long night has thousands, and only these can fit."""
    shots = Shot.objects.filter(rung__ladder=ladder, rung__iso=iso).select_related("rung").order_by("order")
    taken = set(Frame.objects.filter(shot__rung__ladder=ladder, shot__rung__iso=iso).values_list("shot_id", flat=True))
    return [
        Slot(s.pk, s.rung.iso, s.rung.exposure_s, ladder.f_number, s.kind == Shot.Kind.DARK, s.pk in taken)
        for s in shots
    ]


def _fields(facts: FrameFacts) -> dict[str, object]:
    data = facts.metadata
    return {
        "path": facts.path, "sha256": facts.sha256, "size_bytes": facts.size_bytes, "width": facts.width,
        "height": facts.height, "make": data.make[:80], "model": data.model[:80], "serial": data.serial[:80],
        "firmware": data.firmware[:80], "iso": data.iso, "exposure_s": data.exposure_s, "f_number": data.f_number,
        "captured_at": data.captured_at.isoformat() if data.captured_at else "", "dark": facts.dark,
        "white_dn": facts.white_dn, "black_dn": facts.black_dn, "offsets": facts.offsets, "matrix": facts.matrix,
        "neutral": facts.neutral, "report": facts.report.as_dict(),
    }  # fmt: skip
