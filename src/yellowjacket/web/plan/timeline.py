"""The time line of a sitting as a bar: what each second goes to, battery and card along it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from yellowjacket.bench.models import Body, Ladder, Shot, Sitting
from yellowjacket.bench.plan.sittings import planned_ladders, schedule_of
from yellowjacket.bench.shoot.conditions import batteries_of
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.planning.ladder import PlannedLadder, Settings
from yellowjacket.core.planning.shot_order import Change, changes
from yellowjacket.core.planning.timeline import Entry, Schedule

WIDTH, BAR, BATTERY = 1000.0, 26.0, 24.0
PARTS = ("handling", "exposure", "lock-up", "rest")


@dataclass(frozen=True, slots=True)
class Part:
    """One kind of time: its share in words and its rectangles as one SVG path."""

    key: str
    seconds: float
    path: str


@dataclass(frozen=True, slots=True)
class Band:
    """A ladder's stretch of the bar."""

    x: float
    width: float
    label: str
    begins: datetime


@dataclass(frozen=True, slots=True)
class ShotRow:
    """One line of the shot list."""

    number: int
    ladder: Ladder
    settings: Settings
    label: str
    entry: Entry
    begins: datetime
    changes: tuple[Change, ...]


@dataclass(frozen=True, slots=True)
class Timeline:
    """What the template draws, and the rows of the shot list."""

    schedule: Schedule
    ladders: Sequence[tuple[Ladder, PlannedLadder]]
    begins: datetime
    parts: Sequence[Part]
    bands: Sequence[Band]
    battery: str
    swaps: Sequence[float]
    # Bodies whose battery was measured on some day, with the minutes a charge lasts.
    batteries: Sequence[tuple[Body, Quantity]]

    width = WIDTH

    @property
    def ends(self) -> datetime:
        """Clock time at the end."""
        return self.begins + timedelta(seconds=self.schedule.total_s)

    @property
    def swap_times(self) -> list[datetime]:
        """Clock times of battery changes."""
        return [
            self.begins + timedelta(seconds=entry.begins_s - entry.handling_s)
            for entry in self.schedule.entries
            if entry.fresh_battery
        ]

    @property
    def runs_out(self) -> bool:
        """Whether a battery that must not be changed is empty before the end."""
        return any(entry.battery_share is not None and entry.battery_share <= 0 for entry in self.schedule.entries)

    def rows(self, *, still_open: bool = False) -> Iterator[ShotRow]:
        """Every shot in order, with what to change before it. ``still_open``: only those that have no frame, be it that they
        were never shot or that they are to be shot again."""
        before: Settings | None = None
        capped = False
        taken = _taken(self.ladders) if still_open else frozenset()
        for number, entry in enumerate(self.schedule.entries, start=1):
            ladder, plan = self.ladders[entry.ladder_index]
            rung = plan.rungs[entry.shot.rung_index]
            if (ladder.pk, rung.key, entry.shot.kind, entry.shot.repeat) in taken:
                continue
            dark = entry.shot.kind == "dark"
            cap = dark if dark != capped else None
            yield ShotRow(
                number, ladder, rung.settings, rung.label, entry, self.begins + timedelta(seconds=entry.begins_s),
                changes(before, rung.settings, cap=cap),
            )  # fmt: skip
            before, capped = rung.settings, dark


def _taken(ladders: Sequence[tuple[Ladder, PlannedLadder]]) -> frozenset[tuple[int, str, str, int]]:
    """Shots that have a frame: ladder, rung, kind and repeat."""
    shots = Shot.objects.filter(rung__ladder__in=[ladder.pk for ladder, _ in ladders], frame__isnull=False)
    return frozenset(shots.values_list("rung__ladder_id", "rung__key", "kind", "repeat"))


def timeline_of(sitting: Sitting, ladders: Sequence[Ladder] | None = None) -> Timeline:
    """Lay everything planned out over WIDTH units. ``ladders``: of the sitting, with their rungs, where they are known
    already."""
    planned = planned_ladders(sitting) if ladders is None else [(ladder, ladder.planned) for ladder in ladders]
    batteries = batteries_of({ladder.body for ladder, _ in planned})
    schedule = schedule_of(planned, batteries)
    begins = datetime.combine(sitting.held_on, sitting.starts_at or datetime.min.time().replace(hour=20))
    scale = WIDTH / schedule.total_s if schedule.total_s else 0.0
    pieces: dict[str, list[str]] = {part: [] for part in PARTS}
    for entry in schedule.entries:
        at = entry.begins_s - entry.handling_s
        for part, seconds in zip(
            PARTS, (entry.handling_s, entry.exposure_s, entry.lockup_s, entry.rest_s), strict=True
        ):
            if seconds > 0:
                pieces[part].append(f"M{at * scale:.2f} 0h{max(seconds * scale, 0.3):.2f}v{BAR:g}H{at * scale:.2f}z")
            at += seconds
    spent = schedule.spent()
    parts = [Part(part, spent[part], "".join(pieces[part])) for part in PARTS]
    return Timeline(
        schedule, planned, begins, parts,
        _bands([ladder for ladder, _ in planned], schedule, begins, scale), _battery(schedule, scale),
        [round((e.begins_s - e.handling_s) * scale, 1) for e in schedule.entries if e.fresh_battery],
        [(body, lasts) for body, lasts in sorted(batteries.items(), key=lambda one: str(one[0])) if lasts.known],
    )  # fmt: skip


def _bands(ladders: Sequence[Ladder], schedule: Schedule, begins: datetime, scale: float) -> list[Band]:
    found = []
    for n, ladder in enumerate(ladders):
        own = [entry for entry in schedule.entries if entry.ladder_index == n]
        if own:
            start, end = own[0].begins_s - own[0].handling_s, own[-1].ends_s
            found.append(Band(start * scale, (end - start) * scale, str(ladder), begins + timedelta(seconds=start)))
    return found


def _battery(schedule: Schedule, scale: float) -> str:
    """The charge left as an SVG polyline; empty when a battery's size is not known."""
    known = [(entry.ends_s, entry.battery_share) for entry in schedule.entries if entry.battery_share is not None]
    return " ".join(f"{at * scale:.1f},{(1 - share) * BATTERY:.1f}" for at, share in known)
