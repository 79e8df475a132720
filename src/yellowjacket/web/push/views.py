"""Push: an exposure ladder brought back, its limits, and ISO against push."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from django.db.models import prefetch_related_objects
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from yellowjacket.bench.advise import exposure
from yellowjacket.bench.development import Developing
from yellowjacket.bench.models import Ladder, Patch, Reading, Rung
from yellowjacket.bench.prediction.clean_frame import Wanted
from yellowjacket.bench.push import iso_invariance, latitude, raw_modes
from yellowjacket.bench.typed import decimal
from yellowjacket.core.exposure import dial
from yellowjacket.core.latitude.iso_invariance import ALLOWED_STOPS, MEASURED, Penalty
from yellowjacket.core.latitude.push_pull import StopLimit
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.limits.tolerance import LEVELS, Profile
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.readings.raw_modes import AREA, LANCZOS, OWN
from yellowjacket.web.measure.sheet import LineKind, fixed_lines
from yellowjacket.web.pictures import CropView
from yellowjacket.web.predicted import PredictedCrop, PredictedCrops
from yellowjacket.web.push.brackets import brackets_of
from yellowjacket.web.sheet.lines import CROP_HEIGHT_PX, Crops, Readings, SeenReading
from yellowjacket.web.sheet.stave import Cell, Line, Stave, columns_of
from yellowjacket.web.sitting_page import SittingPage

_DEFAULT_LEVEL = "usable"
_SAME_NAMES = (
    (Measurand.SAME_EQUAL, "Noise at equal sharpness"), (Measurand.SAME_EDGE, "Contrast of edges, averaged = 1"),
    (Measurand.SAME_LUMA, "Luma noise as it stands, σ of L*"),
    (Measurand.SAME_CHROMA, "Chroma noise, σ of a*b*"), (Measurand.SAME_DETAIL, "Detail, line pairs a height"),
)  # fmt: skip
_STEP_OFF_STOPS = 1 / 6
# Of the spot at a value of a setting, screen pixels.
_SETTING_PX = (216, 162)
# Of the strip under the matrix: screen pixels, by how much its shadows are lifted, and how far above base ISO it ends.
_STRIP_PX, _LIFTED_STOPS, _WANTED_STOPS = (122, 92), 1.0, 6.0


def _direction(reading: SeenReading) -> str:
    """Which way a cast goes, in a word."""
    return latitude.direction_of(reading.result)


KINDS = (
    LineKind.of(Measurand.SHADOW_SNR),
    LineKind.of(Measurand.CAST_DE00),
    LineKind.of(Measurand.CAST_DE00, key="towards", name="Towards", sub="direction of the cast", text=_direction),
    LineKind.of(Measurand.CAST_DE00, key="cast-shadow", name="Cast in the shadow", sub="ΔE00", role=Patch.Role.SHADOW),
    LineKind.of(
        Measurand.CAST_DE00,
        key="towards-shadow",
        name="Shadow towards",
        sub="direction of the cast",
        text=_direction,
        role=Patch.Role.SHADOW,
    ),
    LineKind.of(Measurand.CAST_CORRECTED_DE00),
    LineKind.of(Measurand.COLOUR_SEPARATION),
    LineKind.of(Measurand.NOISE_CHROMA),
    LineKind.of(Measurand.ROW_NOISE_SHARE),
    LineKind.of(Measurand.CLIPPED_SHARE, sub="share of the highlight", role=Patch.Role.HIGHLIGHT),
    LineKind.of(Measurand.LINEARITY),
)


@dataclass(frozen=True, slots=True)
class Threshold:
    """A threshold that can be moved: key, label, which side holds, and its value as typed or as the profile has it."""

    key: str
    label: str
    at_least: bool
    text: str


@dataclass(frozen=True, slots=True)
class MatrixRow:
    """A shot ISO with its cells by wanted ISO, and the highlights it keeps."""

    iso: int
    cells: list[tuple[int, Penalty | None]]
    highlights: str


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The exposure ladder's stave with its limits, and the matrix."""
    sitting_page = SittingPage(request, sitting_id, "push")
    ladder = sitting_page.ladder
    # Who asks a ladder for its rungs gets the same.
    prefetch_related_objects(sitting_page.ladders, "rungs")
    of_setting = ladder.kind == Ladder.Kind.SETTING
    against = ladder.kind == Ladder.Kind.ISO and sitting_page.several_bodies
    readings = iso_invariance.IsoReadings.of(
        ladder, sitting_page.ladders, raw_modes.EQUALISED if against else (), sitting_page.so_far.read,
        raw_modes.asked_of(ladder) | (Developing.asked_of(ladder) if of_setting else {}), of_others=against,
    )  # fmt: skip
    frames = sitting_page.every_frame if of_setting else None
    context = sitting_page.context(
        matrix=_matrix(sitting_page, readings), same=raw_modes.same_pixels_of(ladder, readings.beside, frames),
        same_names=_SAME_NAMES, same_pictures=(OWN, AREA, LANCZOS),
    )  # fmt: skip
    if of_setting:
        sitting_page.developing = Developing.told(ladder, readings.beside, sitting_page.rungs)
        context["effects"] = raw_modes.setting_effects(ladder, readings.beside, frames)
        context["settings_seen"] = _settings_seen(sitting_page)
    elif against:
        context["equalised"] = raw_modes.equalised(sitting_page.ladders, readings.spoken.per_pixel)
    if ladder.kind == Ladder.Kind.EXPOSURE:
        context |= _exposure(sitting_page) | _limits(sitting_page)
    return render(request, "push/page.html", context)


