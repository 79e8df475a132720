"""The simulated body's own instruments: battery, card, sensor temperature, from what it did so far."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from yellowjacket.simcam.bodies import BodyModel

# A level below this is changed before the next shot, unless the run is to end with it.
_CHANGE_BELOW = 0.04
_CARD_GB = 64.0


@dataclass(frozen=True, slots=True)
class Panel:
    """What the body shows as a shot is released: whole percent, tenths of a degree."""

    at: datetime
    battery_percent: float
    card_gb: float
    sensor_c: float
    room_c: float


def panels(
    body: BodyModel,
    releases: Sequence[tuple[datetime, float]],
    room_c: float,
    frame_mb: float,
    *,
    one_battery: bool = False,
) -> list[Panel]:
    """The panel at every release, given as (moment, seconds of exposure and lock-up), from a cold start.

    ``one_battery``: the list ends where the battery is empty or the sensor past the body's limit.
    """
    found: list[Panel] = []
    excess_c, charge, card_gb = 0.0, 1.0, _CARD_GB
    free_at: datetime | None = None
    for moment, busy_s in releases:
        if free_at is not None:
            excess_c *= math.exp(-max((moment - free_at).total_seconds(), 0.0) / body.heat_constant_s)
        if one_battery and (charge <= 0 or room_c + excess_c > body.heat_limit_c):
            break
        if charge < _CHANGE_BELOW and not one_battery:
            charge = 1.0
        found.append(Panel(moment, round(100 * max(charge, 0)), round(card_gb, 1), round(room_c + excess_c, 1), room_c))
        kept = math.exp(-busy_s / body.heat_constant_s)
        excess_c = excess_c * kept + body.heat_rise_c * (1 - kept)
        charge -= busy_s / (60 * body.true_battery_minutes)
        card_gb = max(card_gb - frame_mb / 1000, 0.0)
        free_at = moment + timedelta(seconds=busy_s)
    return found
