"""Temporal noise from two frames of the same rung.

The difference of two frames of one scene holds no scene and no fixed pattern, only what changed from
one release to the next. Source of the method: EMVA 1288 (two-frame variance) and Janesick, *Photon
Transfer* (both from memory); k-correction, outlier bar and standard error as in docs/methods.md.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Z95, Quantity, first_notes, missing, with_error, with_relative_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.metrology.robust import mean_of, robust_sigma, without_plane
from yellowjacket.core.noise.autocorrelation import LAGS, LagSums, lag_sums, pooled
from yellowjacket.core.raw.clipping import Plane

# A ratio k of the two means is believed when the signal is this many σ and k this many SE from 1.
_K_SIGNAL_SIGMAS = 10.0
_K_SIGNIFICANT_SE = 3.0
# Stops of light change between the two frames: above the first it is reported, above the second no pair.
LIGHT_CHANGED_STOPS = 0.03
NOT_A_PAIR_STOPS = 0.1
# Differences further out than this many robust σ (never under 2 DN) are left out and counted.
_OUTLIER_SIGMAS = 6.0
_OUTLIER_FLOOR_DN = 2.0
_OUTLIER_ROUNDS = 5
# σ with and without outliers further apart than this is stated.
_OUTLIER_REMARK_SHARE = 0.01
# Rounding to whole numbers: below the first σ is limited by it, below the second only an upper bound.
ROUNDING_LIMITED_DN = 0.5
ROUNDING_BOUND_DN = 0.4
_CLIP_MARGIN_SIGMAS = 5.0
# Code 0 cuts the lower tail off: patches nearer to it than this many σ would read too little noise, at three of them by
# 0.12 % (a normal distribution that is cut there).
_FLOOR_MARGIN_SIGMAS = 3.0
_SOLVED_DN = 1e-6
_SIGNIFICANT_LAG_SE = 5.0
# A plane (mean and two slopes) is taken off the difference.
_PLANE_PARAMETERS = 3
MIN_PIXELS = 64
SINGLE_FRAME = "single frame"


@dataclass(frozen=True, slots=True)
class PairNoise:
    """Noise of one channel in one patch. DN throughout; ``variance_se`` in DN².

    ``signal`` is the mean of both frames above black. ``excluded`` pixels were outliers.
    ``k`` is the light ratio that was taken out, ``light_change_stops`` its logarithm when significant.
    """

    signal: Quantity
    noise: Quantity
    snr: Quantity
    variance_dn2: float
    variance_se_dn2: float
    n: int
    excluded: int
    k: float
    light_change_stops: float
    lags: LagSums | None = None


def pair_noise(a: Plane, b: Plane, black_dn: float, *, clip_dn: float | None = None, dark: bool = False) -> PairNoise:
    """Signal, temporal noise and SNR of one channel from frames ``a`` and ``b`` of the same patch.

    ``a``, ``b``: 2-D arrays of one channel's sites in DN, black included. ``black_dn``: level taken
    off. ``clip_dn``: saturation, black included; None when unknown. ``dark``: no light, so k is 1.
    Raises ValueError when shapes differ. What cannot be measured comes back with a reason.
    """
    if a.shape != b.shape or a.ndim != 2:
        raise ValueError(f"a pair needs two 2-D arrays of one shape, got {a.shape} and {b.shape}")
    if a.size < MIN_PIXELS:
        return unmeasured(Note(Missing.PATCH_TOO_SMALL, (a.size, MIN_PIXELS)), a.size)
    first = a.astype(np.float64) - black_dn
    second = b.astype(np.float64) - black_dn
    mean_a, mean_b = float(mean_of(first)), float(mean_of(second))
    rough_sigma = robust_sigma(first - second) / math.sqrt(2)
    if rough_sigma < ROUNDING_BOUND_DN and np.array_equal(a, b) and a.min() != a.max():
        return unmeasured(Note(Missing.ONE_FRAME_COPIED), a.size)
    top_mean = max(mean_a, mean_b)
    if clip_dn is not None and top_mean + _CLIP_MARGIN_SIGMAS * rough_sigma >= clip_dn - black_dn:
        return unmeasured(Note(Missing.CLIPPED), a.size)
    if rough_sigma > ROUNDING_LIMITED_DN and min(mean_a, mean_b) + black_dn < _FLOOR_MARGIN_SIGMAS * rough_sigma:
        return unmeasured(Note(Missing.NOISE_CUT_AT_ZERO), a.size)
    k, change = (1.0, 0.0) if dark else _light_ratio(mean_a, mean_b, rough_sigma, a.size)
    if abs(change) > NOT_A_PAIR_STOPS:
        return unmeasured(Note(Missing.LIGHT_CHANGED, (change,)), a.size)
    difference = without_plane(first - k * second) / math.sqrt(2 * k)
    return _from_difference(
        difference, (mean_a + mean_b) / 2, k, change, _standing_out(first + second) if dark else None
    )


def single_noise(a: Plane, black_dn: float, *, clip_dn: float | None = None, prnu: float = 0.0) -> PairNoise:
    """Noise of one channel from one frame: half the variance of neighbours' differences, marked "single frame".

    ``prnu``: spread of response that stays from frame to frame, taken off where it is known. Fine texture and a
    raw that was smoothed both spoil it. Other arguments as in pair_noise.
    ``a``: shape (height, width), DN.
    """
    if a.size < MIN_PIXELS:
        return unmeasured(Note(Missing.PATCH_TOO_SMALL, (a.size, MIN_PIXELS)), a.size)
    first = a.astype(np.float64) - black_dn
    signal = float(first.mean())
    across = (first[:, 1:] - first[:, :-1]) / math.sqrt(2)
    sigma = robust_sigma(across * math.sqrt(2)) / math.sqrt(2)
    if clip_dn is not None and signal + _CLIP_MARGIN_SIGMAS * sigma >= clip_dn - black_dn:
        return unmeasured(Note(Missing.CLIPPED), a.size)
    found = _from_difference(without_plane(across), signal, 1.0, 0.0)
    if not found.noise.known:
        return found
    variance = found.variance_dn2 - (prnu * signal) ** 2
    if variance <= 0:
        return unmeasured(Note(Missing.LESS_THAN_PRNU), a.size)
    # Neighbouring differences share a pixel: 3/2 of the scatter that independent ones would have.
    relative = math.sqrt(1.5) * found.variance_se_dn2 / (2 * variance)
    noise = with_relative_error(math.sqrt(variance), relative, found.n, Note(Remark.SINGLE_FRAME))
    signal_q = with_error(signal, math.sqrt(variance / a.size), a.size)
    snr = missing(Missing.NO_SIGNAL)
    if signal > Z95 * signal_q.se:
        snr = with_relative_error(
            signal / math.sqrt(variance), math.hypot(relative, signal_q.se / signal), found.n, Note(Remark.SINGLE_FRAME)
        )
    return PairNoise(
        signal_q, noise, snr, variance, found.variance_se_dn2, found.n, found.excluded, 1.0, 0.0, found.lags
    )


def joint_noise(parts: Sequence[PairNoise]) -> PairNoise:
    """Several sites of one channel in one patch as one: variances and signals weighted by their pixels.

    What could not be measured on one of them is unmeasured as a whole, with that reason.
    """
    if len(parts) == 1:
        return parts[0]
    for part in parts:
        if not part.noise.known:
            return part
    n = sum(part.n for part in parts)
    shares = [part.n / n for part in parts]
    variance = sum(w * part.variance_dn2 for w, part in zip(shares, parts, strict=True))
    variance_se = math.sqrt(sum((w * part.variance_se_dn2) ** 2 for w, part in zip(shares, parts, strict=True)))
    signal = sum(w * (part.signal.value or 0.0) for w, part in zip(shares, parts, strict=True))
    signal_se = math.sqrt(sum((w * part.signal.se) ** 2 for w, part in zip(shares, parts, strict=True)))
    sigma, relative = math.sqrt(variance), variance_se / (2 * variance)
    snr, notes = missing(Missing.NO_SIGNAL), first_notes([part.noise for part in parts])
    if signal > Z95 * signal_se:
        snr = with_relative_error(signal / sigma, math.hypot(relative, signal_se / signal), n, *notes)
    return PairNoise(
        with_error(signal, signal_se, n), with_relative_error(sigma, relative, n, *notes), snr, variance, variance_se, n,
        sum(part.excluded for part in parts), parts[0].k, parts[0].light_change_stops,
        pooled(part.lags for part in parts if part.lags is not None),
    )  # fmt: skip


def _standing_out(both: NDArray[np.float64]) -> NDArray[np.bool_] | None:
    """Hot and stuck pixels of a dark pair, told by the sum of both frames, which knows nothing of their difference.

    The shot noise of their own dark signal is none of the read noise, and much of it hides below the outlier bar.
    """
    centre = float(np.median(both))
    out = np.abs(both - centre) > max(_OUTLIER_SIGMAS * robust_sigma(both - centre), _OUTLIER_FLOOR_DN)
    return out if out.any() else None


def _light_ratio(mean_a: float, mean_b: float, sigma: float, n: int) -> tuple[float, float]:
    """k = mean A / mean B and its stops, or (1, 0) where the ratio is not significant."""
    if min(mean_a, mean_b) <= _K_SIGNAL_SIGMAS * sigma or min(mean_a, mean_b) <= 0:
        return 1.0, 0.0
    k = mean_a / mean_b
    se = k * sigma / math.sqrt(n) * math.hypot(1 / mean_a, 1 / mean_b)
    if abs(k - 1) <= _K_SIGNIFICANT_SE * se:
        return 1.0, 0.0
    return k, math.log2(k)


def _kept(difference: NDArray[np.float64]) -> NDArray[np.bool_] | None:
    """Pixels within the outlier bar, or None when all are; the bar is found again on what is kept until it stands."""
    size = np.abs(difference)
    kept: NDArray[np.bool_] | None = None
    for _ in range(_OUTLIER_ROUNDS):
        # The bar is for the plain difference of two frames, √2 wider than the normalised one.
        sigma = robust_sigma(difference if kept is None else difference[kept])
        now = size <= max(_OUTLIER_SIGMAS * sigma, _OUTLIER_FLOOR_DN / math.sqrt(2))
        if now.all() or (kept is not None and np.array_equal(now, kept)):
            break
        kept = now
    return kept


def _from_difference(
    difference: NDArray[np.float64], signal: float, k: float, change: float, out: NDArray[np.bool_] | None = None
) -> PairNoise:
    kept = _kept(difference)
    if out is not None:
        kept = ~out if kept is None else kept & ~out
    values = difference.ravel() if kept is None else difference[kept]
    n = values.size
    excluded = difference.size - n
    variance = float(values @ values) / (n - _PLANE_PARAMETERS)
    if variance <= 0:
        return unmeasured(Note(Missing.CONSTANT_FRAMES), n)
    filled = difference if kept is None else np.where(kept, difference, 0.0)
    lags = lag_sums(filled)
    variance_se = math.sqrt(_variance_of_variance(filled, values, variance, lags))
    sigma = math.sqrt(variance)
    relative_se = variance_se / (2 * variance)
    signal_se = sigma / math.sqrt(2 * n)
    remarks = _remarks(sigma, difference, change)
    signal_quantity = with_error(signal, signal_se, n)
    noise = with_relative_error(sigma, relative_se, n, *remarks)
    if sigma < ROUNDING_BOUND_DN:
        noise = _bounded_by_rounding(noise)
    if signal > Z95 * signal_se:
        relative = math.hypot(relative_se, signal_se / signal)
        snr = with_relative_error(signal / (noise.value or sigma), relative, n, *remarks)
    else:
        snr = missing(Missing.NO_SIGNAL)
    return PairNoise(signal_quantity, noise, snr, variance, variance_se, n, excluded, k, change, lags)


def _bounded_by_rounding(read: Quantity) -> Quantity:
    """The most that noise can be when rounding left so little of it, from nothing up to that.

    With the level on the middle of a code, rounding swallows most of a small noise: 0.2 DN is read as 0.11.
    """
    assert read.value is not None  # noqa: S101 - only called with a measured noise
    assert read.high is not None  # noqa: S101
    bound = max(read.value, _before_rounding(read.value))
    return Quantity(bound, 0.0, max(bound, _before_rounding(read.high)), read.n, read.notes)


def _before_rounding(rounded_sigma: float) -> float:
    """σ in DN of a normal centred on a code whose rounded values have this standard deviation (< 1 DN)."""

    def excess(sigma: float) -> float:
        # Σ k² P(code k) = Σ (2k − 1) P(|code| ≥ k)
        tails = ((2 * k - 1) * math.erfc((k - 0.5) / (sigma * math.sqrt(2))) for k in range(1, 8))
        return sum(tails) - rounded_sigma**2

    # Rounded noise grows with the noise, so halving finds it; SciPy's solver costs 0.7 s to import at every start.
    low, high = 1e-3, 1.0
    while high - low > _SOLVED_DN:
        middle = (low + high) / 2
        low, high = (middle, high) if excess(middle) < 0 else (low, middle)
    return high


def _remarks(sigma: float, difference: NDArray[np.float64], change: float) -> list[Note]:
    remarks = []
    if sigma < ROUNDING_BOUND_DN:
        remarks.append(Note(Remark.UPPER_BOUND_ROUNDING))
    elif sigma < ROUNDING_LIMITED_DN:
        remarks.append(Note(Remark.ROUNDING))
    every = difference.ravel()
    with_all = math.sqrt(float(every @ every) / (every.size - _PLANE_PARAMETERS))
    if abs(with_all / sigma - 1) > _OUTLIER_REMARK_SHARE:
        remarks.append(Note(Remark.WITH_OUTLIERS, (with_all,)))
    if abs(change) > LIGHT_CHANGED_STOPS:
        remarks.append(Note(Remark.LIGHT_CHANGED_A_LITTLE, (change,)))
    return remarks


def _variance_of_variance(
    difference: NDArray[np.float64], values: NDArray[np.float64], variance: float, lags: LagSums
) -> float:
    """σ⁴(2Σρ² + κ)/n, and what lines add, 2σ_row⁴/rows + 2σ_col⁴/columns or more where a few strong ones make it, from the
    normalised difference."""
    n = values.size
    powers = values * values
    kurtosis = max(float(powers @ powers) / n / variance**2 - 3.0, 0.0)
    correlation = 1.0 + sum(2 * rho**2 for rho in _significant_lags(lags))
    total = variance**2 * (2 * correlation + kurtosis) / n
    for axis in (0, 1):
        lines = difference.shape[axis]
        across = difference.shape[1 - axis]
        means = mean_of(difference, axis=1 - axis)
        squares = (means - mean_of(means)) ** 2
        line_variance = float(np.add.reduce(squares)) / (lines - 1) - variance / across if lines > 1 else 0.0
        # Below two standard errors of a pure white field there is no line noise to speak of.
        if lines > 1 and line_variance > 2 * variance / across * math.sqrt(2 / (lines - 1)):
            # A few strong lines are few readings: Student's t of as many, over the normal's.
            telling = float(squares.sum()) ** 2 / float(squares @ squares)
            student = 1 + 1.5 / telling
            total += max(2 * line_variance**2, float(np.var(squares))) / lines * student**2
    return total


def _significant_lags(lags: LagSums) -> list[float]:
    """Correlations at lags up to 2 along rows and columns that stand out of white noise."""
    along = [float(lags.correlation[0, LAGS + lag]) + lags.per_row for lag in range(1, LAGS + 1)]
    down = [float(lags.correlation[lag, LAGS]) + lags.per_column for lag in range(1, LAGS + 1)]
    return [rho for rho in (*along, *down) if abs(rho) > _SIGNIFICANT_LAG_SE / math.sqrt(lags.n)]


def unmeasured(reason: Note, n: int) -> PairNoise:
    """A patch whose noise could not be read, with the reason."""
    nothing = Quantity(None, notes=(reason,))
    return PairNoise(nothing, nothing, nothing, math.nan, math.nan, n, 0, 1.0, 0.0)
