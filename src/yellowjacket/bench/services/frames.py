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
        found = slot_for(sitting, _candidate(sitting, facts))
        if isinstance(found, Misfit):
            return note_problem(sitting, name, found, facts.path)
        shot_id = found.key
    else:
        shot_id = shot.pk
    if not keep_problems:
        Problem.objects.filter(sitting=sitting, file_name=name).delete()
    frame = Frame.objects.create(sitting=sitting, shot_id=shot_id, **_fields(facts))
    if without_contacts(sitting) and frame.shot is not None:
        frame.overrides = {"f_number": frame.shot.rung.ladder.f_number}
        frame.save(update_fields=["overrides"])
    return frame


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


def slot_for(sitting: Sitting, candidate: Candidate) -> Slot | Misfit:
    """The shot for what a file, or its tester, says; of several refusals that of the nearest ladder is told."""
    refusals = [Misfit("ladder", "has no ladder to go to.", "Plan a ladder first.")]
    for ladder in sitting.ladders.select_related("body"):
        found = find_slot(candidate, _ladder_facts(ladder), _slots(ladder, candidate.iso or 0))
        if isinstance(found, Slot):
            return found
        refusals.append(found)
    return max(refusals, key=lambda misfit: NEARNESS.index(misfit.code))


def _candidate(sitting: Sitting, facts: FrameFacts) -> Candidate:
    data = facts.metadata
    # What a lens without contacts leaves in the file is no aperture: the plan's own stands.
    f_number = None if without_contacts(sitting) else data.f_number
    return Candidate(
        data.make, data.model, data.serial, data.iso, data.exposure_s, f_number, facts.dark, facts.width, facts.height,
        bits_of(facts.white_dn),
    )  # fmt: skip


def candidate_from(frame: Frame) -> Candidate:
    """A frame that is in already, as its tester corrected it."""
    iso = frame.said("iso")
    f_number = None if without_contacts(frame.sitting) else frame.said("f_number")
    return Candidate(
        frame.make, frame.model, frame.serial, None if iso is None else round(iso), frame.said("exposure_s"), f_number,
        frame.dark, frame.width, frame.height, bits_of(frame.white_dn),
    )  # fmt: skip


def without_contacts(sitting: Sitting) -> bool:
    """Whether the lens of the sitting cannot tell the body its aperture."""
    return sitting.lens_used is not None and not sitting.lens_used.contacts


def bits_of(white_dn: float) -> int:
    """Bit depth that a white level asks for: 16383 and 15520 are both of 14 bits."""
    return int(white_dn).bit_length()


def _ladder_facts(ladder: Ladder) -> LadderFacts:
    body = ladder.body
    varies_size = ladder.method == Ladder.Method.RAW_MODE or bool(ladder.spec.get("crossed"))
    varies_bits = varies_size or ladder.method == Ladder.Method.BIT_DEPTH
    first = Frame.objects.filter(shot__rung__ladder=ladder).values_list("width", "height", "white_dn").first()
    size = (first[0], first[1]) if first and not varies_size else None
    bits = bits_of(first[2]) if first and not varies_bits else None
    return LadderFacts(body.make, body.model, body.serial, size, bits)


def _slots(ladder: Ladder, iso: int) -> Sequence[Slot]:
    """The shots at an ISO: a long night has thousands, and only these can fit."""
    shots = Shot.objects.filter(rung__ladder=ladder, rung__iso=iso).select_related("rung").order_by("order")
    taken = set(Frame.objects.filter(shot__rung__ladder=ladder, shot__rung__iso=iso).values_list("shot_id", flat=True))
    modes = {mode["name"]: mode for mode in ladder.body.raw_modes}
    return [
        Slot(
            s.pk, s.rung.iso, s.rung.exposure_s, ladder.f_number, s.kind == Shot.Kind.DARK, s.pk in taken,
            *_mode_of(ladder, s.rung.value, modes),
        )
        for s in shots
    ]  # fmt: skip


def _mode_of(ladder: Ladder, value: str, modes: dict[str, dict[str, int]]) -> tuple[tuple[int, int] | None, int | None]:
    """Frame size and bit depth that a rung's own setting writes, as far as plan and register say."""
    if value in modes:
        mode = modes[value]
        return (mode["width"], mode["height"]), mode["bits"]
    digits = "".join(character for character in value if character.isdigit())
    return None, int(digits) if ladder.method == Ladder.Method.BIT_DEPTH and digits else None


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
