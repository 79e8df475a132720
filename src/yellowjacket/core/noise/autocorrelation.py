"""Whether a body smooths (or sharpens) its raw: neighbours of one colour must be independent, and what to do when not.

A − B of two frames of one scene is noise alone. White noise has no correlation between neighbours; a smoothed one has,
and its variance reads low. What a filter of unit gain cannot change is the noise at zero frequency: the sum of all
autocovariances is the variance before the filter (Wiener-Khinchin).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.robust import mean_of

LAGS = 2
SIDE = 2 * LAGS + 1


@dataclass(frozen=True, slots=True, eq=False)
class LagSums:
    """Correlations of noise: ``correlation``[dy, dx + L] for dy 0…L, dx −L…L, and the variance in DN² they stand for.

    Row and column means were taken off; ``per_row`` and ``per_column`` are the shares that went with them, one over
    the pixels of a row and of a column.
    """

    correlation: NDArray[np.float64]
    variance_dn2: float
    n: int
    per_row: float
    per_column: float


def lag_sums(difference: NDArray[np.float64], most: int = LAGS) -> LagSums:
    """Autocovariances up to ``most`` pixels away of a normalised difference, shape (rows, columns)."""
    from yellowjacket.core.noise.covariances import covariances

    rows, columns = difference.shape
    clean = difference - mean_of(difference, axis=1)[:, None]
    clean -= mean_of(clean, axis=0)
    covariance = covariances(clean, most)
    variance = float(covariance[0, most])
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
