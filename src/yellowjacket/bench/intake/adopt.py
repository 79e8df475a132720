"""Adopting a folder: frames that exist already become a sitting, its ladders read backwards from the files."""

from __future__ import annotations

import math
import shutil
from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.utils import timezone
from django.utils.crypto import get_random_string

from yellowjacket.bench.intake import importing, nameless
from yellowjacket.bench.intake import uploads as uploads_
from yellowjacket.bench.intake.frames import add_frame
from yellowjacket.bench.intake.nameless import UNNAMED_MAKE, UNNAMED_MODEL
from yellowjacket.bench.intake.problems import misfit_from, note_problem, printable, same_content
from yellowjacket.bench.jobs import progress as progress_
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.jobs.executor import run_all
from yellowjacket.bench.jobs.registry import handles
from yellowjacket.bench.models import (
    Body,
    Frame,
    Grade,
    Job,
    Ladder,
    Lane,
    Rung,
    Shot,
    Sitting,
    SittingEvent,
    ToleranceProfile,
    Use,
)
from yellowjacket.bench.plan.sittings import UseSpec, number_shots, renew_checklist, unsaved_uses
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.exposure import apex, dial, notation
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.planning.body_limits import PlanError
from yellowjacket.core.planning.frame_to_shot import Misfit
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.core.planning.ladders_from_frames import (
    AdoptedLadder,
    AdoptedRung,
    Adoption,
    FoundFrame,
    adopt,
    as_ladder,
)
from yellowjacket.core.planning.plan import plan_ladder
from yellowjacket.core.planning.plan_file import spec_as_dict
from yellowjacket.core.raw.first_look import FrameFacts, inspect_file, inspect_picture
from yellowjacket.core.raw.frame import NOT_RAW, PICTURE_SUFFIXES
from yellowjacket.core.survey.found_sittings import (
    Claimed,
    FoundSitting,
    claimed,
    could_be_frame,
    others_in_words,
    sittings_in,
)

_FASTEST_S, _SLOWEST_S = 1 / 8000, 30.0
_TOKEN_LENGTH = 12


def adopt_folder(folder_text: str, uses: Sequence[UseSpec], profile: str) -> Sitting:
    """Begin adopting every file of a folder of this machine. Refuses folders that may not or cannot be read."""
    files = importing.files_of(folder_text)
    return _begin(printable(Path(files[0]).parent.name), files, uses, profile)


def adopt_uploads(uploads: Iterable[UploadedFile], uses: Sequence[UseSpec], profile: str) -> Sitting:
    """Begin adopting files sent by the browser. They are stored first: without room for them no sitting is left behind."""
    folder = settings.HOME / "originals" / f"adopted-{get_random_string(_TOKEN_LENGTH)}"
    try:
        files, too_large = uploads_.store_uploads(folder, uploads)
        if not files:
            raise Refusal(uploads_.nothing_stored(too_large))
        return _begin("dropped files", files, uses, profile)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise


def _begin(name: str, files: Sequence[str], uses: Sequence[UseSpec], profile: str) -> Sitting:
    """The sitting and its job, both or neither."""
    with transaction.atomic():
        sitting = _new_sitting(name, uses, profile)
        begin = queue.recorded(sitting, Job.Kind.ADOPT, files=list(files))
    begin()
    return sitting


def _new_sitting(name: str, uses: Sequence[UseSpec], profile_name: str) -> Sitting:
    profile, _ = ToleranceProfile.objects.get_or_create(name=profile_name)
    sitting = Sitting.objects.create(
        name=_named_after(name), scene="", question="What do these frames say?", expectation="",
        held_on=timezone.localdate(), profile=profile, first_accepted_at=timezone.now(),
    )  # fmt: skip
    Use.objects.bulk_create(unsaved_uses(sitting, uses))
    return sitting


def _uses_of(sitting: Sitting) -> list[UseSpec]:
    return [
        UseSpec(
            use.name, use.output_pixels, use.crop_share, use.print_width_cm, use.viewing_cm, use.monochrome
        )
        for use in sitting.uses.all()
    ]  # fmt: skip


