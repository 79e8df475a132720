"""The time line of a sitting: when each shot begins, what the card and the battery hold, where a battery change falls."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.core.exposure import dial
from yellowjacket.core.planning.ladder import PlannedLadder
from yellowjacket.core.planning.shot_order import PlannedShot, shots_of


@dataclass(frozen=True, slots=True)
class Pace:
    """How long a tester takes: per shot (s), more when settings change, between ladders, for a battery change.

    Defaults are common practice, no source.
    """

    shot_s: float = 4.0
    rung_s: float = 6.0
    ladder_s: float = 90.0
    battery_s: float = 120.0


@dataclass(frozen=True, slots=True)
class Supply:
    """What a body uses: MB a frame, minutes of exposure or frames a battery lasts (None: not known), LENR from (s)."""

    frame_mb: float | None = None
    battery_minutes: float | None = None
    battery_frames: int | None = None
    lenr_from_s: float | None = 1.0


@dataclass(frozen=True, slots=True)
class Entry:
    """One shot on the time line. Times in seconds from the start of the sitting; ``ends_s`` after lock-up and rest.

    ``battery_share``: of the battery in use, left after the shot; None when not known. ``fresh_battery``:
    it is changed before this shot.
    """

    ladder_index: int
    shot: PlannedShot
    begins_s: float
    handling_s: float
    exposure_s: float
    lockup_s: float
    rest_s: float
    battery_share: float | None = None
    fresh_battery: bool = False

    @property
    def ends_s(self) -> float:
        """When the camera is free again and the rest is over."""
        return self.begins_s + self.exposure_s + self.lockup_s + self.rest_s


@dataclass(frozen=True, slots=True)
class Schedule:
    """The whole sitting. ``card_mb`` None when a body's file size is not known."""

    entries: tuple[Entry, ...]
    card_mb: float | None
    notes: tuple[str, ...] = ()

    @property
    def total_s(self) -> float:
        """From the first hand on the camera to the end of the last rest."""
        return self.entries[-1].ends_s if self.entries else 0.0

    def spent(self) -> dict[str, float]:
        """Seconds by what they go to: exposure, lock-up, rest, handling; they sum to total_s."""
        return {
            "exposure": sum(e.exposure_s for e in self.entries),
            "lock-up": sum(e.lockup_s for e in self.entries),
            "rest": sum(e.rest_s for e in self.entries),
            "handling": sum(e.handling_s for e in self.entries),
        }


def schedule(ladders: Sequence[tuple[PlannedLadder, Supply]], pace: Pace | None = None) -> Schedule:
    """Lay every shot of every ladder on one time line, in order.

    A ladder whose frames must stay at one temperature (time ladders) gets a fresh battery before it begins
    when what is left would not last through it.
    """
    pace = pace or Pace()
    entries: list[Entry] = []
    notes: list[str] = []
    card: float | None = 0.0
    clock = 0.0
    previous: _Battery | None = None
    for index, (ladder, supply) in enumerate(ladders):
        shots = shots_of(ladder)
        battery = _Battery(supply, previous if index and ladders[index - 1][1] is supply else None)
        costs = [_cost_s(ladder, shot, supply) for shot in shots]
        for n, shot in enumerate(shots):
            exposure_s, lockup_s = costs[n]
            rest_s = ladder.spec.rest_s if n + 1 < len(shots) else 0.0
            needed = costs if n == 0 and ladder.spec.kind == "time" else costs[n : n + 1]
            if ladder.spec.endurance:
                # Begun on a full battery and never given another.
                fresh = n == 0 and battery.renew()
                if battery.empties_with(costs[n]):
                    notes.append(f"Endurance run: a full battery is expected to last {n} of the {len(shots)} shots.")
            else:
                fresh = battery.change_before(needed)
            if fresh and n and ladder.spec.kind == "time":
                notes.append(f"Ladder {index + 1} outlasts a battery: it is split before shot {n + 1}.")
            handling_s = _handling_s(pace, shots, n, first=index == 0) + (pace.battery_s if fresh else 0.0)
            battery.use(exposure_s + lockup_s)
            entries.append(
                Entry(index, shot, clock + handling_s, handling_s, exposure_s, lockup_s, rest_s, battery.share, fresh)
            )
            clock = entries[-1].ends_s
        card = None if card is None or supply.frame_mb is None else card + supply.frame_mb * len(shots)
        previous = battery
    return Schedule(tuple(entries), card, tuple(notes))


def _cost_s(ladder: PlannedLadder, shot: PlannedShot, supply: Supply) -> tuple[float, float]:
    """Exposure and lock-up of a shot in seconds; LENR takes a second exposure of the same length."""
    settings = ladder.rungs[shot.rung_index].settings
    exposure_s = dial.exact_exposure_s(settings.exposure.exposure_s)
    locked = settings.lenr and supply.lenr_from_s is not None and exposure_s >= supply.lenr_from_s
    return exposure_s, exposure_s if locked else 0.0


def _handling_s(pace: Pace, shots: Sequence[PlannedShot], n: int, *, first: bool) -> float:
    if n == 0:
        return pace.rung_s if first else pace.ladder_s
    return pace.shot_s if shots[n].rung_index == shots[n - 1].rung_index else pace.rung_s


class _Battery:
    """What is left of the battery in a body, by minutes of exposure and by frames, whichever runs out first."""

    def __init__(self, supply: Supply, carried_on: _Battery | None) -> None:
        self._minutes, self._frames = supply.battery_minutes, supply.battery_frames
        self._used_s: float = carried_on._used_s if carried_on else 0.0
        self._used_frames: int = carried_on._used_frames if carried_on else 0

    def change_before(self, costs: Sequence[tuple[float, float]]) -> bool:
        """Whether to change now so that these shots fit; a full battery is never changed."""
        seconds, frames = sum(sum(cost) for cost in costs), len(costs)
        lasts = self._share_after(seconds, frames)
        if lasts is None or lasts >= 0 or self._used_frames == 0:
            return False
        return self.renew()

    def renew(self) -> bool:
        """Put in a full one, if this one was used; whether it was."""
        used = self._used_frames > 0
        self._used_s, self._used_frames = 0.0, 0
        return used

    def empties_with(self, cost: tuple[float, float]) -> bool:
        """Whether this shot is the first that the battery would not last through."""
        before, after = self._share_after(0.0, 0), self._share_after(sum(cost), 1)
        return before is not None and after is not None and before >= 0 > after

    def use(self, seconds: float) -> None:
        """One frame more."""
        self._used_s += seconds
        self._used_frames += 1

    def _share_after(self, seconds: float, frames: int) -> float | None:
        shares = []
        if self._minutes:
            shares.append(1 - (self._used_s + seconds) / (60 * self._minutes))
        if self._frames:
            shares.append(1 - (self._used_frames + frames) / self._frames)
        return min(shares) if shares else None

    @property
    def share(self) -> float | None:
        """What is left, 0 to 1."""
        left = self._share_after(0.0, 0)
        return None if left is None else max(0.0, left)
