"""The demo: a county moth survey tries the simulated Ostrel Heath on a specimen drawer."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import TypeAlias

from django.conf import settings
from django.db import transaction
from django.db.models import Exists, OuterRef, QuerySet
from PIL import Image, ImageFilter

from yellowjacket.bench.darks import masters, measure
from yellowjacket.bench.decoding import mosaic_of
from yellowjacket.bench.development import Developing
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.look import grades, pair_verdicts, renditions
from yellowjacket.bench.measure import patches, run, staleness
from yellowjacket.bench.models import (
    Frame,
    Grade,
    Job,
    Ladder,
    MasterDark,
    PairVerdict,
    Shot,
    Sitting,
    ToleranceProfile,
)
from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec, create_sitting
from yellowjacket.bench.record import other_limits
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.simulation import shoot
from yellowjacket.bench.tolerance.profiles import DEFAULT_PROFILE
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import develop_crop
from yellowjacket.simcam.bodies import FEN, HEATH, HOLT, MOOR, BodyModel
from yellowjacket.simcam.scene import EYE_SPOT

USES = (UseSpec("Pixel level", None), UseSpec("Large print", 24_000_000), UseSpec("Web", 2_000_000))
_METERED = Exposure(100, 1 / 8, 8.0)
_LADDER_12 = ((HEATH, LadderSpec("iso", "shutter", _METERED)),)
_LADDERS_7 = (
    (HEATH, LadderSpec("iso", "shutter", _METERED, picked=(100, 800, 6400), darks=0)),
    (HEATH, LadderSpec("exposure", "shutter", _METERED)),
    (HEATH, LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), longest_s=240.0, lenr="pairs", rest_s=20.0)),
)
# The push day: how far the Moor may be wrong, and whether ISO matters on the Heath and on the old Fen.
_PUSHED = (
    (MOOR, LadderSpec("exposure", "shutter", _METERED, under=5.0, over=5.0, darks=0)),
    (HEATH, LadderSpec("iso", "fixed", Exposure(3200, 1 / 250, 8.0), picked=(100, 200, 400, 800, 1600, 3200), darks=0)),
    (FEN, LadderSpec("iso", "fixed", Exposure(3200, 1 / 250, 8.0), picked=(100, 3200), darks=0)),
    (HEATH, LadderSpec("setting", "raw_mode", Exposure(6400, 1 / 500, 8.0), values=("full", "half"), darks=0)),
    (HEATH, LadderSpec("setting", "noise_reduction", Exposure(6400, 1 / 500, 8.0), values=("off", "high"), darks=0)),
)
# The nights at the light traps: a warm and a cool body, darks along time with LENR off and on, and one picture.
_DARK_TIMES = (1, 8, 60, 240)
_DARKS = LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=_DARK_TIMES, lenr="pairs", rest_s=45.0, repeats=2)
_NIGHTS = ((HEATH, replace(_DARKS, repeats=3)), (FEN, replace(_DARKS, lenr="off")))
_NIGHT_SCENE = (HEATH, LadderSpec("time", "scene", Exposure(800, 60.0, 8.0), picked=(60,), repeats=1, darks=0))
# Name, role and place of a texture in raw pixels.
_Texture: TypeAlias = tuple[str, str, tuple[int, int, int, int]]
# A part of the sensor: many frames in little room, with hundreds of hot pixels all the same.
_NIGHT_WINDOW = (720, 480)
# Two bodies on one scene: the upper part of the sensor, with wedge, grey card, label and three moths.
_TWO_BODIES = tuple(
    (body, LadderSpec("iso", "shutter", _METERED, picked=(100, 1600, 6400, 25600), darks=0)) for body in (HEATH, MOOR)
)
_DRAWER_WINDOW = (1824, 416)
_FINE_PRINT = (("fine print", "texture", (1410, 262, 340, 130)),)
_DRAWER_9 = "Drawer 9, two bodies"
# Who is better there, as the demo's tester saw it side by side for the large print: the Heath from ISO 1600 on.
_VERDICTS = {100: 0, 1600: 1, 6400: 1, 25600: 2}
_FINISHED_MARKS = (1600, 6400, 25600)
# A body with a 6×6 tile of filters, on the part of the drawer that the two bodies saw.
_LADDER_3 = ((HOLT, LadderSpec("iso", "shutter", Exposure(160, 1 / 13, 8.0), picked=(160, 640, 2500, 10000))),)
_DRAWER_3 = "Drawer 3, other filters"
_DRAWER_12 = "Drawer 12"
_DRAWER_7 = "Drawer 7, second lamp"
_DRAWER_5 = "Drawer 5, pushed"
_NIGHT_WARM, _NIGHT_COOL = "Light trap, warm night", "Light trap, cool night"
_JUDGE = "Wren Halloway"
# Corners of the colour patches and of the wedge on the drawer, and its textures, in raw pixels.
_PATCH_CORNERS = ((64, 924), (938, 924), (938, 1170), (64, 1170))
_WEDGE_CORNERS = ((64, 40), (1344, 40), (1344, 124), (64, 124))
_TEXTURES = (
    ("random grain", "texture", (1008, 938, 224, 224)), ("coloured grain", "colour_texture", (1258, 938, 108, 224)),
)  # fmt: skip
# What goes wrong on the second day, so that the Check page has something to find.
_MISHAPS_7 = ("defocus", "iso", "skipped")
# Grades of the demo's tester by rung, ISO 50 first, and the reason key of the last ones.
_GRADES = {"Pixel level": "AAAAABBCDDEE", "Large print": "AAAAAABCDDEE", "Web": "AAAAAAABBCDE"}
_REASONS = {"B": Grade.Reason.GRAIN, "C": Grade.Reason.GRAIN, "D": Grade.Reason.BLOTCHES, "E": Grade.Reason.DETAIL}


def make_demo(report: Callable[[str], None]) -> None:
    """Make whatever of the demo is missing; what is there already is left alone. Killed at any line, it goes on from there:
    every step is stored whole, and work that was under way is finished first.

    ``report`` gets a line per step.
    """
    first = _planned(
        _DRAWER_12, date(2026, 3, 14), "How high may ISO go for specimen plates?", "ISO 3200 for the large print.",
        _LADDER_12,
    )  # fmt: skip
    second = _planned(
        _DRAWER_7, date(2026, 3, 21), "Does the second lamp change the limits, and how far can I go wrong?",
        "The limits stand; three stops under can be pushed.", _LADDERS_7,
    )  # fmt: skip
    ladder = first.ladders.get()
    if _shots_due(ladder):
        report("Demo: the simulated camera shoots 48 frames ...")
        _shoot(ladder)
        if _shots_due(ladder):
            raise ValueError(f"demo: {first.problems.first()}; `make demo-reset` starts over")
    if not ladder.patches.exists():
        _mark_scene(ladder)
    if staleness.unmeasured(ladder):
        report("Demo: measuring 12 rungs ...")
        _measure(first)
    if not Grade.objects.filter(rung__ladder=ladder).exists():
        _grade(ladder)
    if not ladder.records.exists():
        _record(
            ladder,
            "Higher: ISO 6400 for the large print and pixel by pixel, ISO 25600 for the web.",
            "Read noise halves from ISO 400 to 800: prefer 800 in dim rooms.",
        )
    _finish_shooting(second)
    if not second.frames.exists():
        report("Demo: a second day, with mistakes to find, is under way ...")
        _shoot(second.ladders.all()[0], mishaps=_MISHAPS_7, window=_DRAWER_WINDOW)
    _push_day(report)
    _nights(report)
    _two_bodies(report)
    _other_filters(report)
    report("Demo: ready.")


@transaction.atomic
def _record(ladder: Ladder, answer: str, text: str) -> None:
    """A record as its tester signed it: what was measured, taken over."""
    record = record_.open_record(ladder)
    record_.note(record, answer=answer, text=text)
    record_.accept_proposed(record, _JUDGE)
    others = other_limits.of_ladder(ladder, list(ladder.sitting.uses.all()))
    other_limits.take_over(record, others, _JUDGE)
    record_.sign(record, _JUDGE, other_limits.as_evidence(others))


def _push_day(report: Callable[[str], None]) -> None:
    """A third sitting: an exposure ladder, ISO ladders held fixed, settings; shot here, measured by the worker."""
    sitting = _planned(
        _DRAWER_5, date(2026, 3, 28), "How far can the Moor be wrong, and is ISO worth raising on the Heath?",
        "Three stops under can be pushed.", _PUSHED,
    )  # fmt: skip
    ladders = list(sitting.ladders.all())
    if any(_shots_due(ladder) for ladder in ladders):
        report("Demo: two bodies are pushed and pulled ...")
        for ladder in ladders:
            # What noise reduction takes shows in the part with the fine print as well.
            _shoot(ladder, window=_DRAWER_WINDOW if ladder.method == Ladder.Method.NOISE_REDUCTION else None)
    for ladder in ladders:
        if not ladder.patches.exists():
            partly = ladder.method == Ladder.Method.NOISE_REDUCTION
            _mark_scene(
                ladder, charts=ladder.kind == Ladder.Kind.EXPOSURE, textures=_FINE_PRINT if partly else _TEXTURES
            )
    # Measuring goes on while the first pages are looked at, as it would after any day.
    if any(staleness.unmeasured(ladder) for ladder in ladders):
        _later(sitting, Job.Kind.MEASURE, lambda: run.start_measuring(sitting))


def _two_bodies(report: Callable[[str], None]) -> None:
    """A sitting of two bodies, with verdicts on pairs and a lane of pictures that were denoised elsewhere."""
    sitting = _planned(
        _DRAWER_9, date(2026, 4, 4), "Which of the two for the winter drawers, and from which ISO on?",
        "No difference at base ISO.", _TWO_BODIES,
    )  # fmt: skip
    one, other = sitting.ladders.all()
    if _shots_due(one) or _shots_due(other):
        report("Demo: two bodies before one drawer ...")
        _shoot(one, window=_DRAWER_WINDOW)
        _shoot(other, window=_DRAWER_WINDOW)
    for ladder in (one, other):
        if not ladder.patches.exists():
            _place_textures(ladder, _FINE_PRINT)
    if staleness.unmeasured(one) or staleness.unmeasured(other):
        report("Demo: measuring 8 rungs ...")
        _measure(sitting)
    # A second body with a signed record, to compare with the first.
    if not other.records.exists():
        _record(other, "From ISO 1600 on the Heath is the better one.", "")
    if not PairVerdict.objects.filter(use__sitting=sitting).exists():
        use = sitting.uses.get(name="Large print")
        with transaction.atomic():
            for mark, score in _VERDICTS.items():
                pair_verdicts.give(one.rungs.get(iso=mark), other.rungs.get(iso=mark), use, _JUDGE, score)
    if not one.lanes.exists():
        files = _finished(one)
        with transaction.atomic():
            lane = renditions.create_lane(one, "finish", "gentle median", "median of 3 × 3, no sharpening", _JUDGE)
            queue.start(sitting, Job.Kind.LANE, lane=lane.pk, files=files)


def _other_filters(report: Callable[[str], None]) -> None:
    """A ladder of a body whose filters repeat after six pixels, proposed patches and no more."""
    sitting = _planned(
        _DRAWER_3, date(2026, 4, 11), "Is the smaller body enough for the cabinet?", "To ISO 1600.", _LADDER_3
    )
    ladder = sitting.ladders.get()
    if _shots_due(ladder):
        report("Demo: a body with other filters ...")
        _shoot(ladder, window=_DRAWER_WINDOW)
    if not ladder.patches.exists():
        patches.propose(ladder)
    if staleness.unmeasured(ladder):
        _later(sitting, Job.Kind.MEASURE, lambda: run.start_measuring(sitting))


def _finished(ladder: Ladder) -> list[str]:
    """What the tester made of some frames in a tool of their own: developed, denoised, saved as JPEG."""
    folder = settings.HOME / "originals" / f"finished-{ladder.pk}"
    folder.mkdir(parents=True, exist_ok=True)
    developing, paths = Developing.of(ladder), []
    frames = Frame.objects.filter(shot__rung__ladder=ladder, shot__rung__iso__in=_FINISHED_MARKS)
    for frame in frames.select_related("shot"):
        assert frame.shot is not None  # noqa: S101 - the query asks for it
        mosaic, how = mosaic_of(frame), developing.of_frame(frame, frame.shot.rung_id).how
        picture = Image.fromarray(develop_crop(mosaic, Rect(0, 0, frame.width, frame.height), how))
        path = folder / f"{Path(frame.path).stem}-median.jpg"
        picture.filter(ImageFilter.MedianFilter(3)).save(path, quality=95)
        paths.append(str(path))
    return paths


def _nights(report: Callable[[str], None]) -> None:
    """Darks of two bodies on a warm night, of one of them on a cool one; masters of the warm ones."""
    for name, held_on, celsius, ladders in (
        (_NIGHT_WARM, date(2026, 6, 19), 24.0, (*_NIGHTS, _NIGHT_SCENE)),
        (_NIGHT_COOL, date(2026, 4, 10), 8.0, ((HEATH, replace(_DARKS, lenr="off")),)),
    ):
        sitting = _planned(
            name, held_on, "How long at the trap before hot pixels spoil the plate, and does LENR pay?",
            "A minute, and LENR from there on.", ladders, celsius,
        )  # fmt: skip
        due = [ladder for ladder in sitting.ladders.all() if _shots_due(ladder)]
        if due:
            report(f"Demo: {name.lower()}, the lens is capped ...")
        for ladder in due:
            _shoot(ladder, window=_NIGHT_WINDOW)
        if any(measure.unmeasured(ladder) for ladder in measure.time_ladders(sitting)):
            _later(sitting, Job.Kind.DARKS, lambda sitting=sitting: measure.start_measuring(sitting))  # type: ignore[misc]
        if name == _NIGHT_WARM and not MasterDark.objects.exists():
            _later(sitting, Job.Kind.MASTER, lambda sitting=sitting: masters.start_making(sitting, []))  # type: ignore[misc]


def _later(sitting: Sitting, kind: str, start: Callable[[], Job]) -> None:
    """Leave work to the application's worker, unless it waits there already."""
    if not _open_jobs(sitting, kind).exists():
        start()