def leave(sitting: Sitting) -> None:
    """Take none of the sittings that were found: nothing of them stays. Refuses a sitting that has frames."""
    if sitting.frames.exists():
        raise Refusal("These files were imported already.")
    sitting.delete()


def _named_after(name: str) -> str:
    return f"Adopted: {name}"[:120]


@handles(Job.Kind.ADOPT)
def adopt_files(job: Job, progress: progress_.Progress) -> str:
    """The adopting job: look at every file, sort the frames, write the plan backwards. Returns a summary.

    Where the files are of several sittings, of other days or bodies, these are offered first, to be taken or left.

    Everything is stored in one step; taken up again after that step, there is nothing left to do but to say so.
    """
    sitting = job.sitting
    files: list[str] = job.parameters["files"]
    if not job.parameters.get("chosen") and not sitting.frames.exists():
        files = [path for path in files if could_be_frame(path)]
        found = _sittings_in(files)
        if len(found) > 1:
            job.parameters["found"] = [one.plain for one in found]
            job.save(update_fields=["parameters"])
            return f"{len(found)} sittings were found in {len(files)} files{_passed_over(job)}"
    if not sitting.frames.exists():
        facts, pictures = _facts_of(sitting, files, progress)
        with transaction.atomic():
            _store(sitting, facts, adopt([_found(n, one) for n, one in enumerate(facts)]))
            nameless.keep_claims(sitting)
            begin = _lanes_recorded(sitting, pictures)
        begin()
    return _summary(sitting) + _passed_over(job)


def _sittings_in(files: Sequence[str]) -> tuple[FoundSitting, ...]:
    """What was shot together, from what the files say; nothing is decoded yet."""
    said = [outcome for _, outcome in run_all(claimed, files, here=True) if isinstance(outcome, Claimed)]
    # A file that cannot even be looked at goes where most go, and is told there.
    seen = {one.path for one in said}
    return sittings_in([*said, *(Claimed(path, "", None, None, None) for path in files if path not in seen)])


def _passed_over(job: Job) -> str:
    words = others_in_words(path for path in job.parameters["files"] if not could_be_frame(path))
    return f"; passed over: {words}" if words else ""


def offered_to(sitting: Sitting) -> tuple[FoundSitting, ...]:
    """What was found in the folder of a sitting to be taken or left; nothing where it all went into one."""
    job = sitting.jobs.filter(kind=Job.Kind.ADOPT).last()
    return tuple(FoundSitting.from_plain(one) for one in (job.parameters.get("found", ()) if job is not None else ()))


def take(sitting: Sitting, wanted: Sequence[int]) -> list[Sitting]:
    """Make sittings of what was found in a folder, of those chosen; the others are left. Refuses none at all."""
    offered = offered_to(sitting)
    chosen = [offered[n] for n in wanted if 0 <= n < len(offered)]
    if not offered or sitting.frames.exists():
        raise Refusal("These files were imported already.")
    if not chosen:
        raise Refusal("Tick the sittings to create.")
    with transaction.atomic():
        uses = _uses_of(sitting)
        made = [sitting, *(_new_sitting(one.named, uses, sitting.profile.name) for one in chosen[1:])]
        sitting.name = _named_after(chosen[0].named)
        sitting.save(update_fields=["name"])
        begins = [
            queue.recorded(one, Job.Kind.ADOPT, files=list(found.paths), chosen=True)
            for one, found in zip(made, chosen, strict=True)
        ]
    for begin in begins:
        begin()
    return made


def _facts_of(
    sitting: Sitting, files: Sequence[str], progress: progress_.Progress
) -> tuple[list[FrameFacts], list[str]]:
    """What the readable files say, the same content once; the others are noted with their reason.

    Where there are raw files the pictures beside them are handed back; where there are none the pictures are the frames.
    """
    facts, others = _looked_at(sitting, files, inspect_file, progress)
    pictures = [path for path, error in others if _is_picture(path, error)]
    refused = [(path, error) for path, error in others if not _is_picture(path, error)]
    if not facts and pictures:
        facts, more = _looked_at(sitting, pictures, inspect_picture, progress)
        refused, pictures = [*refused, *more], []
    for path, error in refused:
        note_problem(sitting, Path(path).name, misfit_from(error), path)
    return facts, pictures


