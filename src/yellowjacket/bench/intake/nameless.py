"""Frames whose files do not say which body took them: the tester says it once, and it is remembered for files of that kind."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from pathlib import Path

from django.db import transaction
from django.db.models import Q

from yellowjacket.bench.intake.frames import BY_TESTER
from yellowjacket.bench.intake.match_shots import ShotFinder, candidate_from
from yellowjacket.bench.models import Body, Firmware, Frame, Ladder, NamedKind, Record, Sitting, SittingEvent
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.planning.frame_to_shot import Misfit
from yellowjacket.core.raw.first_look import FrameFacts

# What stands for a body until somebody names it.
UNNAMED_MAKE, UNNAMED_MODEL = "Unnamed", "body"
_STRANGE = "of another body than its shot"


# Frames whose files have no name, whoever gave them one since.
NAMELESS = Q(make="", model="") | Q(claims__named_by=BY_TESTER)


@dataclass(frozen=True, slots=True)
class Nameless:
    """The question a sitting asks: how many frames, which bodies stand for them now, and whether somebody said so."""

    frames: int
    taken_as: tuple[Body, ...]
    answered: bool


def kind_of(layout: str, width: int, height: int, white_dn: float, path: str) -> str:
    """By what files of one body that has no name are known again."""
    return f"{layout} {width}x{height} {white_dn:g} {Path(path).suffix.lower()[:12]}"


def with_name(facts: FrameFacts, known: dict[str, Body]) -> FrameFacts:
    """The facts of a file with the name its kind was given; as they are where the file has one, or nobody said."""
    if not facts.metadata.nameless:
        return facts
    body = known.get(kind_of(facts.layout.name, facts.width, facts.height, facts.white_dn, facts.path))
    if body is None:
        return facts
    named = replace(facts.metadata, make=body.make, model=body.model, serial=body.serial)
    return replace(facts, metadata=replace(named, sources=named.sources | {"model": BY_TESTER}))


def known_kinds() -> dict[str, Body]:
    """Bodies by the kind of files they stand for."""
    return {one.mark: one.body for one in NamedKind.objects.select_related("body")}


def question(sitting: Sitting) -> Nameless | None:
    """What is to be asked of a sitting, or was; None when every file has a name of its own."""
    frames = list(_of(sitting))
    if not frames:
        return None
    bodies = {frame.shot.rung.ladder.body for frame in frames if frame.shot is not None}
    answered = all(frame.claims.get("named_by") == BY_TESTER for frame in frames)
    return Nameless(len(frames), tuple(sorted(bodies, key=str)), answered)


def _of(sitting: Sitting) -> Iterable[Frame]:
    """Frames whose files have no name, whoever gave them one since."""
    return Frame.objects.filter(NAMELESS, sitting=sitting).select_related("shot__rung__ladder__body").defer("report")


@transaction.atomic
def give_name(sitting: Sitting, body: Body | None, make: str = "", model: str = "") -> Body:
    """Say which body took the nameless frames: one of the register, or a new one by make and model; said again, it is changed.

    Frames on the ladder of another body go where that body's settings fit, or beside the plan. Refuses what was signed.
    """
    frames = list(_of(sitting))
    if not frames:
        raise Refusal("Every file of this sitting says which body took it.")
    ladders = list(Ladder.objects.filter(rungs__shots__frame__in=frames).distinct().select_related("body"))
    if Record.objects.filter(ladder__in=ladders, signed_at__isnull=False).exists():
        raise Refusal("A record of these frames is signed: amend it first.")
    found = body or _new_body(ladders, frames[0], make.strip(), model.strip())
    for frame in frames:
        frame.make, frame.model, frame.serial = found.make, found.model, found.serial
        frame.claims = {**frame.claims, "named_by": BY_TESTER}
        mark = kind_of(frame.mosaic_layout.name, frame.width, frame.height, frame.white_dn, frame.path)
        NamedKind.objects.update_or_create(mark=mark, defaults={"body": found})
    Frame.objects.bulk_update(frames, ["make", "model", "serial", "claims"])
    planned = sitting.ladders.filter(body=found).exists()
    for ladder in ladders:
        own = Frame.objects.filter(shot__rung__ladder=ladder)
        if ladder.body_id != found.pk and all(
            frame.claims.get("named_by") == BY_TESTER for frame in own.defer("report")
        ):
            if planned:
                _move(sitting, list(own))
            else:
                _put_on(ladder, found)
    Body.objects.filter(make=UNNAMED_MAKE, model=UNNAMED_MODEL, ladders=None).delete()
    text = f"{len(frames)} frames without a name are of {found}"
    SittingEvent.objects.create(sitting=sitting, kind=SittingEvent.Kind.NOTE, text=text[:300])
    return found


def _new_body(ladders: list[Ladder], frame: Frame, make: str, model: str) -> Body:
    """A body of that name: there already, or the one that stood for it renamed, or a new one like it."""
    if not model:
        raise Refusal("Choose the body, or write its make and model.")
    known = Body.objects.filter(make__iexact=make, model__iexact=model).first()
    if known is not None:
        return known
    stand_in = next(
        (one.body for one in ladders if (one.body.make, one.body.model) == (UNNAMED_MAKE, UNNAMED_MODEL)), None
    )
    if stand_in is None:
        isos = [frame.iso or 100]
        return Body.objects.create(
            make=make[:80], model=model[:80], pixel_width=frame.width, pixel_height=frame.height, lowest_iso=isos[0],
            native_lowest_iso=isos[0], native_highest_iso=isos[0], highest_iso=isos[0], fastest_shutter_s=1 / 8000,
        )  # fmt: skip
    stand_in.make, stand_in.model = make[:80], model[:80]
    stand_in.save(update_fields=["make", "model"])
    return stand_in


def _put_on(ladder: Ladder, body: Body) -> None:
    """A ladder that nobody but its frames describe becomes that body's."""
    ladder.body = body
    ladder.save(update_fields=["body"])


def _move(sitting: Sitting, frames: list[Frame]) -> None:
    """Frames of a planned sitting to the shots of the body they are of, as far as there are any."""
    for frame in frames:
        frame.shot, frame.standing, frame.standing_reason = None, Frame.Standing.EXTRA, _STRANGE
        frame.save(update_fields=["shot", "standing", "standing_reason"])
    finder = ShotFinder(sitting)
    for frame in frames:
        slot = finder.place(candidate_from(frame))
        if not isinstance(slot, Misfit):
            frame.shot_id, frame.standing, frame.standing_reason = slot.key, Frame.Standing.USED, ""
            frame.save(update_fields=["shot", "standing", "standing_reason"])


@transaction.atomic
def keep_claims(sitting: Sitting) -> None:
    """What files say of their body that the register lacks: its serial number, and a firmware since its first frame."""
    for body in Body.objects.filter(ladders__sitting=sitting).distinct():
        rows = Frame.objects.filter(shot__rung__ladder__body=body, shot__rung__ladder__sitting=sitting)
        serials = set(rows.exclude(serial="").values_list("serial", flat=True))
        twin = Body.objects.filter(make=body.make, model=body.model, serial__in=serials).exists()
        if not body.serial and len(serials) == 1 and not twin:
            body.serial = serials.pop()
            body.save(update_fields=["serial"])
        dated = rows.exclude(firmware="").exclude(captured_at="").order_by("firmware", "captured_at")
        for version, moment in dict(reversed(list(dated.values_list("firmware", "captured_at")))).items():
            Firmware.objects.get_or_create(body=body, version=version, defaults={"since": moment[:10]})
