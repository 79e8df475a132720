"""What ISO 12232 fixes of exposure: where mid-grey lies, and how far the shadow under it."""

from __future__ import annotations

# 18 % grey at half a stop of headroom (ISO 12232; from memory).
MID_GREY_SHARE = 0.127
SHADOW_STOPS_UNDER_GREY = 3.0
