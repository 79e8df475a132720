"""How much of a difference between two bodies, or two settings, is smoothing in the raw.

A filter [s, 1 − 2s, s] along rows and columns makes neighbours vary together by ρ = 2s(1 − 2s)/r, r = 1 − 4s + 6s², and
leaves r of the noise's variance along each direction. Two bodies are made equal by smoothing the one whose neighbours
agree less until they agree as much: what its range gains by that is no merit of the other's sensor.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from yellowjacket.core.metrology.estimate import Quantity, difference, missing, unknown, with_error
from yellowjacket.core.metrology.notes import Missing, Note
from yellowjacket.core.noise.autocorrelation import LAGS, SIDE, LagSums

# Beyond this and so many standard errors the raw is called cooked.
COOKED_CORRELATION, COOKED_SE = 0.015, 5.0


@dataclass(frozen=True, slots=True)
class Cooked:
    """Verdict on a rung: correlations at one and two pixels, along rows and down columns, and whether it is cooked."""

    flag: bool | None
    lag1: Quantity
    lag2: Quantity
    lag1_rows: Quantity
    lag1_columns: Quantity
    notes: tuple[Note, ...] = ()


def verdict(sums: LagSums | None) -> Cooked:
    """Cooked or not, from the pooled autocovariances of a rung."""
    if sums is None:
        nothing = missing(Missing.NO_PAIR_FOR_NEIGHBOURS)
        return Cooked(None, nothing, nothing, nothing, nothing, nothing.notes)
    se = 1 / math.sqrt(sums.n)
    along, down = _given_back(sums)
    # Bartlett's formula: correlated noise makes its own correlations scatter more.
    se *= math.sqrt(1 + 2 * sum(rho * rho for rho in (*along, *down)))
    flag = any(abs(rho) > max(COOKED_CORRELATION, COOKED_SE * se) for rho in (*along, *down))
    lag1, lag2 = ((a + d) / 2 for a, d in zip(along, down, strict=True))
    return Cooked(
        flag, with_error(lag1, se / math.sqrt(2), sums.n), with_error(lag2, se / math.sqrt(2), sums.n),
        with_error(along[0], se, sums.n), with_error(down[0], se, sums.n),
    )  # fmt: skip


def _given_back(sums: LagSums) -> tuple[list[float], list[float]]:
    """Correlations along rows and down columns, with what taking off row and column means took given back.

    White noise less its row means is correlated by −1/columns along a row; correlated noise by as many times more as
    its row means scatter more.
    """
    along = [float(sums.correlation[0, LAGS + lag]) for lag in (1, 2)]
    down = [float(sums.correlation[lag, LAGS]) for lag in (1, 2)]
    seen = along, down
    for _ in range(3):
        row, column = (lost * (1 + 2 * sum(rhos)) for lost, rhos in ((sums.per_row, along), (sums.per_column, down)))
        left = 1 - row - column
        along = [(rho * left + row) / (1 - column) for rho in seen[0]]
        down = [(rho * left + column) / (1 - row) for rho in seen[1]]
    return along, down


def white_variance(sums: LagSums) -> tuple[float, float]:
    """Variance before a filter of unit gain, and its standard error, both in the square of the input's unit.

    The sum of autocovariances over two pixels each way; taking off row and column means left
    (1 − (2L + 1)/rows)(1 − (2L + 1)/columns) of it, which is given back.
    """
    # Half of the lags stand for their mirror images too.
    total = sums.variance_dn2 * float(2 * sums.correlation.sum() - sums.correlation[0, LAGS])
    if max(sums.per_row, sums.per_column) * SIDE >= 1:
        return math.nan, math.inf
    variance = total / ((1 - SIDE * sums.per_row) * (1 - SIDE * sums.per_column))
    # Each of the 25 terms scatters by σ²/√n; mirror images are one estimate counted twice. Over patches of 24 to 64
    # pixels a side the scatter of smoothed noise is 0.87 to 1.07 of that (measured).
    return variance, 1.05 * abs(variance) * math.sqrt(2 * SIDE * SIDE / sums.n)


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
        return unknown(correlation)

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
        nothing = unknown(range_one, range_other, otherwise=Missing.NO_RANGE)
        return nothing, nothing
    apart = difference(range_one, range_other)
    one, other = noise_hidden_stops(rho_one), noise_hidden_stops(rho_other)
    if one.value is None or other.value is None:
        return apart, unknown(one, other, otherwise=Missing.NO_CORRELATION)
    return apart, difference(one, other)
