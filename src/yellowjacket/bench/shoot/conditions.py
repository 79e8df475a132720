"""Battery, card, warmth and room on the day, and what bodies teach through them: later plans use it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import TypeVar

from django.core.cache import cache
from django.db.models import Count, Max, Min

from yellowjacket.bench.models import Body, Conditions, Ladder, Shot, Sitting, SittingEvent
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import shots as shots_
from yellowjacket.bench.shoot import undo_log
from yellowjacket.core.exposure.dial import exact_exposure_s
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.planning.battery import LevelNote, charge_minutes
from yellowjacket.core.planning.ladder import PlannedLadder
from yellowjacket.core.planning.sensor_warming import TemperatureNote, WarmRun, WarmthRecord, learn
from yellowjacket.core.planning.timeline import Schedule, Supply
from yellowjacket.simcam.instruments import Panel

Learnt = TypeVar("Learnt")
# Why a body stopped: in words, and what the tester must know.
STOPS = {"battery": "battery empty", "heat": "too hot"}
# A sensor this much (°C) from where its ladder began has another dark current: a sixth of a doubling and more.
DRIFT_C = 2.0


def note(conditions: Conditions, text: str = "") -> SittingEvent:
    """Keep what was looked at, with the shot done last. Refuses an empty note and impossible values."""
    said = ", ".join(part for part in (str(conditions), text.strip()) if part)
    if not said:
        raise Refusal("There is nothing to note.")
    if not str(conditions):
        return shots_.note(conditions.sitting, text)
    conditions.shot = shots_.last_done(conditions.sitting, conditions.body)
    conditions.save()
    return undo_log.act(
        conditions.sitting, SittingEvent.Kind.NOTE, f"{conditions.body.model}: {said}", shot=conditions.shot,
        created=conditions,
    )  # fmt: skip


def stop(ladder: Ladder, why: str, text: str = "") -> SittingEvent:
    """The body stopped by itself, or was stopped: logged, and an endurance run ends here.

    ``why``: a key of STOPS. An empty battery is noted as 0 %.
    """
    if why not in STOPS:
        raise Refusal(f"A body stops for one of: {', '.join(STOPS)}.")
    last = shots_.last_done(ladder.sitting, ladder.body)
    left: list[Shot] = []
    if ladder.method == Ladder.Method.ENDURANCE:
        left = [shot for shot in shots_.due(ladder.sitting) if shot.rung.ladder_id == ladder.pk]
    noted = None
    if why == "battery":
        noted = Conditions.objects.create(sitting=ladder.sitting, body=ladder.body, shot=last, battery_percent=0)
    parts = [f"{ladder.body.model}: {STOPS[why]} after {last}" if last else f"{ladder.body.model}: {STOPS[why]}"]
    parts += [f"the run ends, {len(left)} shots not taken"] if left else []
    parts += [text.strip()] if text.strip() else []
    return undo_log.act(
        ladder.sitting, SittingEvent.Kind.STOPPED, ", ".join(parts), [(shot, {"skipped": STOPS[why]}) for shot in left],
        shot=last, created=noted,
    )  # fmt: skip


def keep_instruments(sitting: Sitting, body: Body, shown: Iterable[tuple[Shot | None, Panel]]) -> None:
    """Keep what the simulated instruments showed, once for each moment."""
    known = set(
        Conditions.objects.filter(sitting=sitting, body=body, source=Conditions.Source.INSTRUMENT).values_list(
            "at", flat=True
        )
    )
    rows = [
        Conditions(
            sitting=sitting, body=body, shot=shot, at=one.at.replace(tzinfo=UTC), source=Conditions.Source.INSTRUMENT,
            battery_percent=one.battery_percent, card_gb=one.card_gb, sensor_c=one.sensor_c, room_c=one.room_c,
        )
        for shot, one in shown
    ]  # fmt: skip
    Conditions.objects.bulk_create(row for row in rows if row.at not in known)


# What a body's notes teach.


def batteries_of(bodies: Collection[Body]) -> dict[Body, Quantity]:
    """Minutes of exposure and lock-up a charge lasts, from every note on each body; remembered until one is added."""
    return _remembered(bodies, "battery", _battery_of)


def room_of(body: Body) -> tuple[float, float] | None:
    """Lowest and highest room temperature noted with a body's battery, °C."""
    rows = Conditions.objects.filter(body=body, battery_percent__isnull=False, room_c__isnull=False)
    found = rows.aggregate(low=Min("room_c"), high=Max("room_c"))
    return None if found["low"] is None else (found["low"], found["high"])


def warmths_of(bodies: Collection[Body]) -> dict[Body, WarmthRecord | None]:
    """How warm the sensor gets at work, where enough temperatures were noted; remembered likewise."""
    return _remembered(bodies, "warmth", _warmth_of)


def _remembered(bodies: Collection[Body], what: str, work_out: Callable[[Body], Learnt]) -> dict[Body, Learnt]:
    """What was worked out of the notes of each body, in one query where nothing was noted since."""
    own = Conditions.objects.filter(body__in=bodies).order_by().values("body").annotate(a=Count("pk"), b=Max("pk"))
    shots = Shot.objects.filter(rung__ladder__body__in=bodies, conditions__isnull=False).order_by()
    taken = shots.values("rung__ladder__body").annotate(a=Count("pk"), b=Max("taken_at"))
    rows = own.values_list("body", "a", "b").union(taken.values_list("rung__ladder__body", "a", "b"), all=True)
    marks: dict[int, list[str]] = {}
    for body_id, count, last in rows:
        marks.setdefault(body_id, []).append(f"{count}-{last}")
    found = {}
    for body in bodies:
        key = f"{what}-{body.pk}-{'-'.join(sorted(marks.get(body.pk, [])))}".replace(" ", "T")
        kept: tuple[Learnt] | None = cache.get(key)
        if kept is None:
            kept = (work_out(body),)
            cache.set(key, kept)
        found[body] = kept[0]
    return found