def _is_picture(path: str, error: Exception) -> bool:
    return getattr(error, "code", "") == NOT_RAW and path.lower().endswith(PICTURE_SUFFIXES)


def _looked_at(
    sitting: Sitting, files: Sequence[str], look: Callable[[str], FrameFacts], progress: progress_.Progress
) -> tuple[list[FrameFacts], list[tuple[str, Exception]]]:
    """Facts of the files that could be read, and what is wrong with the others; a copy is noted here."""
    progress.begin(len(files))
    facts: list[FrameFacts] = []
    seen: dict[str, FrameFacts] = {}
    others: list[tuple[str, Exception]] = []
    known = nameless.known_kinds()
    for path, outcome in run_all(look, files):
        if not isinstance(outcome, FrameFacts):
            others.append((path, outcome))
        elif outcome.sha256 in seen:
            note_problem(sitting, Path(path).name, same_content(Path(seen[outcome.sha256].path).name), path)
        else:
            seen[outcome.sha256] = outcome
            facts.append(nameless.with_name(outcome, known))
        progress.step()
    return facts, others


def _lanes_recorded(sitting: Sitting, pictures: Sequence[str]) -> Callable[[], object]:
    """Pictures that were written beside raw files become lanes of their ladders; those of no raw file are noted.

    What comes back is to be called after the caller's transaction, and begins placing them.
    """
    by_stem: dict[str, Ladder] = {}
    for frame in (
        Frame.objects.filter(sitting=sitting, shot__isnull=False).select_related("shot__rung__ladder").defer("report")
    ):
        if frame.shot is not None:
            by_stem[_stem(frame.path)] = frame.shot.rung.ladder
    own: dict[Ladder, list[str]] = defaultdict(list)
    for path in pictures:
        ladder = by_stem.get(_stem(path))
        if ladder is not None:
            own[ladder].append(path)
        else:
            note_problem(sitting, Path(path).name, _PICTURE_ALONE, path)
    lanes = [
        [Lane.objects.create(ladder=ladder, kind=Lane.Kind.CAMERA, name=_CAMERA_LANE).pk, files]
        for ladder, files in own.items()
    ]
    return queue.recorded(sitting, Job.Kind.LANE, lanes=lanes) if lanes else lambda: None


_CAMERA_LANE = "camera pictures"
_PICTURE_ALONE = Misfit(
    "picture", "is a picture, and no raw file of its name is here.",
    "Add it to a lane on the Look page, or adopt a folder of pictures alone.",
)  # fmt: skip


def _stem(path: str) -> str:
    """Folder and name without the ending: two cards may hold equal names."""
    return str(Path(path).with_suffix("")).casefold()


def _summary(sitting: Sitting) -> str:
    frames, ladders = sitting.frames.count(), sitting.ladders.count()
    placed = sitting.frames.filter(shot__isnull=False).count()
    parts = [
        f"{counted(placed, 'frame')} in {counted(ladders, 'ladder')}" if ladders else "",
        f"{counted(frames - placed, 'frame')} in no ladder" if frames > placed else "",
        f"{counted(problems, 'file')} not used" if (problems := sitting.problems.count()) else "",
    ]
    return ", ".join(part for part in parts if part)


def _found(index: int, facts: FrameFacts) -> FoundFrame:
    data = facts.metadata
    return FoundFrame(
        index, data.make, data.model, data.serial, facts.width, facts.height, data.iso, data.exposure_s, data.f_number,
        facts.dark, data.captured_at,
    )  # fmt: skip