def _open_jobs(sitting: Sitting, kind: str) -> QuerySet[Job]:
    """Work that waits or was under way when the application was last ended."""
    return sitting.jobs.filter(kind=kind, state__in=Job.OPEN)


@transaction.atomic
def _planned(
    name: str, held_on: date, question: str, expectation: str, ladders: Sequence[tuple[BodyModel, LadderSpec]],
    night_c: float | None = None,
) -> Sitting:  # fmt: skip
    """The sitting of that name, planned if it is not there. ``night_c``: the room (°C), for darks with the lens capped."""
    found = Sitting.objects.filter(name=name).first()
    if found is not None:
        return found
    profile, _ = ToleranceProfile.objects.get_or_create(name=DEFAULT_PROFILE)
    sitting = Sitting(
        name=name, scene="specimen drawer", question=question, expectation=expectation, held_on=held_on,
        lens="90 mm macro", light="lamp room, two panels", temperature_c=20.0, profile=profile,
    )  # fmt: skip
    requests = [LadderRequest(shoot.register_simulated(body), spec) for body, spec in ladders]
    create_sitting(sitting, USES, requests)
    sitting.ladders.update(spot_x=EYE_SPOT[0], spot_y=EYE_SPOT[1])
    if night_c is not None:
        sitting.temperature_c, sitting.lens, sitting.light = night_c, "90 mm macro, capped", "none"
        sitting.save(update_fields=["temperature_c", "lens", "light"])
        sitting.ladders.update(before=Ladder.Before.REST)
    return sitting


