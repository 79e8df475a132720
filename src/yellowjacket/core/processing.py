"""How much of a difference between two bodies, or two settings, is smoothing in the raw.

A filter [s, 1 − 2s, s] along rows and columns makes neighbours vary together by ρ = 2s(1 − 2s)/r, r = 1 − 4s + 6s², and
leaves r of the noise's variance along each direction. Two bodies are made equal by smoothing the one whose neighbours
agree less until they agree as much: what its range gains by that is no merit of the other's sensor.
"""

from __future__ import annotations

import math

from yellowjacket.core.metrology.estimate import Quantity, difference, missing

# Beyond this the filter's form is another one.
_MOST_SHARE = 0.25
_SOLVED = 1e-9


def kept_variance(share: float) -> float:
    """Variance that the filter leaves of white noise, along one direction."""
    return 1 - 4 * share + 6 * share * share


def correlation_of(share: float) -> float:
    """Correlation of neighbours that the filter makes of white noise."""
    return 2 * share * (1 - 2 * share) / kept_variance(share)


def share_of(correlation: float) -> float:
    """The filter whose neighbours correlate so; 0 below none, the strongest one known above all."""
    low, high = 0.0, _MOST_SHARE
    if correlation <= 0:
        return 0.0
    while high - low > _SOLVED:
        middle = (low + high) / 2
        low, high = (middle, high) if correlation_of(middle) < correlation else (low, middle)
    return low


def noise_hidden_stops(correlation: Quantity) -> Quantity:
    """Stops by which smoothing makes noise read too low, from the correlation of neighbours along rows and columns."""
    if correlation.value is None:
        return missing(correlation.reason)

    def stops(rho: float) -> float:
        # σ falls by the root of the variance along each of two directions: by all of it.
        return -math.log2(kept_variance(share_of(rho)))

    value = stops(correlation.value)
    low, high = (stops(correlation.value if rho is None else rho) for rho in (correlation.low, correlation.high))
    return Quantity(value, low, high, correlation.n)


def processing_part(
    range_one: Quantity, range_other: Quantity, rho_one: Quantity, rho_other: Quantity
) -> tuple[Quantity, Quantity]:
    """Difference in range of two bodies, in stops, as read; and how much of it is smoothing.

    ``range_*``: engineering range in stops; ``rho_*``: correlation of neighbours. The second is what equal smoothing
    takes from the difference.
    """
    if range_one.value is None or range_other.value is None:
        nothing = missing(range_one.reason or range_other.reason or "a range is missing")
        return nothing, nothing
    apart = difference(range_one, range_other)
    one, other = noise_hidden_stops(rho_one), noise_hidden_stops(rho_other)
    if one.value is None or other.value is None:
        return apart, missing(one.reason or other.reason or "the correlation of neighbours is missing")
    return apart, difference(one, other)
