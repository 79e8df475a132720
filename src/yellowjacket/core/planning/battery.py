"""Battery life from levels noted on the day: minutes of exposure a full charge lasts, with its interval."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

from yellowjacket.core.metrology.estimate import Quantity, missing, with_relative_error
from yellowjacket.core.metrology.notes import Missing

# Less than this of a charge says more about the display than about the battery.
LEAST_DROP_PERCENT = 10.0
# A level shown in whole steps is off by a uniform error of half a step each way.
_UNIFORM = math.sqrt(12)


@dataclass(frozen=True, slots=True)
class LevelNote:
    """A battery level in percent, and how long the body had been exposing or locked up by then, in seconds."""

    busy_s: float
    percent: float


def charge_minutes(days: Sequence[Sequence[LevelNote]]) -> Quantity:
    """Minutes of exposure and lock-up that a full charge lasts, from each day's levels in the order of time.

    A level that rises is a fresh battery: the run is cut there. Unknown, with the reason, below a drop of
    10 % in all. The interval holds the display's steps only; whether the battery falls evenly is not known.
    """
    runs = [run for notes in days for run in _runs(notes)]
    drop = sum(run[0].percent - run[-1].percent for run in runs)
    busy_s = sum(run[-1].busy_s - run[0].busy_s for run in runs if run[0].percent > run[-1].percent)
    if drop < LEAST_DROP_PERCENT or busy_s <= 0:
        return missing(Missing.BATTERY_DROP_TOO_SMALL, LEAST_DROP_PERCENT)
    # Each run has an error at either end.
    error = max(map(_step, runs)) / _UNIFORM * math.sqrt(2 * len(runs))
    return with_relative_error(busy_s / 60 * 100 / drop, error / drop, sum(map(len, runs)))


def _runs(notes: Sequence[LevelNote]) -> list[list[LevelNote]]:
    """Stretches on one charge, with at least two notes each."""
    runs: list[list[LevelNote]] = []
    for note in notes:
        if runs and note.percent <= runs[-1][-1].percent:
            runs[-1].append(note)
        else:
            runs.append([note])
    return [run for run in runs if len(run) > 1]


def _step(notes: Sequence[LevelNote]) -> float:
    """The step of the display in percent: the smallest difference seen, 1 % at least."""
    differences = [abs(one.percent - other.percent) for one, other in pairwise(notes)]
    return max(1.0, min((d for d in differences if d > 0), default=1.0))
