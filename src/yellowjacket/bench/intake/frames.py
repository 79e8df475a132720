"""Frames into a sitting: from facts about a file to a frame on its shot, or a problem with its remedy."""

from __future__ import annotations

from pathlib import Path

from django.db import IntegrityError, transaction

from yellowjacket.bench.intake.match_shots import ShotFinder, candidate_of, without_contacts
from yellowjacket.bench.intake.problems import note_problem, same_content
from yellowjacket.bench.models import Frame, Problem, Shot, Sitting
from yellowjacket.core.metadata.capture import FrameMetadata
from yellowjacket.core.planning.frame_to_shot import Misfit
from yellowjacket.core.raw.first_look import FrameFacts


@transaction.atomic
def add_frame(
    sitting: Sitting,
    facts: FrameFacts,
    shot: Shot | None = None,
    *,
    finder: ShotFinder | None = None,
    keep_problems: bool = False,
    standing: str = Frame.Standing.USED,
) -> Frame | Problem:
    """Put one inspected file on its shot; what does not fit is noted with the reason.

    ``shot``: the shot that was asked for, when the camera is known to have taken it; else it is found by
    what the file says, through ``finder`` where many files come at once. ``keep_problems``: leave an earlier
    complaint about the file to the caller. ``standing``: kept beside the plan when it is not "used".
    The same content is never taken twice, whatever its name.
    """
    known = Frame.objects.filter(sitting=sitting, sha256=facts.sha256).first()
    name = Path(facts.path).name
    if known is not None:
        if known.path == facts.path:
            return known
        return note_problem(sitting, name, same_content(known.file_name), facts.path)
    if standing != Frame.Standing.USED:
        return Frame.objects.create(sitting=sitting, shot=None, standing=standing, **_fields(facts))
    if not keep_problems:
        # Another card may hold a file of that name, with a complaint of its own.
        Problem.objects.filter(sitting=sitting, file_name=name, path__in=("", facts.path)).delete()
    if shot is not None:
        frame = Frame.objects.create(sitting=sitting, shot=shot, **_fields(facts))
    else:
        found = _on_its_shot(sitting, facts, finder or ShotFinder(sitting))
        if isinstance(found, Misfit):
            return note_problem(sitting, name, found, facts.path)
        frame = found
    if without_contacts(sitting) and frame.shot is not None:
        frame.overrides = {"f_number": frame.shot.rung.ladder.f_number}
        frame.save(update_fields=["overrides"])
    return frame


def _on_its_shot(sitting: Sitting, facts: FrameFacts, finder: ShotFinder) -> Frame | Misfit:
    """Store a file on the shot it fits; when somebody took that shot in the meantime, on the next that fits."""
    for last in (False, True):
        found = finder.place(candidate_of(sitting, facts))
        if isinstance(found, Misfit):
            return found
        try:
            with transaction.atomic():
                return Frame.objects.create(sitting=sitting, shot_id=found.key, **_fields(facts))
        except IntegrityError:
            if last:
                raise
            finder.load()
    raise AssertionError("unreachable")


def _other_claims(data: FrameMetadata) -> dict[str, object]:
    """What the file says besides, for people: only what it does say."""
    said: dict[str, object] = {name: getattr(data, name) for name in _OTHER_CLAIMS}
    if data.sources.get("model") == BY_TESTER:
        said["named_by"] = BY_TESTER
    return {name: list(value) if isinstance(value, tuple) else value for name, value in said.items() if value}


# Who named the body of a file that does not say it.
BY_TESTER = "tester"
_OTHER_CLAIMS = (
    "utc_offset", "frame_counter", "bits", "lens", "focal_length_mm", "stabilisation", "drive", "white_balance",
    "contradicted",
)  # fmt: skip


def _fields(facts: FrameFacts) -> dict[str, object]:
    data = facts.metadata
    return {
        "path": facts.path, "sha256": facts.sha256, "size_bytes": facts.size_bytes, "mtime_ns": facts.mtime_ns,
        "width": facts.width,
        "height": facts.height, "make": data.make[:80], "model": data.model[:80], "serial": data.serial[:80],
        "firmware": data.firmware[:80], "iso": data.iso, "exposure_s": data.exposure_s, "f_number": data.f_number,
        "temperature_c": data.temperature_c, "temperature_of": data.temperature_of or "", "lenr": data.lenr or "",
        "noise_reduction": data.noise_reduction or "", "shutter": data.shutter or "",
        "compression": data.compression or "", "several_shots": data.several_shots, "claims": _other_claims(data),
        "captured_at": data.captured_at.isoformat() if data.captured_at else "", "dark": facts.dark,
        "white_dn": facts.white_dn, "black_dn": facts.black_dn, "layout": facts.layout.plain, "matrix": facts.matrix,
        "neutral": facts.neutral, "report": facts.report.as_dict(),
    }  # fmt: skip
