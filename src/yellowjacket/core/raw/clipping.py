"""Where a channel clips, and how much of it does."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

# A pixel counts as clipped above this share of the way from black to the clip point.
CLIP_SHARE = 0.99

Plane = NDArray[np.uint16]


def clipped_share(patch: Plane, black_dn: float, clip_dn: float) -> float:
    """Share of pixels above black + 0.99·(clip − black), 0 to 1. Any shape, DN."""
    return float(np.mean(patch > black_dn + CLIP_SHARE * (clip_dn - black_dn)))
