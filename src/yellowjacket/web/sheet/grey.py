"""Where the grey card lies against middle grey: what a meter aims at, and no card need be."""

from __future__ import annotations

from yellowjacket.core.exposure.iso12232 import over_middle_grey
from yellowjacket.core.metrology.estimate import Quantity

# A twelfth of a stop is on it.
_ON_IT_STOPS = 1 / 12


def grey_place(headroom: Quantity | None) -> str:
    """In words, with the interval: "0.4 stop under middle grey (0.3 to 0.5)"; empty where the card was not read. ``headroom``:
    that of its rung."""
    if headroom is None or headroom.value is None:
        return ""
    place = over_middle_grey(headroom.value)
    if abs(place) <= _ON_IT_STOPS:
        return "on middle grey"
    side = "over" if place > 0 else "under"
    ends = sorted(abs(over_middle_grey(end)) for end in (headroom.low, headroom.high) if end is not None)
    spread = f" ({ends[0]:.1f} to {ends[1]:.1f})" if len(ends) == 2 else ""
    return f"{abs(place):.1f} stop{'s' if abs(place) >= 1.5 else ''} {side} middle grey{spread}"
