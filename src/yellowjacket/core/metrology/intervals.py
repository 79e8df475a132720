"""Intervals of shares and of rates."""

from __future__ import annotations

import math

from yellowjacket.core.metrology.estimate import Z95, Quantity

# On either side of a 95 % interval.
_TAIL = 0.025


def proportion(share: float, n: int) -> Quantity:
    """A share, 0 to 1, of ``n`` independent cases (n ≥ 1) with its Wilson 95 % interval (Wilson 1927, JASA 22:209).

    >>> found = proportion(0.03, 100)
    >>> round(found.low, 4), round(found.high, 4)
    (0.0103, 0.0845)
    """
    seen = round(share * n) / n
    middle = (seen + Z95**2 / (2 * n)) / (1 + Z95**2 / n)
    half = Z95 / (1 + Z95**2 / n) * math.sqrt(seen * (1 - seen) / n + Z95**2 / (4 * n**2))
    return Quantity(share, max(0.0, min(share, middle - half)), min(1.0, max(share, middle + half)), n)


def density(count: float, megapixels: float) -> Quantity:
    """Counts per megapixel with the exact 95 % interval of a Poisson count (Gehrels 1986, ApJ 303:336).

    Of nothing seen the interval still reaches up to 3.7 counts:

    >>> density(0, 2.0).high.__round__(3)
    1.844
    """
    # Imported at first use: a start does without it.
    from scipy.special import gammaincinv

    low = float(gammaincinv(count, _TAIL)) if count > 0 else 0.0
    high = float(gammaincinv(count + 1, 1 - _TAIL))
    return Quantity(count / megapixels, low / megapixels, high / megapixels, round(count))