@transaction.atomic
def _store(sitting: Sitting, facts: Sequence[FrameFacts], adoption: Adoption) -> None:
    days = sorted(one.metadata.captured_at.date() for one in facts if one.metadata.captured_at)
    if days:
        sitting.held_on = days[0]
        sitting.save(update_fields=["held_on"])
    for position, ladder in enumerate(adoption.ladders):
        _store_ladder(sitting, position, ladder, lambda index, shot: add_frame(sitting, facts[index], shot))
    number_shots(sitting)
    renew_checklist(sitting)
    for index in (*adoption.singles, *adoption.unsaid):
        frame = add_frame(sitting, facts[index], None, standing=Frame.Standing.EXTRA)
        if isinstance(frame, Frame) and index in adoption.unsaid:
            Frame.objects.filter(pk=frame.pk).update(standing_reason="does not say its ISO or time")
    for guess in adoption.guesses:
        SittingEvent.objects.create(sitting=sitting, kind=SittingEvent.Kind.NOTE, text=f"guessed: {guess}"[:300])


def _store_ladder(
    sitting: Sitting, position: int, adopted: AdoptedLadder, place: Callable[[int, Shot], object]
) -> Ladder:
    body = _body_of(adopted)
    spec = _spec_of(adopted, body)
    record = Ladder.objects.create(
        sitting=sitting, body=body, position=position, kind=adopted.kind, method=adopted.method, spec=spec_as_dict(spec),
        metered_iso=round(adopted.metered.iso), metered_exposure_s=adopted.metered.exposure_s, f_number=adopted.f_number,
    )  # fmt: skip
    reference = adopted.metered
    names: set[str] = set()
    for n, rung in enumerate(adopted.rungs):
        exposure = Exposure(rung.iso, rung.exposure_s, adopted.f_number)
        label, at_stops = _name_of(adopted, rung)
        # Bulb exposures may lie so close together that they round to one name.
        label = label if label not in names else f"{rung.exposure_s:.6g} s, {n + 1}"
        names.add(label)
        row = Rung.objects.create(
            ladder=record, position=n, key=label.removeprefix("ISO ").removesuffix(" s").replace(" ", ""), label=label,
            at_stops=at_stops, iso=rung.iso, exposure_s=rung.exposure_s,
            expected_stops=exposure.level_stops - reference.level_stops,
            extended=not body.native_lowest_iso <= rung.iso <= body.native_highest_iso,
        )  # fmt: skip
        for kind, indices in ((Shot.Kind.LIGHT, rung.light), (Shot.Kind.DARK, rung.darks)):
            for repeat, index in enumerate(indices, start=1):
                shot = Shot.objects.create(rung=row, kind=kind, repeat=repeat)
                place(index, shot)
    return record


@transaction.atomic
def dissolve(ladder: Ladder) -> None:
    """Take an adopted ladder apart: its frames become singles. Refuses what was graded or recorded already."""
    if ladder.records.exists() or Grade.objects.filter(rung__ladder=ladder).exists():
        raise Refusal(f"{ladder} was graded or has a record: it stays.")
    sitting = ladder.sitting
    if sitting.ladders.count() == 1:
        raise Refusal("A sitting needs a ladder: move the single frames into another ladder first.")
    frames = Frame.objects.filter(shot__rung__ladder=ladder)
    count = frames.update(shot=None, standing=Frame.Standing.EXTRA, standing_reason="single")
    SittingEvent.objects.create(
        sitting=sitting, kind=SittingEvent.Kind.NOTE, text=f"{ladder} taken apart: {count} frames are singles now"
    )
    ladder.delete()
    number_shots(sitting)
    renew_checklist(sitting)


@transaction.atomic
def gather(sitting: Sitting, frames: Sequence[Frame], kind: str) -> Ladder:
    """Make a ladder of singles, at a person's word. Refuses, with the reason, what cannot be one."""
    if kind not in ("iso", "exposure", "time"):
        raise Refusal("Choose which kind of ladder these frames are.")
    if not frames or any(frame.shot_id is not None for frame in frames):
        raise Refusal("Choose frames that belong to no shot.")
    try:
        adopted = as_ladder(kind, [_found_again(n, frame) for n, frame in enumerate(frames)])
    except ValueError as error:
        raise Refusal(str(error)) from error

    def place(index: int, shot: Shot) -> None:
        frame = frames[index]
        frame.shot, frame.standing, frame.standing_reason = shot, Frame.Standing.USED, ""
        frame.save(update_fields=["shot", "standing", "standing_reason"])

    last = sitting.ladders.last()
    ladder = _store_ladder(sitting, last.position + 1 if last else 0, adopted, place)
    number_shots(sitting)
    renew_checklist(sitting)
    SittingEvent.objects.create(
        sitting=sitting, kind=SittingEvent.Kind.NOTE, text=f"{ladder} made of {len(frames)} singles"
    )
    return ladder