@require_GET
def limits(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The brackets after a threshold was moved."""
    sitting_page = SittingPage(request, sitting_id, "push")
    return render(request, "push/_limits.html", sitting_page.context(**_limits(sitting_page)))


def _exposure(page: SittingPage) -> dict[str, object]:
    columns = columns_of(page.rungs, page.rung)
    stave = Stave(page.ladder, columns)
    shown = [Measurand.STEP_STOPS, *(kind.quantity for kind in KINDS)]
    readings = Readings(page, shown)
    steps = {rung.pk: readings.get(rung, Measurand.STEP_STOPS) for rung in page.rungs}
    crops = Crops.of(page)
    reference = next(rung for rung in page.rungs if rung.pk == crops.developing.reference_id)
    told = Reading.objects.filter(rung=reference, quantity__in=(Measurand.BLACK_ERROR_DN, Measurand.CLIPS_AT_STOPS))
    on_reference = list(told.exclude(patch__role=Patch.Role.FIELD).select_related("patch"))
    black = [one for one in on_reference if one.quantity == Measurand.BLACK_ERROR_DN]
    known = {one.channel: one.value for one in black if one.value is not None}
    lines = _strips(page, crops, stave.column_px, known)
    if readings:
        lines.append(_step_line(page, readings, steps))
        lines += fixed_lines(page, readings, KINDS)
    clips = [one for one in on_reference if one.quantity == Measurand.CLIPS_AT_STOPS]
    return {
        "stave": Stave(page.ladder, columns, lines),
        "measured": any(one is not None and one.value is not None for one in steps.values()),
        "black": black,
        "clips": sorted(clips, key=lambda one: (one.value is None, one.value or 0.0)),
    }


@dataclass(frozen=True, slots=True)
class SettingSeen:
    """The spot at one value of a setting, and how many of its pixels stand for one of the picture."""

    rung: Rung
    crop: CropView
    factor: float


def _settings_seen(page: SittingPage) -> list[SettingSeen]:
    """The spot at every value, all in the pixels of the smallest raw mode."""
    crops = Crops.of(page)
    first = [(rung, frames[0]) for rung in page.rungs if (frames := page.light(rung))]
    fewest = min((frame.width for _, frame in first), default=1)
    found = []
    for rung, frame in first:
        factor = frame.width / fewest
        crop = crops.view(rung, _SETTING_PX, factor=factor)
        if crop is not None:
            found.append(SettingSeen(rung, crop, factor))
    return found


def _strips(page: SittingPage, crops: Crops, column_px: int, black: Mapping[str, float]) -> list[Line]:
    """The spot of every rung as shot, brought back, the same with ``black`` DN by channel taken off where it is known, and
    the correct frame beside it."""
    size = (column_px - 2, CROP_HEIGHT_PX)
    reference = next(rung for rung in page.rungs if rung.pk == crops.developing.reference_id)
    shot = [Cell(extra=crops.view(rung, size, equalised=False)) for rung in page.rungs]
    back = [Cell(extra=crops.view(rung, size)) for rung in page.rungs]
    correct = [Cell(extra=crops.view(reference, size))] * len(page.rungs)
    lines = [
        Line("shot", "As shot", "spot at 100 %", "crops", shot),
        Line("back", "Brought back", "to the correct exposure", "crops", back),
        Line("correct", "Correct", "the metered frame", "crops", correct),
    ]
    if black:
        right = crops.with_black(black)
        cells = [Cell(extra=right.view(rung, size)) for rung in page.rungs]
        lines.insert(2, Line("black", "Black corrected", "then brought back", "crops", cells))
    return lines


def _step_line(page: SittingPage, readings: Readings, steps: Mapping[int, SeenReading | None]) -> Line:
    kind = LineKind.of(Measurand.STEP_STOPS, key="step", name="Exposure", sub="stops, as measured")
    (line,) = fixed_lines(page, readings, [kind]) or [Line("step", kind.name, kind.sub)]
    cells = []
    for rung, cell in zip(page.rungs, line.cells or [Cell()] * len(page.rungs), strict=True):
        step = steps[rung.pk]
        off = step is not None and step.value is not None and abs(step.value - rung.at_stops) > _STEP_OFF_STOPS
        cells.append(Cell(cell.text, off, cell.title, cell.doubtful, cell.reading_id))
    return Line(line.key, line.name, line.sub, cells=cells)


def _level(page: SittingPage) -> str:
    level = page.request.GET.get("level_of", _DEFAULT_LEVEL)
    return level if level in LEVELS else _DEFAULT_LEVEL


def _moved(page: SittingPage) -> tuple[Profile, list[Threshold], bool]:
    """The profile with the thresholds typed, how the form shows them, and whether one differs from the profile."""
    profile, level = page.sitting.profile.criteria.seen_in(monochrome=page.use.monochrome), _level(page)
    typed: dict[str, float] = {}
    rows = []
    for criterion in profile.criteria:
        text = page.request.GET.get(f"t_{criterion.key}", "")
        value = decimal(text, 0)
        if value is None:
            text = f"{criterion.threshold(level):g}"
        else:
            typed[criterion.key] = value
        rows.append(Threshold(criterion.key, criterion.label, criterion.at_least, text))
    moved = latitude.profile_with(profile, typed, level)
    return moved, rows, moved.criteria != profile.criteria


def _limits(page: SittingPage) -> dict[str, object]:
    profile, thresholds, moved = _moved(page)
    found = latitude.exposed(page.ladder, page.use)
    recovery, level = latitude.recovery(found, profile), _level(page)
    places = [
        one.stops.value if one.stops.value is not None else rung.at_stops
        for one, rung in zip(found.plain, page.rungs, strict=True)
    ]
    column_px = Stave(page.ladder, columns_of(page.rungs, None)).column_px
    return {
        "brackets": brackets_of(recovery.push, recovery.pull, places, column_px),
        "thresholds": thresholds, "level": level, "levels": LEVELS, "moved": moved,
        "push": recovery.push[level], "pull": recovery.pull[level],
        "gain": _gain(recovery.push[level], recovery.corrected[level]), "corrected": recovery.corrected[level],
        "turned": latitude.turning(found, profile), "banded": latitude.banding(found, profile),
        "doubts": sorted({doubt for limit in recovery.push.values() for doubt in limit.doubts}),
    }  # fmt: skip


def _gain(plain: StopLimit, corrected: StopLimit) -> float | None:
    """Stops that correcting the black would add to the push."""
    if plain.stops is None or corrected.stops is None:
        return None
    return corrected.stops - plain.stops


@dataclass(frozen=True, slots=True)
class Brought:
    """The wanted brightness reached from a shot ISO: by how many stops it is pushed, what that costs, and how it looks."""

    iso: int
    pushed_stops: float
    penalty: Penalty | None
    crop: PredictedCrop


def _strip(page: SittingPage, found: latitude.IsoAgainstPush) -> list[Brought]:
    """The brightness of a high ISO from every one below it, on the clean frame of the ladder that speaks for the body."""
    ladder = exposure.ladder_of(page.ladder.body, page.ladders)
    if ladder is None:
        return []
    factor, _ = use_noise_factor(page.ladder.body.pixels, page.use.whole_frame_pixels)
    crops = PredictedCrops.of(ladder, _STRIP_PX, factor, monochrome=page.use.monochrome)
    wanted = page.ladder.body.native_lowest_iso * 2.0**_WANTED_STOPS
    top = min(found.isos, key=lambda iso: abs(math.log2(iso / wanted)))
    strip = []
    for iso in (one for one in found.isos if one <= top):
        pushed = math.log2(dial.exact_iso(top) / dial.exact_iso(iso))
        crop = crops.at(Wanted(dial.exact_iso(iso), pushed, _LIFTED_STOPS))
        strip.append(Brought(iso, pushed, found.penalties.get((iso, top)), crop))
    return strip


def _matrix(page: SittingPage, readings: iso_invariance.IsoReadings) -> dict[str, object] | None:
    found = iso_invariance.iso_against_push(readings)
    if found is None:
        return None
    rows = []
    for iso in found.isos[:-1]:
        kept = found.highlights[iso].value
        cells = [(wanted, found.penalties.get((iso, wanted))) for wanted in found.isos[1:]]
        rows.append(MatrixRow(iso, cells, "" if kept is None else f"{kept:.1f}"))
    own = (ladder for ladder in page.ladders if ladder.body_id == page.ladder.body_id)
    pushed = [ladder for ladder in own if ladder.kind == Ladder.Kind.EXPOSURE]
    costly = [one for one in found.penalties.values() if one.stops.value is not None]
    worst = max(costly, key=lambda one: one.stops.value or 0.0, default=None)
    return {
        "no_cost": (found.invariance.worst.value or 0.0) <= 0,
        "cast": latitude.turns(pushed, page.use),
        "wanted": found.isos[1:], "rows": rows, "invariance": found.invariance, "allowed": ALLOWED_STOPS,
        "worst": worst, "measured": found.measured, "top": found.isos[-1], "kind_measured": MEASURED,
        "strip": _strip(page, found), "lifted": _LIFTED_STOPS, "body": page.ladder.body,
        "second_base": iso_invariance.second_base_of(readings),
    }  # fmt: skip
