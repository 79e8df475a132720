"""The cast of a neutral that was pushed or pulled: how strong, and which way."""

from __future__ import annotations

import math
import zlib
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.colorimetry import camera_to_srgb, lab_of_linear_srgb, means_of, neutral_drift
from yellowjacket.core.metrology.estimate import Quantity, unknown
from yellowjacket.core.metrology.notes import Missing

# Hue angles in CIELAB, degrees, of a little more of a primary of the display on grey, or a little less of it.
_DIRECTIONS = {
    "red": 19.0, "orange": 65.0, "yellow": 110.0, "green": 144.0, "cyan": 199.0, "blue": 290.0, "magenta": 324.0,
}  # fmt: skip
_GREY = 0.18


def cast_of(
    own: Mapping[str, Quantity], reference: Mapping[str, Quantity], xyz_to_camera: NDArray[np.float64] | None
) -> tuple[Quantity, str]:
    """ΔE00 of a neutral patch against the correct frame at the same brightness, and its direction in a word.

    ``own``, ``reference``: signal above black by channel, DN. The correct frame sets the white balance. The direction is
    empty where the cast is not distinguishable from none.
    ``xyz_to_camera``: shape (3, 3).
    """
    means = means_of(own), means_of(reference)
    if means[0] is None or means[1] is None:
        return unknown(*own.values(), *reference.values(), otherwise=Missing.NO_NEUTRAL_READING), ""
    rng = np.random.default_rng(zlib.crc32(repr(means).encode()))
    drift = neutral_drift(means[0], means[1], xyz_to_camera, rng)
    if drift.value is None or drift.notes or drift.value == 0:
        return drift, ""
    return drift, _direction(np.array(means[0].mean_dn), np.array(means[1].mean_dn), xyz_to_camera)


def _direction(
    own: NDArray[np.float64], reference: NDArray[np.float64], xyz_to_camera: NDArray[np.float64] | None
) -> str:
    balanced = own / reference
    green = (balanced[1] + balanced[2]) / 2
    camera = np.array([balanced[0], green, balanced[3]]) / green * _GREY
    lab = lab_of_linear_srgb(camera @ camera_to_srgb(xyz_to_camera).T)
    angle = math.degrees(math.atan2(lab[2], lab[1])) % 360
    return min(_DIRECTIONS, key=lambda name: abs((_DIRECTIONS[name] - angle + 180) % 360 - 180))
