"""Noise as the eye weighs it: how strongly each fineness is seen from where a picture is looked at, lightness and colour apart.

After ISO 15739, visual noise: opponent channels, contrast sensitivity by cycles per degree, and σ of L*, u* and v* with
their weights. Channels, sensitivities and weights are from memory. σ is taken by the slopes of CIELUV at the patch's own
mean, which for small noise is the same and stays defined where noise goes below black.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.colorimetry import SRGB_TO_XYZ, WHITE, slopes_of_luv
from yellowjacket.core.metrology.estimate import Quantity, missing, with_error
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.metrology.robust import without_plane

# XYZ, white at 1, → light, red against green, yellow against blue (ISO 15739; from memory): grey noise is light alone.
_OPPONENT = np.array([[0.0, 1.0, 0.0], [1.0, -1.0, 0.0], [0.0, 0.4, -0.4]])
_TO_XYZ = np.linalg.inv(_OPPONENT)
# Linear sRGB → XYZ with white at 1.
_FROM_RGB = SRGB_TO_XYZ / WHITE[:, None]
# How much σ of L*, u* and v* count (ISO 15739:2013; from memory).
WEIGHTS = np.array([1.0, 0.852, 0.323])


def light_sensitivity(cycles_per_degree: NDArray[np.float64]) -> NDArray[np.float64]:
    """Contrast sensitivity to light and dark, 1 at its peak near 4 cycles per degree: 75 f^0.8 e^(−0.2 f) before it is
    scaled (Movshon and Kiorpes; from memory). An array of any shape gives one of the same."""
    peak = 0.8 / 0.2
    found = (cycles_per_degree / peak) ** 0.8 * np.exp(-0.2 * (cycles_per_degree - peak))
    return np.asarray(found, float)


def colour_sensitivity(cycles_per_degree: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Contrast sensitivity to red against green and to yellow against blue, 1 where nothing changes (Johnson and Fairchild,
    2003; from memory). An array of any shape gives two of the same."""
    f = cycles_per_degree
    red_green = 109.14130 * np.exp(-0.00038 * f**3.42436) + 93.59711 * np.exp(-0.00367 * f**2.16771)
    yellow_blue = 7.032845 * np.exp(-0.000004 * f**4.258205) + 40.690950 * np.exp(-0.103909 * f**1.648658)
    return np.asarray(red_green / (109.14130 + 93.59711), float), np.asarray(
        yellow_blue / (7.032845 + 40.690950), float
    )


def visual_noise(
    first: NDArray[np.float64], second: NDArray[np.float64], pixels_per_degree: float, *, coloured: bool
) -> Quantity:
    """Visual noise of a pair at its own size: σ_L* + 0.852 σ_u* + 0.323 σ_v* of what the eye resolves.

    ``first``, ``second``: one patch of both frames in linear sRGB, shape (rows, columns, 3). ``pixels_per_degree``: as they
    are looked at. Not ``coloured``: lightness alone. None where the patch has no light.
    """
    rows, columns = first.shape[:2]
    mean = (first.mean(axis=(0, 1)) + second.mean(axis=(0, 1))) / 2 @ _FROM_RGB.T
    if mean.min() <= 0:
        return missing(Missing.NO_SIGNAL)
    noise = (first - second) @ (_OPPONENT @ _FROM_RGB).T / math.sqrt(2)
    fineness = pixels_per_degree * np.hypot(np.fft.fftfreq(rows)[:, None], np.fft.fftfreq(columns)[None, :])
    seen = np.stack([light_sensitivity(fineness), *colour_sensitivity(fineness)], axis=-1)
    spectrum = np.stack([np.fft.fft2(without_plane(noise[..., n])) for n in range(3)], axis=-1) * seen
    luv = (spectrum @ (slopes_of_luv(mean) @ _TO_XYZ).T).reshape(-1, 3) / math.sqrt(
        rows * columns * (rows * columns - 3)
    )
    sigma = np.sqrt((np.abs(luv) ** 2).sum(axis=0))
    if not sigma[0] > 0:
        return missing(Missing.CONSTANT_FRAMES)
    weights = WEIGHTS if coloured else WEIGHTS * (1, 0, 0)
    # Lines of a periodogram scatter like themselves; the squares of what two have in common tell how they go together.
    together = np.array([[(one * other.conj()) ** 2 for other in luv.T] for one in luv.T]).sum(axis=-1).real
    slope = weights / (2 * np.maximum(sigma, np.finfo(float).tiny))
    error = math.sqrt(max(0.0, float(slope @ together @ slope)))
    return with_error(float(sigma @ weights), error, rows * columns)