def _battery_of(body: Body) -> Quantity:
    return charge_minutes(
        [
            [
                LevelNote(_busy_until(busy, one.at), one.battery_percent)
                for one in notes
                if one.battery_percent is not None
            ]
            for notes, busy in _days(body)
        ]
    )


def _warmth_of(body: Body) -> WarmthRecord | None:
    runs = []
    for conditions, busy in _days(body):
        room = next((one.room_c for one in conditions if one.room_c is not None), None)
        notes = []
        for one in conditions:
            room = one.room_c if one.room_c is not None else room
            if one.sensor_c is not None and room is not None:
                notes.append((one.at, one.sensor_c - room))
        if not notes:
            continue
        start = min([notes[0][0], *(begin for begin, _ in busy)])
        runs.append(
            WarmRun(
                tuple(((begin - start).total_seconds(), (end - start).total_seconds()) for begin, end in busy),
                tuple(TemperatureNote((at - start).total_seconds(), excess) for at, excess in notes),
            )
        )
    return learn(runs)


_Span = tuple[datetime, datetime]


def _days(body: Body) -> list[tuple[list[Conditions], list[_Span]]]:
    """Notes by sitting and clock, each with the spans in which the body exposed or was locked up."""
    groups: dict[tuple[int, str], list[Conditions]] = defaultdict(list)
    for one in Conditions.objects.filter(body=body).order_by("at", "id"):
        groups[one.sitting_id, one.source].append(one)
    return [(notes, _busy(body, sitting_id, source)) for (sitting_id, source), notes in groups.items()]


def _busy(body: Body, sitting_id: int, source: str) -> list[_Span]:
    shots = Shot.objects.filter(rung__ladder__body=body, rung__ladder__sitting_id=sitting_id).select_related(
        "rung", "frame"
    )
    spans = []
    for shot in shots.defer("frame__report"):
        seconds = exact_exposure_s(shot.rung.exposure_s)
        lockup_s = seconds if shot.rung.lenr and body.lenr_from_s is not None and seconds >= body.lenr_from_s else 0.0
        if source == Conditions.Source.INSTRUMENT:
            frame = getattr(shot, "frame", None)
            if frame is None or not frame.captured_at:
                continue
            begin = datetime.fromisoformat(frame.captured_at).replace(tzinfo=UTC)
        elif shot.taken_at is not None:
            # "Taken" is said when the exposure has ended.
            begin = shot.taken_at - timedelta(seconds=seconds)
        else:
            continue
        spans.append((begin, begin + timedelta(seconds=seconds + lockup_s)))
    return sorted(spans)


def _busy_until(busy: Sequence[_Span], moment: datetime) -> float:
    return sum((min(end, moment) - begin).total_seconds() for begin, end in busy if begin < moment)


# What plans make of it.


def supplies_of(batteries: Mapping[Body, Quantity]) -> dict[Body, Supply]:
    """Card and battery use for a schedule, from ``batteries_of`` bodies: measured minutes take the place of the assumed ones."""
    return {
        body: body.supply if measured.value is None else replace(body.supply, battery_minutes=measured.value)
        for body, measured in batteries.items()
    }


@dataclass(frozen=True, slots=True)
class ExpectedRise:
    """How much warmer than the room a sensor is expected to be when a ladder begins and at its warmest."""

    ladder: Ladder
    begins: Quantity
    warmest: Quantity


def expected_rises(planned: Sequence[tuple[Ladder, PlannedLadder]], schedule: Schedule) -> list[ExpectedRise]:
    """For every time ladder of a plan whose body has a record of its warmth."""
    timed = {ladder.body for ladder, plan in planned if plan.spec.kind == "time"}
    records = {body.pk: record for body, record in warmths_of(timed).items()}
    found = []
    for index, (ladder, plan) in enumerate(planned):
        record = records.get(ladder.body_id)
        if record is None or plan.spec.kind != "time":
            continue
        of_body = [e for e in schedule.entries if planned[e.ladder_index][0].body_id == ladder.body_id]
        busy = [(e.begins_s, e.begins_s + e.exposure_s + e.lockup_s) for e in of_body]
        own = [e for e in of_body if e.ladder_index == index]
        moments = [e.begins_s + e.exposure_s + e.lockup_s for e in own]
        begins, *rises = record.rises(busy, [own[0].begins_s, *moments])
        found.append(ExpectedRise(ladder, begins, max(rises, key=lambda rise: rise.value or 0.0)))
    return found


def _thermometer(ladder: Ladder) -> list[tuple[Shot, float]]:
    """Temperatures noted at the shots of a ladder in order: the sensor's, the room's where that is all."""
    notes = Conditions.objects.filter(shot__rung__ladder=ladder).select_related("shot__rung").order_by("at", "id")
    for name in ("sensor_c", "room_c"):
        known = [(one.shot, float(getattr(one, name))) for one in notes if getattr(one, name) is not None and one.shot]
        if known:
            return known
    return []


def temperatures(ladder: Ladder) -> dict[int, float]:
    """The last temperature noted on each rung of a ladder, by rung id."""
    return {shot.rung_id: value for shot, value in _thermometer(ladder)}


def temperature_drifts(ladder: Ladder) -> list[tuple[Shot, float, float]]:
    """Shots whose temperature was noted DRIFT_C or more from the ladder's first: shot, °C now, °C at first."""
    known = _thermometer(ladder)
    return [(shot, value, known[0][1]) for shot, value in known if abs(value - known[0][1]) >= DRIFT_C]
