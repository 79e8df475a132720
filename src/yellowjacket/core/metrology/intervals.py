"""Intervals of shares and of rates."""

from __future__ import annotations

import math

from yellowjacket.core.metrology.estimate import Z95, Quantity


def proportion(share: float, n: int) -> Quantity:
    """A proportion with its Wilson 95 % interval."""
    centre = (share + Z95**2 / (2 * n)) / (1 + Z95**2 / n)
    half = Z95 / (1 + Z95**2 / n) * math.sqrt(share * (1 - share) / n + Z95**2 / (4 * n**2))
    return Quantity(share, max(0.0, min(share, centre - half)), min(1.0, max(share, centre + half)), n)


def density(count: float, megapixels: float) -> Quantity:
    """Per megapixel with the 95 % interval of a Poisson count (normal beyond a few; 3 where none was seen)."""
    half = Z95 * math.sqrt(count)
    high = 3.0 if count == 0 else count + half
    return Quantity(count / megapixels, max(0.0, count - half) / megapixels, high / megapixels, round(count))