def _shoot(ladder: Ladder, mishaps: Collection[str] = (), window: tuple[int, int] | None = None) -> None:
    """Shoot what is due of a ladder, after what was under way."""
    shoot.accept_without_looking(ladder.sitting)
    _finish_shooting(ladder.sitting)
    ladder = Ladder.objects.select_related("body", "sitting").get(pk=ladder.pk)
    if _shots_due(ladder):
        _run_now(shoot.start_shooting(ladder, "rest", mishaps, window))


def _finish_shooting(sitting: Sitting) -> None:
    for job in _open_jobs(sitting, Job.Kind.SHOOT):
        _run_now(job)


def _measure(sitting: Sitting) -> None:
    """Measure what is due, after what was under way."""
    for job in _open_jobs(sitting, Job.Kind.MEASURE):
        _run_now(job)
    if any(staleness.unmeasured(ladder) for ladder in sitting.ladders.all()):
        _run_now(run.start_measuring(sitting))


@transaction.atomic
def _mark_scene(ladder: Ladder, *, charts: bool = True, textures: Sequence[_Texture] = _TEXTURES) -> None:
    """What the tester marks on the picture of the drawer: colour patches, wedge, textures."""
    patches.propose(ladder)
    if charts:
        patches.lay_grid(ladder, "colour", _PATCH_CORNERS, 3, 10)
        patches.lay_grid(ladder, "wedge", _WEDGE_CORNERS, 1, 16)
    _place_textures(ladder, textures)


def _place_textures(ladder: Ladder, textures: Sequence[_Texture]) -> None:
    for name, role, place in textures:
        patches.place_patch(ladder, name, *place, role=role)


def _shots_due(ladder: Ladder) -> bool:
    return Shot.objects.filter(rung__ladder=ladder).exclude(Exists(Frame.objects.filter(shot=OuterRef("pk")))).exists()


def _run_now(job: Job) -> None:
    """Do the work here: at demo time no worker runs yet, and the job's own record makes it safe to repeat."""
    queue.run_job.call(job.pk)
    job.refresh_from_db()
    if job.state != Job.State.DONE:
        raise ValueError(f"demo: {job.message}")


@transaction.atomic
def _grade(ladder: Ladder) -> None:
    uses = {use.name: use for use in ladder.sitting.uses.all()}
    for name, letters in _GRADES.items():
        for rung, letter in zip(ladder.rungs.all(), letters, strict=True):
            grades.grade_rung(rung, uses[name], _JUDGE, "ABCDE".index(letter) + 1)
            if letter in _REASONS:
                grades.give_reason(rung, uses[name], _JUDGE, _REASONS[letter])
