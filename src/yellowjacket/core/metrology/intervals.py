"""Intervals of shares and of rates."""

from __future__ import annotations

from yellowjacket.core.metrology.estimate import Z95, Quantity


def proportion(share: float, n: int) -> Quantity:
    """A share, 0 to 1, of ``n`` independent cases (n ≥ 1) with its Wilson 95 % interval (Wilson 1927, JASA 22:209).

    >>> found = proportion(0.03, 100)
    >>> round(found.low, 4), round(found.high, 4)
    (0.0103, 0.0845)
    """
    # Imported at first use: that costs a third of a second.
    from astropy.stats import binom_conf_interval

    low, high = binom_conf_interval(round(share * n), n, confidence_level=0.95, interval="wilson")
    return Quantity(share, min(share, float(low)), max(share, float(high)), n)


def density(count: float, megapixels: float) -> Quantity:
    """Counts per megapixel with the exact 95 % interval of a Poisson count (Gehrels 1986, ApJ 303:336).

    Of nothing seen the interval still reaches up to 3.7 counts:

    >>> density(0, 2.0).high.__round__(3)
    1.844
    """
    from astropy.stats import poisson_conf_interval

    low, high = poisson_conf_interval(count, interval="frequentist-confidence", sigma=Z95)
    return Quantity(count / megapixels, float(low) / megapixels, float(high) / megapixels, round(count))
