"""What stays from frame to frame: the spread of the pixels' own response (PRNU) and offset."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Quantity, missing, with_relative_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.raw.histograms import SUM_A, SUM_AA, SUM_AB, SUM_B, SUM_BB, TILE_PX, tile_sums

# Patches dimmer than this share of the brightest say nothing about response.
_BRIGHT_SHARE = 0.1
# Patches agree with the lowest, which lies this many standard errors low, up to so many above.
_AGREE_SE, _SURELY_SE = 2.5, 3.5
# Below so many standard errors of one patch, structure of the scene could hide among the patches kept.
_TELLING = 3.0
_FEWEST = 3


@dataclass(frozen=True, slots=True)
class FixedPattern:
    """Covariance of two frames within small tiles, DN², and its standard error; temporal variance of one frame; and what a slope
    of the light had added to the covariance."""

    variance_dn2: float
    se_dn2: float
    n: int
    temporal_dn2: float
    sloped_dn2: float = 0.0


def fixed_pattern(a: NDArray[np.uint16], b: NDArray[np.uint16]) -> FixedPattern:
    """What both frames of a patch share inside tiles of 16 × 16: fixed pattern, freed of illumination and of its slope.

    Both of one shape (height, width), DN.
    """
    side = min(TILE_PX, *a.shape)
    sums = tile_sums(a, b, side).reshape(-1, 5).astype(np.float64)
    n = side * side
    cross = (sums[:, SUM_AB] - sums[:, SUM_A] * sums[:, SUM_B] / n) / (n - 1)
    one = (sums[:, SUM_AA] - sums[:, SUM_A] ** 2 / n) / (n - 1)
    other = (sums[:, SUM_BB] - sums[:, SUM_B] ** 2 / n) / (n - 1)
    covariance = float(((n - 1) * cross - _along_slopes(a, b, side)).mean()) / (n - 3)
    sloped = float(cross.mean()) - covariance
    total = n * len(sums)
    se = math.sqrt(max(float(one.mean() * other.mean()) + covariance**2, 0.0) / total)
    return FixedPattern(covariance, se, total, max(float(one.mean() + other.mean()) / 2 - covariance, 0.0), sloped)


def _along_slopes(a: NDArray[np.uint16], b: NDArray[np.uint16], side: int) -> NDArray[np.float64]:
    """What planes of both frames share inside each tile, DN² summed over its pixels: light that falls off is no pattern.

    Shapes (height, width) in, (tiles,) out.
    """
    rows, columns = a.shape[0] // side, a.shape[1] // side
    steps = np.arange(side) - (side - 1) / 2
    found = np.zeros((rows, columns))
    for down, across in ((steps, np.ones(side)), (np.ones(side), steps)):
        one, other = (
            np.einsum(
                "risj,i,j->rs", frame[: rows * side, : columns * side].reshape(rows, side, columns, side), down, across
            )
            for frame in (a, b)
        )
        found += one * other / (side * float(steps @ steps))
    return found.ravel()


def joint_pattern(parts: Sequence[FixedPattern]) -> FixedPattern:
    """Several sites of one channel in one patch as one, weighted by their pixels; of one site it is that one's."""
    if len(parts) == 1:
        return parts[0]
    n = sum(part.n for part in parts)
    shares = [part.n / n for part in parts]
    variance = sum(w * part.variance_dn2 for w, part in zip(shares, parts, strict=True))
    se = math.sqrt(sum((w * part.se_dn2) ** 2 for w, part in zip(shares, parts, strict=True)))
    temporal = sum(w * part.temporal_dn2 for w, part in zip(shares, parts, strict=True))
    return FixedPattern(variance, se, n, temporal)


def prnu(patches: Sequence[tuple[float, FixedPattern]], dark: FixedPattern | None) -> Quantity:
    """Relative spread of response p from (signal in DN, pattern) of uniform patches: p² = (σ²(S) − σ²(dark))/S²."""
    if dark is None:
        return missing(Missing.DARK_PATTERN_NEEDED)
    top = max((signal for signal, _ in patches), default=0.0)
    bright = [(signal, found) for signal, found in patches if signal > _BRIGHT_SHARE * top > 0]
    if len(bright) < _FEWEST:
        return missing(Missing.FEW_BRIGHT_PATCHES, len(bright), _FEWEST)
    signals = np.array([signal for signal, _ in bright])
    values = np.array([found.variance_dn2 - dark.variance_dn2 for _, found in bright]) / signals**2
    errors = _errors(bright, dark, max(float(np.median(values)), 0.0))
    # Structure of the scene only adds: what agrees with the lowest patches holds none.
    lowest = float(np.min(values + _AGREE_SE * errors))
    kept = values - _SURELY_SE * errors <= lowest
    square = float(np.average(values[kept], weights=1 / errors[kept] ** 2))
    # Errors by what all patches say: a patch's own reading would give weight to those that scattered low.
    errors = _errors(bright, dark, max(square, 0.0))
    weights = 1 / errors[kept] ** 2
    square = float(np.average(values[kept], weights=weights))
    if square > 0 and float(np.quantile(errors, 0.25)) * _TELLING > square:
        return missing(Missing.TOO_NOISY_FOR_PRNU)
    chi2 = float(np.sum(weights * (values[kept] - square) ** 2)) / max(int(kept.sum()) - 1, 1)
    se = math.sqrt(max(1.0, chi2) / float(weights.sum()))
    n = sum(found.n for (_, found), keep in zip(bright, kept, strict=True) if keep)
    if square <= 2 * se:
        return Quantity(0.0, 0.0, math.sqrt(max(square, 0.0) + 2 * se), n, (Note(Remark.NOT_CLEAR_OF_ZERO),))
    return with_relative_error(math.sqrt(square), se / (2 * square), n)


def _errors(bright: Sequence[tuple[float, FixedPattern]], dark: FixedPattern, square: float) -> NDArray[np.float64]:
    """Standard errors of p² for each patch, if p² is ``square``."""
    found = []
    for signal, pattern in bright:
        fixed = square * signal**2 + max(dark.variance_dn2, 0.0)
        own = ((pattern.temporal_dn2 + fixed) ** 2 + fixed**2) / pattern.n
        found.append(math.sqrt(own + dark.se_dn2**2) / signal**2)
    return np.array(found)
