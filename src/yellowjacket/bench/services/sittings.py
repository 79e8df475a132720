"""Making a sitting: the plan becomes rungs and shots."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from django.db import transaction

from yellowjacket.bench.models import Body, Ladder, Rung, Shot, Sitting, Use
from yellowjacket.core.ladder import Exposure, PlannedLadder
from yellowjacket.core.planning import iso_ladder_by_shutter


@dataclass(frozen=True, slots=True)
class UseSpec:
    """A use as asked for: its name and output pixels, None for pixel level."""

    name: str
    output_pixels: int | None


@dataclass(frozen=True, slots=True)
class IsoLadderSpec:
    """An ISO ladder as asked for."""

    body: Body
    metered: Exposure
    step: str = "full"
    repeats: int = 2
    dark_repeats: int = 2

    def plan(self) -> PlannedLadder:
        """The computed ladder. Raises ValueError with a sentence when it makes no sense."""
        return iso_ladder_by_shutter(self.body.limits, self.metered, self.step)


@transaction.atomic
def create_sitting(sitting: Sitting, uses: Sequence[UseSpec], ladder: IsoLadderSpec) -> Sitting:
    """Store a sitting with its uses, the planned ladder and every shot. All or nothing."""
    plan = ladder.plan()
    sitting.save()
    Use.objects.bulk_create(
        Use(sitting=sitting, position=n, name=use.name, output_pixels=use.output_pixels) for n, use in enumerate(uses)
    )
    record = Ladder.objects.create(
        sitting=sitting,
        body=ladder.body,
        metered_iso=round(ladder.metered.iso),
        metered_exposure_s=ladder.metered.exposure_s,
        f_number=ladder.metered.f_number,
    )
    rungs = Rung.objects.bulk_create(
        Rung(
            ladder=record, position=n, iso=round(rung.settings.iso), exposure_s=rung.settings.exposure_s,
            rounding_stops=rung.rounding_stops, extended=rung.extended, short_by_stops=rung.short_by_stops,
            warnings=list(rung.warnings),
        )
        for n, rung in enumerate(plan.rungs)
    )  # fmt: skip
    Shot.objects.bulk_create(
        Shot(rung=rung, kind=kind, repeat=repeat)
        for kind, count in ((Shot.Kind.LIGHT, ladder.repeats), (Shot.Kind.DARK, ladder.dark_repeats))
        for rung in rungs
        if rung.short_by_stops == 0
        for repeat in range(1, count + 1)
    )
    return sitting
