"""Whether a body smooths (or sharpens) its raw: neighbours of one colour must be independent, and what to do when not.

A − B of two frames of one scene is noise alone. White noise has no correlation between neighbours; a smoothed one has,
and its variance reads low. What a filter of unit gain cannot change is the noise at zero frequency: the sum of all
autocovariances is the variance before the filter (Wiener-Khinchin).
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Quantity, missing, with_error

LAGS = 2
# Beyond this and so many standard errors the raw is called cooked.
COOKED_CORRELATION, COOKED_SE = 0.015, 5.0
_SIDE = 2 * LAGS + 1


@dataclass(frozen=True, slots=True, eq=False)
class LagSums:
    """Correlations of noise: ``correlation``[dy, dx + 2] for dy 0…2, dx −2…2, and the variance in DN² they stand for.

    Row and column means were taken off; ``per_row`` and ``per_column`` are the shares that went with them, one over
    the pixels of a row and of a column.
    """

    correlation: NDArray[np.float64]
    variance_dn2: float
    n: int
    per_row: float
    per_column: float


def lag_sums(difference: NDArray[np.float64]) -> LagSums:
    """Autocovariances up to two pixels away of a normalised difference, shape (rows, columns)."""
    rows, columns = difference.shape
    clean = difference - difference.mean(axis=1, keepdims=True)
    clean -= clean.mean(axis=0, keepdims=True)
    covariance = np.zeros((LAGS + 1, _SIDE))
    for down in range(LAGS + 1):
        for across in range(-LAGS, LAGS + 1):
            if down == 0 and across < 0:
                continue
            first = clean[down:, max(across, 0) : columns + min(across, 0)]
            second = clean[: rows - down, max(-across, 0) : columns - max(across, 0)]
            if first.size:
                covariance[down, across + LAGS] = float(np.einsum("ij,ij->", first, second)) / first.size
    variance = float(covariance[0, LAGS])
    return LagSums(
        covariance / variance if variance > 0 else covariance, variance, difference.size, 1 / columns, 1 / rows
    )


def pooled(parts: Iterable[LagSums]) -> LagSums | None:
    """Several patches as one, weighted by their pixels; None without any."""
    known = [part for part in parts if part.variance_dn2 > 0]
    if not known:
        return None
    n = sum(part.n for part in known)
    weights = [part.n / n for part in known]

    def average(values: Iterable[float]) -> float:
        return sum(w * value for w, value in zip(weights, values, strict=True))

    correlation = np.sum([w * part.correlation for w, part in zip(weights, known, strict=True)], axis=0)
    return LagSums(
        correlation, average(part.variance_dn2 for part in known), n, average(part.per_row for part in known),
        average(part.per_column for part in known),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Cooked:
    """Verdict on a rung: correlations at one and two pixels, along rows and down columns, and whether it is cooked."""

    flag: bool | None
    lag1: Quantity
    lag2: Quantity
    lag1_rows: Quantity
    lag1_columns: Quantity
    reason: str = ""


def verdict(sums: LagSums | None) -> Cooked:
    """Cooked or not, from the pooled autocovariances of a rung."""
    if sums is None:
        nothing = missing("no pair to compare neighbours in")
        return Cooked(None, nothing, nothing, nothing, nothing, nothing.reason)
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
    if max(sums.per_row, sums.per_column) * _SIDE >= 1:
        return math.nan, math.inf
    variance = total / ((1 - _SIDE * sums.per_row) * (1 - _SIDE * sums.per_column))
    # Each of the 25 terms scatters by σ²/√n; mirror images are one estimate counted twice. Over patches of 24 to 64
    # pixels a side the scatter of smoothed noise is 0.87 to 1.07 of that (measured).
    return variance, 1.05 * abs(variance) * math.sqrt(2 * _SIDE * _SIDE / sums.n)
