"""Raw modes and other settings of a body beside each other."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

from django.db.models import prefetch_related_objects

from yellowjacket.bench.models import Body, Frame, Ladder, Patch, Reading
from yellowjacket.bench.push.latitude import Equalised, SamePixels, SettingEffect
from yellowjacket.core.metrology.estimate import Quantity, missing, ratio
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.noise.smoothing import noise_hidden_stops, processing_part
from yellowjacket.core.readings.raw_modes import SAME


def setting_effects(ladder: Ladder) -> list[SettingEffect]:
    """Effects of every value of a setting ladder that was measured, in three queries."""
    rungs = [rung for rung in ladder.rungs.all() if rung.measured_inputs]
    wanted = (Measurand.RANGE_ENGINEERING, Measurand.NEIGHBOUR_CORRELATION, Measurand.SNR, Measurand.DETAIL_SHARE)
    found = Reading.objects.speaking(wanted).filter(rung__in=rungs, use=None).by_rung()
    sizes = dict(Frame.objects.filter(shot__rung__in=rungs).values_list("shot__rung_id", "size_bytes"))
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


def same_pixels_of(ladder: Ladder) -> list[SamePixels]:
    """Every reduced raw mode of a ladder that was held against the full one."""
    if not any(rung.value for rung in ladder.rungs.all()):
        return []
    rows = Reading.objects.filter(rung__ladder=ladder, quantity__in=SAME).exclude(patch__role=Patch.Role.SHADOW)
    found: dict[int, dict[str, dict[str, Quantity]]] = {}
    for row in rows:
        found.setdefault(row.rung_id, {}).setdefault(row.quantity, {})[row.channel] = row.result
    if not found:
        return []
    sizes: dict[int, int] = dict(
        Frame.objects.filter(shot__rung__ladder=ladder).values_list("shot__rung_id", "size_bytes")
    )
    largest = max(sizes.values(), default=0)
    rungs = {rung.pk: rung for rung in ladder.rungs.all()}
    return [
        SamePixels(rungs[pk], parts, 1 - sizes[pk] / largest if largest and pk in sizes else None)
        for pk, parts in sorted(found.items(), key=lambda item: rungs[item[0]].iso)
    ]


def equalised(ladders: Sequence[Ladder]) -> list[Equalised]:
    """Pairs of bodies of a sitting at every ISO both were measured at. ``ladders``: of the sitting, with their bodies."""
    by_iso: dict[int, dict[Body, dict[Measurand, Quantity]]] = {}
    wanted = (Measurand.RANGE_ENGINEERING, Measurand.NEIGHBOUR_CORRELATION)
    prefetch_related_objects(ladders, "rungs")
    rungs = [rung for ladder in ladders if ladder.kind == Ladder.Kind.ISO for rung in ladder.rungs.all()]
    readings = Reading.objects.speaking(wanted).filter(rung__in=rungs, use=None).by_rung()
    for rung in rungs:
        if rung.pk in readings:
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
