"""Neutral drift: how far the grey patch wanders along a ladder though light and setting stood still."""

from __future__ import annotations

import warnings
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.quantity import Quantity, missing

# Linear sRGB → XYZ, D65 (IEC 61966-2-1; from memory).
SRGB_TO_XYZ = np.array(
    [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
)
# Mid-grey is judged at this reflectance: L* about 50.
_GREY = 0.18
_DRAWS = 2000
NOT_DISTINGUISHABLE = "not distinguishable from none"


@dataclass(frozen=True, slots=True)
class ChannelMeans:
    """Mean signal of a patch by channel R, G1, G2, B in DN above black, with standard errors."""

    mean_dn: tuple[float, float, float, float]
    se_dn: tuple[float, float, float, float]
    n: int


def camera_to_srgb(xyz_to_camera: NDArray[np.float64] | None) -> NDArray[np.float64]:
    """White-balanced camera RGB → linear sRGB, 3×3; neutral stays neutral.

    Rows of the sRGB → camera matrix are scaled to sum to one, so that equal balanced channels give
    equal sRGB. Without a matrix the identity is returned: colours then are the camera's own.
    """
    if xyz_to_camera is None:
        return np.eye(3)
    to_camera = xyz_to_camera @ SRGB_TO_XYZ
    return np.asarray(np.linalg.inv(to_camera / to_camera.sum(axis=1, keepdims=True)))


def delta_e_2000(first: NDArray[np.float64], second: NDArray[np.float64]) -> NDArray[np.float64]:
    """CIEDE2000 (CIE 142) between Lab colours, shape (…, 3)."""
    with warnings.catch_warnings():
        # The library announces optional packages that are not installed; and it costs a second to
        # import, which pages that never compute a colour should not pay.
        warnings.simplefilter("ignore")
        from colour.difference import delta_E_CIE2000

        return np.asarray(delta_E_CIE2000(first, second), dtype=np.float64)


def lab_of_linear_srgb(rgb: NDArray[np.float64]) -> NDArray[np.float64]:
    """CIELAB (D65 white) of linear sRGB, shape (…, 3); negatives are kept."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        from colour.models import XYZ_to_Lab

        white = SRGB_TO_XYZ.sum(axis=1)
        xyz = rgb @ SRGB_TO_XYZ.T
        return np.asarray(XYZ_to_Lab(xyz, white[:2] / white.sum()), dtype=np.float64)


def neutral_drift(
    patch: ChannelMeans, reference: ChannelMeans, xyz_to_camera: NDArray[np.float64] | None, rng: np.random.Generator
) -> Quantity:
    """ΔE00 of a grey patch against the reference rung, white-balanced there and equalised in green.

    Mean linear values are compared (pixel-wise Lab means are biased by noise). The interval comes from
    ``rng`` draws of both means; a shift inside the 95 % point of sampling alone is "not distinguishable"
    and its interval begins at 0.
    """
    first, second = np.array(patch.mean_dn), np.array(reference.mean_dn)
    if (first <= 0).any() or (second <= 0).any():
        return missing("a channel of the grey patch has no signal above black")
    matrix = camera_to_srgb(xyz_to_camera)
    value = float(_drift(first[None], second[None], second, matrix)[0])
    noise_first = rng.normal(0.0, patch.se_dn, (_DRAWS, 4))
    noise_second = rng.normal(0.0, reference.se_dn, (_DRAWS, 4))
    drawn = _drift(first + noise_first, second + noise_second, second, matrix)
    # Sampling alone: the reference colour at this patch's level with the same relative errors.
    level = second * (first[1] + first[2]) / (second[1] + second[2])
    alone = float(np.quantile(_drift(level + noise_first, second + noise_second, second, matrix), 0.95))
    low, high = (float(q) for q in np.quantile(drawn, (0.025, 0.975)))
    if value <= alone:
        return Quantity(value, 0.0, max(high, alone), patch.n, NOT_DISTINGUISHABLE)
    return Quantity(value, min(low, value), max(high, value), patch.n)


def _drift(
    patch: NDArray[np.float64],
    reference: NDArray[np.float64],
    balance: NDArray[np.float64],
    matrix: NDArray[np.float64],
) -> NDArray[np.float64]:
    return delta_e_2000(_lab(reference, balance, matrix), _lab(patch, balance, matrix))


def _lab(
    channels: NDArray[np.float64], balance: NDArray[np.float64], matrix: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Lab of channel means after the balance of the reference, green brought to mid-grey."""
    balanced = np.maximum(channels, 1e-9) / balance
    green = (balanced[:, 1] + balanced[:, 2]) / 2
    rgb = np.stack([balanced[:, 0], green, balanced[:, 3]], axis=-1) / green[:, None] * _GREY
    return lab_of_linear_srgb(rgb @ matrix.T)
