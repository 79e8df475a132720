"""Raw modes and other settings of a body beside each other."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from itertools import combinations

from yellowjacket.bench.models import Body, Frame, Ladder, Patch, Reading
from yellowjacket.bench.models.queries.readings import ReadingQuerySet, Said, Spoken
from yellowjacket.bench.push.latitude import Equalised, SamePixels, SettingEffect
from yellowjacket.core.metrology.estimate import Quantity, missing, ratio
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.noise.smoothing import noise_hidden_stops, processing_part
from yellowjacket.core.readings.raw_modes import SAME

# What bodies are held against each other by.
EQUALISED = (Measurand.RANGE_ENGINEERING, Measurand.NEIGHBOUR_CORRELATION)
_OF_EFFECTS = (*EQUALISED, Measurand.SNR, Measurand.DETAIL_SHARE)
_EFFECTS, _SAME = "effects", "same"


def asked_of(ladder: Ladder) -> dict[str, ReadingQuerySet]:
    """The readings that settings and raw modes of a ladder are told by, to be asked for with others."""
    asked = {}
    if ladder.kind == Ladder.Kind.SETTING:
        measured = [rung for rung in ladder.rungs.all() if rung.measured_inputs]
        asked[_EFFECTS] = Reading.objects.speaking(_OF_EFFECTS).filter(rung__in=measured, use=None)
    if any(rung.value for rung in ladder.rungs.all()):
        rows = Reading.objects.filter(rung__ladder=ladder, quantity__in=SAME)
        asked[_SAME] = rows.exclude(patch__role=Patch.Role.SHADOW)
    return asked


def setting_effects(
    ladder: Ladder, said: Mapping[str, Iterable[Said]] | None = None, frames: Iterable[Frame] | None = None
) -> list[SettingEffect]:
    """Effects of every value of a setting ladder that was measured. ``said``: what was ``asked_of`` it, ``frames``: its own with
    their shots, where they are known already."""
    rungs = [rung for rung in ladder.rungs.all() if rung.measured_inputs]
    said = Reading.objects.in_one(asked_of(ladder)) if said is None else said
    found = Spoken.of(said.get(_EFFECTS, ())).per_pixel
    sizes = _sizes_of(ladder, frames)
    nothing = missing(Missing.NOT_MEASURED)
    effects = []
    for rung in rungs:
        own, first = found.get(rung.pk, {}), found.get(rungs[0].pk, {})
        correlation = own.get(Measurand.NEIGHBOUR_CORRELATION, nothing)
        effects.append(
            SettingEffect(
                rung, ratio(first.get(Measurand.SNR, nothing), own.get(Measurand.SNR, nothing)), correlation,
                own.get(Measurand.DETAIL_SHARE, missing(Missing.NO_TEXTURE)),
                own.get(Measurand.RANGE_ENGINEERING, nothing), noise_hidden_stops(correlation),
                sizes[rung.pk] / 1e6 if rung.pk in sizes else None,
            )
        )  # fmt: skip
    return effects


def same_pixels_of(
    ladder: Ladder, said: Mapping[str, Iterable[Said]] | None = None, frames: Iterable[Frame] | None = None
) -> list[SamePixels]:
    """Every reduced raw mode of a ladder that was held against the full one. ``said``, ``frames``: as above."""
    if not any(rung.value for rung in ladder.rungs.all()):
        return []
    said = Reading.objects.in_one(asked_of(ladder)) if said is None else said
    found: dict[int, dict[str, dict[str, Quantity]]] = {}
    for one in said.get(_SAME, ()):
        found.setdefault(one.rung_id, {}).setdefault(one.quantity, {})[one.channel] = one.result
    if not found:
        return []
    sizes = _sizes_of(ladder, frames)
    largest = max(sizes.values(), default=0)
    rungs = {rung.pk: rung for rung in ladder.rungs.all()}
    return [
        SamePixels(rungs[pk], parts, 1 - sizes[pk] / largest if largest and pk in sizes else None)
        for pk, parts in sorted(found.items(), key=lambda item: rungs[item[0]].iso)
    ]


def _sizes_of(ladder: Ladder, frames: Iterable[Frame] | None) -> dict[int, int]:
    """Bytes of a file by rung id."""
    if frames is None:
        frames = Frame.objects.filter(shot__rung__ladder=ladder).defer("report").select_related("shot")
    by_id = sorted(frames, key=lambda frame: frame.pk)
    return {frame.shot.rung_id: frame.size_bytes for frame in by_id if frame.shot is not None}


def equalised(ladders: Sequence[Ladder], read: Mapping[int, Mapping[Measurand, Quantity]]) -> list[Equalised]:
    """Pairs of bodies of a sitting at every ISO both were measured at. ``ladders``: of the sitting, with their bodies and rungs;
    ``read``: of each rung by its id, per pixel, at least what is ``EQUALISED``."""
    by_iso: dict[int, dict[Body, dict[Measurand, Quantity]]] = {}
    rungs = [rung for ladder in ladders if ladder.kind == Ladder.Kind.ISO for rung in ladder.rungs.all()]
    readings = {pk: {one: parts[one] for one in EQUALISED if one in parts} for pk, parts in read.items()}
    for rung in rungs:
        if readings.get(rung.pk):
            by_iso.setdefault(rung.iso, {}).setdefault(rung.ladder.body, readings[rung.pk])
    found = []
    for iso, bodies in sorted(by_iso.items()):
        known = [(body, parts) for body, parts in bodies.items() if len(parts) == 2]
        for (one, own), (other, its) in combinations(known, 2):
            difference, processing = processing_part(
                own[Measurand.RANGE_ENGINEERING],
                its[Measurand.RANGE_ENGINEERING],
                own[Measurand.NEIGHBOUR_CORRELATION],
                its[Measurand.NEIGHBOUR_CORRELATION],
            )
            found.append(Equalised(iso, one, other, difference, processing))
    return found