def _found_again(index: int, frame: Frame) -> FoundFrame:
    iso = frame.said("iso")
    captured = datetime.fromisoformat(frame.captured_at) if frame.captured_at else None
    return FoundFrame(
        index, frame.make, frame.model, frame.serial, frame.width, frame.height, None if iso is None else round(iso),
        frame.said("exposure_s"), frame.said("f_number"), frame.dark, captured,
    )  # fmt: skip


def _name_of(adopted: AdoptedLadder, rung: AdoptedRung) -> tuple[str, float]:
    """The label of a rung and its place on the stop axis."""
    if adopted.kind == "iso":
        return f"ISO {rung.iso}", apex.stops_between(dial.exact_iso(adopted.metered.iso), dial.exact_iso(rung.iso))
    seconds = dial.exact_exposure_s(rung.exposure_s)
    if adopted.kind == "time":
        return notation.shutter_label(rung.exposure_s), apex.stops_between(1.0, seconds)
    move = apex.stops_between(dial.exact_exposure_s(adopted.metered.exposure_s), seconds)
    text = notation.with_sign(move, 2)
    return text.rstrip("0").rstrip(".") if "." in text and move else "0", move


def _body_of(adopted: AdoptedLadder) -> Body:
    """The body in the register, or a new entry as the frames describe it."""
    # What the frames do not say is filled in before it is looked for: the same frames are the same body every time.
    make, model = adopted.make[:80] or UNNAMED_MAKE, adopted.model[:80] or UNNAMED_MODEL
    serial = adopted.serial[:80]
    found = Body.objects.filter(make=make, model=model)
    body = found.filter(serial=serial).first() or found.filter(serial="").first()
    if body is not None:
        return body
    isos = sorted({rung.iso for rung in adopted.rungs})
    return Body.objects.create(
        make=make, model=model, serial=serial,
        pixel_width=adopted.size[0], pixel_height=adopted.size[1], lowest_iso=isos[0], native_lowest_iso=isos[0],
        native_highest_iso=isos[-1], highest_iso=isos[-1], fastest_shutter_s=_FASTEST_S, slowest_shutter_s=_SLOWEST_S,
    )  # fmt: skip


def _spec_of(adopted: AdoptedLadder, body: Body) -> LadderSpec:
    """The plan written backwards, so that a re-shoot or a repeat with another body can begin from it.

    What the body's dial cannot repeat is left out of the spec; the rungs keep what was found.
    """
    lights = max((len(rung.light) for rung in adopted.rungs), default=0)
    darks = max((len(rung.darks) for rung in adopted.rungs), default=0)
    metered = adopted.metered
    if not body.limits.has_iso(metered.iso):
        metered = Exposure(body.limits.nearest_iso(metered.iso), metered.exposure_s, metered.f_number)
    picked: tuple[float, ...]
    if adopted.kind == "iso":
        picked = tuple(float(rung.iso) for rung in adopted.rungs if body.limits.has_iso(rung.iso))
    elif adopted.kind == "time":
        picked, lights, darks = tuple(rung.exposure_s for rung in adopted.rungs), darks, 0
    else:
        middle_s = dial.exact_exposure_s(adopted.metered.exposure_s)
        found = (math.log2(dial.exact_exposure_s(rung.exposure_s) / middle_s) for rung in adopted.rungs)
        picked = tuple(round(move, 2) for move in found)
    spec = LadderSpec(adopted.kind, adopted.method, metered, picked=picked, repeats=max(lights, 1), darks=darks)
    try:
        plan_ladder(spec, body.limits)
    except PlanError:
        return LadderSpec("iso", "shutter", Exposure(body.native_lowest_iso, 1 / 8, adopted.f_number))
    return spec
