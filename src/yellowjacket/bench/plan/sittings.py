"""Making and changing a sitting: plans become rungs and shots in the order they will be shot."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, fields

from django.db import transaction

from yellowjacket.bench.models import Body, CheckItem, Frame, Ladder, Rung, Shot, Sitting, Use
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot.conditions import batteries_of, supplies_of
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.planning.checklist import items_for
from yellowjacket.core.planning.ladder import LadderSpec, PlannedLadder
from yellowjacket.core.planning.plan import plan_ladder
from yellowjacket.core.planning.plan_file import spec_as_dict, spec_from
from yellowjacket.core.planning.shot_order import shots_of
from yellowjacket.core.planning.timeline import Schedule, schedule


@dataclass(frozen=True, slots=True)
class UseSpec:
    """A use as asked for: its name and output pixels, None for pixel level."""

    name: str
    output_pixels: int | None
    crop_share: float = 1.0
    print_width_cm: float | None = None
    viewing_cm: float | None = None
    monochrome: bool = False

    @classmethod
    def of(cls, use: Use) -> UseSpec:
        """The same use, asked for again."""
        return cls(use.name, *(getattr(use, field.name) for field in fields(cls)[1:]))


def unsaved_uses(sitting: Sitting, uses: Sequence[UseSpec]) -> list[Use]:
    """Uses as records of a sitting that are not stored yet."""
    return [Use(sitting=sitting, position=n, **asdict(use)) for n, use in enumerate(uses)]


@dataclass(frozen=True, slots=True)
class LadderRequest:
    """A ladder as asked for, and the body that shall shoot it."""

    body: Body
    spec: LadderSpec


@transaction.atomic
def create_sitting(sitting: Sitting, uses: Sequence[UseSpec], ladders: Sequence[LadderRequest]) -> Sitting:
    """Store a sitting with its uses, planned ladders, every shot and the check list. All or nothing.

    Raises PlanError for a ladder that cannot be.
    """
    sitting.save()
    Use.objects.bulk_create(unsaved_uses(sitting, uses))
    for position, request in enumerate(ladders):
        _store(Ladder(sitting=sitting, position=position), request)
    number_shots(sitting)
    renew_checklist(sitting)
    return sitting


@transaction.atomic
def add_ladder(sitting: Sitting, request: LadderRequest) -> Ladder:
    """Plan one more ladder at the end of the sitting. Raises PlanError."""
    last = sitting.ladders.last()
    ladder = _store(Ladder(sitting=sitting, position=last.position + 1 if last else 0), request)
    number_shots(sitting)
    renew_checklist(sitting)
    return ladder


@transaction.atomic
def change_ladder(ladder: Ladder, request: LadderRequest) -> Ladder:
    """Plan a ladder anew. Refuses once frames are in; raises PlanError."""
    _must_be_unshot(ladder)
    ladder.rungs.all().delete()
    _store(ladder, request)
    number_shots(ladder.sitting)
    renew_checklist(ladder.sitting)
    return ladder


@transaction.atomic
def remove_ladder(ladder: Ladder) -> None:
    """Take a ladder out of the plan. Refuses once frames are in, and the last one."""
    _must_be_unshot(ladder)
    sitting = ladder.sitting
    if sitting.ladders.count() == 1:
        raise Refusal("A sitting needs a ladder: change this one, or add another first.")
    ladder.delete()
    number_shots(sitting)
    renew_checklist(sitting)


def _must_be_unshot(ladder: Ladder) -> None:
    if Frame.objects.filter(shot__rung__ladder=ladder).exists():
        raise Refusal(f"{ladder} has frames already and stays as it is. Add another ladder instead.")


def _store(ladder: Ladder, request: LadderRequest) -> Ladder:
    plan = plan_ladder(request.spec, request.body.limits, ladder.sitting.surroundings)
    spec = request.spec
    ladder.body, ladder.kind, ladder.method = request.body, spec.kind, spec.method
    ladder.metered_iso, ladder.metered_exposure_s = round(spec.metered.iso), spec.metered.exposure_s
    ladder.f_number, ladder.spec = spec.metered.f_number, spec_as_dict(spec)
    ladder.save()
    rungs = Rung.objects.bulk_create(unsaved_rungs(ladder, plan))
    Shot.objects.bulk_create(
        Shot(rung=rungs[shot.rung_index], kind=shot.kind, repeat=shot.repeat, closing=shot.closing)
        for shot in shots_of(plan)
    )
    return ladder


def unsaved_rungs(ladder: Ladder, plan: PlannedLadder) -> list[Rung]:
    """The rungs of a plan as records that are not stored yet."""
    return [
        Rung(
            ladder=ladder, position=n, key=rung.key, label=rung.label, at_stops=rung.at_stops,
            iso=round(rung.settings.exposure.iso), exposure_s=rung.settings.exposure.exposure_s,
            expected_stops=rung.expected_stops, lenr=rung.settings.lenr, lamp_stops=rung.settings.lamp_stops,
            filters=[asdict(one) for one in rung.settings.filters], value=rung.settings.value,
            target_lux=rung.target_lux, rounding_stops=rung.rounding_stops, extended=rung.extended,
            short_by_stops=rung.short_by_stops, warnings=[asdict(one) for one in rung.warnings],
        )
        for n, rung in enumerate(plan.rungs)
    ]  # fmt: skip


def number_shots(sitting: Sitting) -> None:
    """Shots of all ladders in one list: ladder by ladder, each in its own shooting order."""
    shots = list(Shot.objects.filter(rung__ladder__sitting=sitting).order_by("rung__ladder__position", "id"))
    for n, shot in enumerate(shots):
        shot.order = n
    Shot.objects.bulk_update(shots, ["order"], batch_size=500)


def planned_ladders(sitting: Sitting) -> list[tuple[Ladder, PlannedLadder]]:
    """Every ladder with its plan, in order, in two queries."""
    ladders = sitting.ladders.select_related("body", "sitting__lens_used").prefetch_related("rungs")
    return [(ladder, ladder.planned) for ladder in ladders]


def schedule_of(
    planned: Sequence[tuple[Ladder, PlannedLadder]], batteries: Mapping[Body, Quantity] | None = None
) -> Schedule:
    """The time line of everything planned, in order. ``batteries``: what a charge of the bodies lasts, where it is known
    already."""
    # The schedule knows a body that goes on by its supply: one for each body.
    supplies = supplies_of(batteries_of({ladder.body for ladder, _ in planned}) if batteries is None else batteries)
    return schedule([(plan, supplies[ladder.body]) for ladder, plan in planned])


@transaction.atomic
def renew_checklist(sitting: Sitting) -> None:
    """Items that fit the plan as it stands; ticks and own items stay."""
    wanted = items_for([spec_from(spec) for spec in sitting.ladders.values_list("spec", flat=True)], sitting.light)
    present = {item.text: item for item in sitting.check_items.all()}
    for position, item in enumerate(wanted):
        found = present.pop(item.text, None)
        if found is None:
            CheckItem.objects.create(sitting=sitting, position=position, text=item.text, caution=item.caution)
        elif found.position != position:
            found.position = position
            found.save(update_fields=["position"])
    CheckItem.objects.filter(pk__in=[item.pk for item in present.values() if not item.own]).delete()
