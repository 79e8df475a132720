"""How codes of a display stand for light: the curve of sRGB."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def linear_of_srgb(encoded: NDArray[np.float64]) -> NDArray[np.float64]:
    """Light of sRGB values, both as a share of display white, any shape (IEC 61966-2-1; from memory).

    >>> linear_of_srgb(np.array([0.0, 0.04045, 0.5, 1.0])).round(4).tolist()
    [0.0, 0.0031, 0.214, 1.0]
    """
    return np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)
