"""Dark current and its doubling temperature together, from darks whose sensor was not equally warm in all of them.

A body heats itself: in one ladder the long exposures are the warm ones. Each time is held against
b + i·t·2^((T − T₀)/d), so that warmth is not mistaken for time.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.darks.dark_current import THERMOMETER_C, DarkCurrent, DarkTiles, dark_current
from yellowjacket.core.metrology.estimate import Z95, Quantity, missing, unknown, with_relative_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.metrology.robust import SIGMA_PER_MAD

# Roughly doubles every so many degrees (common practice, no source): what serves where the darks do not tell.
USUAL_DOUBLING_C = 6.0
_USUAL_SE = 0.15
# Less warmth apart than this, or a less certain result, says nothing.
_LEAST_APART_C, _MOST_RELATIVE_SE = 3.0, 0.3
_ROUNDS = 3


def warmed_s(seconds: float, celsius: float, reference_c: float, doubling_c: float) -> float:
    """Seconds at the reference temperature that gather as much dark signal.

    A minute 6 °C warmer is as two minutes where dark current doubles every 6 °C.

    >>> warmed_s(60, 26, 20, 6)
    120.0
    """
    return float(seconds * 2.0 ** ((celsius - reference_c) / doubling_c))


def dark_law(
    times: Sequence[DarkTiles], temperatures: Sequence[float | None], gain: Quantity
) -> tuple[DarkCurrent, Quantity]:
    """Dark current at the middle of the temperatures, and the doubling temperature in °C, or the reason why not.

    ``temperatures``: of each time, °C; where one is not known all count as equal.
    """
    known = [one for one in temperatures if one is not None]
    if len(known) < len(times) or not times:
        return dark_current(times, gain), missing(Missing.TEMPERATURE_TO_ENTER)
    degrees = np.array(known)
    reference = round(float(np.median(degrees)), 1)
    doubling = _doubling(times, degrees, reference)
    used = doubling.value or USUAL_DOUBLING_C
    warmed = [
        DarkTiles(warmed_s(one.exposure_s, celsius, reference, used), one.means, one.variances, one.medians)
        for one, celsius in zip(times, known, strict=True)
    ]
    found = dark_current(warmed, gain, reference)
    return found, doubling


def _doubling(times: Sequence[DarkTiles], degrees: NDArray[np.float64], reference: float) -> Quantity:
    if float(degrees.max() - degrees.min()) < _LEAST_APART_C:
        return missing(Missing.TEMPERATURES_TOO_CLOSE, _LEAST_APART_C)
    if len(times) < 4:
        return missing(Missing.FEW_TIMES_OR_TEMPERATURES)
    # Imported at first use: a start does without it.
    from scipy.optimize import least_squares

    seconds = np.array([one.exposure_s for one in times])
    # The middle tile stands for all: glow and outliers count little.
    levels = np.array([float(np.median(np.mean(list(one.means.values()), axis=0))) for one in times])
    noise = np.array([_level_error(one) for one in times])
    start = np.array([levels.min(), max((levels.max() - levels.min()) / seconds.max(), 1e-6), 1 / USUAL_DOUBLING_C])
    scale = noise
    for _ in range(_ROUNDS):

        def residuals(p: NDArray[np.float64], scale: NDArray[np.float64] = scale) -> NDArray[np.float64]:
            return np.asarray((levels - p[0] - p[1] * seconds * 2.0 ** ((degrees - reference) * p[2])) / scale)

        fit = least_squares(residuals, start, x_scale=np.maximum(np.abs(start), 1e-6))
        signal = fit.x[1] * seconds * 2.0 ** ((degrees - reference) * fit.x[2])
        # A thermometer that is off shifts the signal of its darks.
        scale = np.hypot(noise, np.abs(signal) * math.log(2) * abs(fit.x[2]) * THERMOMETER_C / Z95)
        start = fit.x
    rate = float(fit.x[2])
    try:
        jacobian = np.asarray(fit.jac)
        covariance = np.linalg.inv(jacobian.T @ jacobian)
    except np.linalg.LinAlgError:
        return missing(Missing.TIMES_FOLLOW_TEMPERATURES)
    se = math.sqrt(max(float(covariance[2, 2]), 0.0))
    if rate <= 0 or fit.x[1] <= 0:
        return missing(Missing.NO_GROWTH_WITH_TEMPERATURE)
    if se / rate > _MOST_RELATIVE_SE:
        return missing(Missing.TEMPERATURES_DO_NOT_SETTLE)
    return with_relative_error(1 / rate, se / rate, len(times))


def _level_error(tiles: DarkTiles) -> float:
    """Error of a time's level in DN: over tiles, but no better than a hundredth of a DN."""
    means = np.mean(list(tiles.means.values()), axis=0)
    spread = SIGMA_PER_MAD * float(np.median(np.abs(means - np.median(means))))
    return max(0.01, 1.2533 * spread / math.sqrt(means.size))


def at_temperature(current: Quantity, reference_c: float, celsius: float, doubling: Quantity) -> Quantity:
    """Dark current predicted for another temperature, errors of current and doubling taken along.

    Where the doubling temperature was not measured the usual 6 °C serve, less surely.
    """
    if current.value is None or current.value <= 0:
        return unknown(current, otherwise=Missing.NO_DARK_CURRENT)
    value, relative = (
        (doubling.value, doubling.se / doubling.value) if doubling.value else (USUAL_DOUBLING_C, _USUAL_SE)
    )
    apart = celsius - reference_c
    growth = math.log(2) * apart / value
    se = math.hypot(current.se / current.value, growth * relative)
    remarks = () if doubling.value or not apart else (Note(Remark.USUAL_DOUBLING, (USUAL_DOUBLING_C,)),)
    return with_relative_error(current.value * math.exp(growth), se, current.n, *remarks)
