"""Where the grey card lies against middle grey: what a meter aims at, and no card need be."""

from __future__ import annotations

from yellowjacket.bench.models import Reading, Rung
from yellowjacket.core.exposure.iso12232 import over_middle_grey
from yellowjacket.core.metrology.measurands import Measurand

# A twelfth of a stop is on it.
_ON_IT_STOPS = 1 / 12


def grey_place(rung: Rung | None) -> str:
    """In words, with the interval: "0.4 stop under middle grey (0.3 to 0.5)"; empty where the card was not read."""
    row = (
        Reading.objects.filter(rung=rung, quantity=Measurand.HEADROOM_STOPS, value__isnull=False).first()
        if rung
        else None
    )
    if row is None or row.value is None:
        return ""
    place = over_middle_grey(row.value)
    if abs(place) <= _ON_IT_STOPS:
        return "on middle grey"
    side = "over" if place > 0 else "under"
    ends = sorted(abs(over_middle_grey(end)) for end in (row.low, row.high) if end is not None)
    spread = f" ({ends[0]:.1f} to {ends[1]:.1f})" if len(ends) == 2 else ""
    return f"{abs(place):.1f} stop{'s' if abs(place) >= 1.5 else ''} {side} middle grey{spread}"
