"""ISO against push, and a second base."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

from django.db.models import prefetch_related_objects

from yellowjacket.bench.models import Ladder, Reading, Rung
from yellowjacket.bench.models.queries.readings import ReadingQuerySet, Said, Spoken
from yellowjacket.bench.push.latitude import IsoAgainstPush, SameLight, iso_noise_of, of_same_light, same_light
from yellowjacket.core.latitude.iso_invariance import NOISE_MODEL, highlight_gained, invariant_from, penalties
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Remark

_SPOKEN, _SAME_LIGHT = "spoken", "same light"


@dataclass(frozen=True, slots=True)
class IsoReadings:
    """What measuring says of the rungs of a body's ISO ladders in a sitting: noise models, what was remarked, and signal and
    noise under the same light. ``beside``: what else was asked for with it, by name."""

    rungs: Sequence[Rung]
    spoken: Spoken
    same_light: SameLight
    beside: Mapping[str, Sequence[Said]]

    @classmethod
    def of(
        cls, ladder: Ladder, others: Sequence[Ladder] | None = None, quantities: Iterable[Measurand] = (),
        read: Collection[int] | None = None, beside: Mapping[str, ReadingQuerySet] | None = None, *,
        of_others: bool = False,
    ) -> IsoReadings:  # fmt: skip
        """Of the body of a ladder, in one query for all its ladders beside those for their rungs. ``others``: ladders of the
        sitting, where they are known already; ``quantities``, ``beside``: what else is to be fetched in one go; ``read``: ids of
        ladders that something was read of, where that is known; ``of_others``: whether what is said of rungs of other bodies
        comes along."""
        there = ladder.sitting.ladders.filter(body=ladder.body_id) if others is None else others
        every = [one for one in there if one.kind == Ladder.Kind.ISO and (of_others or one.body_id == ladder.body_id)]
        prefetch_related_objects(every, "rungs")
        own = [rung for one in every if one.body_id == ladder.body_id for rung in one.rungs.all()]
        told = [rung for one in every if read is None or one.pk in read for rung in one.rungs.all()]
        spoken = Reading.objects.speaking((*NOISE_MODEL, Measurand.FLAGS, *quantities)).filter(rung__in=told)
        asked = {_SPOKEN: spoken, _SAME_LIGHT: of_same_light(own), **(beside or {})}
        found = Reading.objects.in_one(asked)
        own.sort(key=lambda rung: rung.position)
        return cls(own, Spoken.of(found[_SPOKEN]), same_light(found[_SAME_LIGHT]), found)


def iso_against_push(readings: IsoReadings) -> IsoAgainstPush | None:
    """The matrix of a body; None where fewer than two marks have a noise model."""
    marks = iso_noise_of(readings.rungs, readings.spoken.per_pixel, readings.same_light)
    if len(marks) < 2:
        return None
    found = penalties(marks)
    top = marks[-1]
    return IsoAgainstPush(
        [mark.iso for mark in marks], {(one.shot_iso, one.wanted_iso): one for one in found},
        {mark.iso: highlight_gained(mark, top) for mark in marks[:-1]}, invariant_from(marks, found),
        any(one.kind == "measured" for one in found),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class SecondBase:
    """The mark from which a second conversion gain was seen, and the mark under it: the change lies between the two."""

    iso: int
    above: int | None

    @property
    def interval(self) -> str:
        """Where the change lies, in words; empty where no lower mark was shot."""
        return f"above ISO {self.above}, up to ISO {self.iso}" if self.above is not None else ""


def second_base_of(readings: IsoReadings) -> SecondBase | None:
    """A second base ISO as seen on the body's ladders, if any."""
    flags = {rung: readings.spoken.per_pixel.get(rung.pk, {}).get(Measurand.FLAGS) for rung in readings.rungs}
    told = {rung: said for rung, said in flags.items() if said is not None}
    found = next((rung for rung, said in told.items() if said.has(Remark.SECOND_BASE)), None)
    if found is None:
        return None
    lower = [rung.iso for rung in told if rung.ladder_id == found.ladder_id and rung.iso < found.iso]
    return SecondBase(found.iso, max(lower, default=None))
