"""What ISO 12232 fixes of exposure: where mid-grey lies, and how far the shadow under it."""

from __future__ import annotations

import math

# 18 % grey at half a stop of headroom (ISO 12232; from memory).
MID_GREY_SHARE = 0.127
SHADOW_STOPS_UNDER_GREY = 3.0


def over_middle_grey(headroom_stops: float) -> float:
    """Where a patch lies against middle grey, in stops, by how far it lies under saturation; negative: darker.

    >>> round(over_middle_grey(3.0), 2), round(over_middle_grey(2.0), 2)
    (-0.02, 0.98)
    """
    return math.log2(1 / MID_GREY_SHARE) - headroom_stops
