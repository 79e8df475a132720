"""Colour along a ladder: how far the grey patch, colour patches and blacks wander though light and setting stood still."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Quantity, missing, unknown, with_relative_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark

# Linear sRGB → XYZ, D65 (IEC 61966-2-1; from memory).
SRGB_TO_XYZ = np.array(
    [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
)
# Its white.
WHITE = SRGB_TO_XYZ.sum(axis=1)
# Mid-grey is judged at this reflectance: L* about 50.
_GREY = 0.18
_DRAWS = 2000
_SHIFT_DRAWS = 400
# Colours nearer to each other in a*b* than this are one colour for telling neighbours apart, which takes so many.
_LEAST_APART = 5.0
_FEWEST_COLOURS = 3
# Colour temperatures that can be told, K, and where lamps end and daylight begins.
KELVIN_RANGE = (1700, 25000)
_DAYLIGHT_FROM = 4000.0
# Where the polynomials of the loci change, K.
_DAYLIGHT_BEND, _GLOWING_BEND = 7000.0, 2222.0
# Where L* turns from a line to a cube root, and the slope of that line (CIE 15:2018).
_LAB_BEND, _LAB_SLOPE = (6 / 29) ** 3, (29 / 3) ** 3


# A number, or numbers by pixel.
Level = TypeVar("Level", float, NDArray[np.float64])


@dataclass(frozen=True, slots=True)
class ChannelMeans:
    """Mean signal of a patch by channel R, G1, G2, B in DN above black, with standard errors."""

    mean_dn: tuple[float, float, float, float]
    se_dn: tuple[float, float, float, float]
    n: int


def rgb_of(levels: Mapping[str, Level]) -> tuple[Level, Level, Level]:
    """Levels by channel as red, green and blue: two greens by their mean; without filters the only level three times.

    Raises KeyError where a channel is missing.

    >>> rgb_of({"R": 1.0, "G1": 2.0, "G2": 4.0, "B": 5.0}), rgb_of({"M": 7.0})
    ((1.0, 3.0, 5.0), (7.0, 7.0, 7.0))
    """
    if "M" in levels:
        return levels["M"], levels["M"], levels["M"]
    green = levels["G"] if "G" in levels else (levels["G1"] + levels["G2"]) / 2
    return levels["R"], green, levels["B"]


def means_of(levels: Mapping[str, Quantity]) -> ChannelMeans | None:
    """Signals by channel as means of a patch; None where a channel has none, and without colour filters."""
    if "G" in levels:
        # One green stands for both; what is known of it is known once.
        doubled = levels["G"].widened(math.sqrt(2))
        levels = {"R": levels.get("R", doubled), "G1": doubled, "G2": doubled, "B": levels.get("B", doubled)}
    found = [levels.get(channel) for channel in ("R", "G1", "G2", "B")]
    values = [q.value for q in found if q is not None and q.value is not None]
    if len(values) < len(found):
        return None
    errors = [q.se for q in found if q is not None]
    red, green, other, blue = values
    return ChannelMeans(
        (red, green, other, blue),
        (errors[0], errors[1], errors[2], errors[3]),
        sum(q.n for q in found if q is not None),
    )


def camera_to_srgb(xyz_to_camera: NDArray[np.float64] | None) -> NDArray[np.float64]:
    """White-balanced camera RGB → linear sRGB, 3×3; neutral stays neutral.

    Rows of the sRGB → camera matrix are scaled to sum to one, so that equal balanced channels give
    equal sRGB. Without a matrix the identity is returned: colours then are the camera's own.
    """
    if xyz_to_camera is None:
        return np.eye(3)
    to_camera = xyz_to_camera @ SRGB_TO_XYZ
    return np.asarray(np.linalg.inv(to_camera / to_camera.sum(axis=1, keepdims=True)))


def neutral_under(kelvin: float, xyz_to_camera: NDArray[np.float64]) -> tuple[float, float, float]:
    """What a neutral surface gives red, green and blue in light of a colour temperature, green 1.

    Up to 4000 K the light of a glowing body (lamps), above it daylight (CIE 15). The matrix is that of the file; it holds for
    the light it was made in and is an approximation elsewhere. Raises ValueError outside KELVIN_RANGE.
    ``xyz_to_camera``: shape (3, 3).
    """
    if not KELVIN_RANGE[0] <= kelvin <= KELVIN_RANGE[1]:
        raise ValueError(
            f"light can be stated from {KELVIN_RANGE[0]} K, deeper than a candle, to {KELVIN_RANGE[1]} K, bluer than any sky"
        )
    x, y = _daylight(kelvin) if kelvin >= _DAYLIGHT_FROM else _glowing(kelvin)
    response = xyz_to_camera @ np.array([x / y, 1.0, (1 - x - y) / y])
    if min(response) <= 0:
        raise ValueError(f"the file's matrix says nothing about light of {kelvin:.0f} K")
    red, green, blue = response
    return float(red / green), 1.0, float(blue / green)


def _daylight(kelvin: float) -> tuple[float, float]:
    """Chromaticity x, y of a phase of daylight, 4000 to 25 000 K (CIE 15:2018, 4.1.2; coefficients from memory)."""
    t = 1e3 / kelvin
    low = kelvin <= _DAYLIGHT_BEND
    a = (-4.6070, 2.9678, 0.09911, 0.244063) if low else (-2.0064, 1.9018, 0.24748, 0.237040)
    x = float(np.polyval(a, t))
    return x, -3.000 * x**2 + 2.870 * x - 0.275


def _glowing(kelvin: float) -> tuple[float, float]:
    """Chromaticity x, y of a black body, 1667 to 4000 K.

    Kang et al. (2002), "Design of advanced color temperature control system for HDTV applications", J. Korean Phys. Soc.
    41(6), cubic fits; coefficients from memory, checked against a reference library in tests/outside.
    """
    x = float(np.polyval((-0.2661239, -0.2343589, 0.8776956, 0.179910), 1e3 / kelvin))
    low = kelvin <= _GLOWING_BEND
    b = (
        (-1.1063814, -1.34811020, 2.18555832, -0.20219683)
        if low
        else (-0.9549476, -1.37418593, 2.09137015, -0.16748867)
    )
    return x, float(np.polyval(b, x))


def delta_e_2000(first: NDArray[np.float64], second: NDArray[np.float64]) -> NDArray[np.float64]:
    """CIEDE2000 (CIE 142) between Lab colours, shape (…, 3), either of which may be one colour for all."""
    # Imported at first use: pages that compare no colours need none of it.
    from skimage.color import deltaE_ciede2000

    return np.asarray(deltaE_ciede2000(first, second), dtype=np.float64)


def lab_of_linear_srgb(rgb: NDArray[np.float64]) -> NDArray[np.float64]:
    """CIELAB of linear sRGB against its white, D65 (CIE 15:2018, 8.2.1), shape (…, 3); negatives are kept.

    >>> lab_of_linear_srgb(np.array([0.18, 0.18, 0.18])).round(2).tolist()
    [49.5, 0.0, 0.0]
    """
    share = rgb @ SRGB_TO_XYZ.T / WHITE
    f = np.where(share > _LAB_BEND, np.cbrt(share), (_LAB_SLOPE * share + 16) / 116)
    x, y, z = np.moveaxis(f, -1, 0)
    return np.stack([116 * y - 16, 500 * (x - y), 200 * (y - z)], axis=-1)


def slopes_of_luv(share: NDArray[np.float64]) -> NDArray[np.float64]:
    """How L*, u* and v* (CIE 15:2018, 8.2.2) change with X, Y, Z of which the white has 1 each, at a colour ``share`` of shape
    (3,) with positive values: shape (3, 3), a row for each of L*, u*, v*.

    >>> slopes_of_luv(np.array([0.18, 0.18, 0.18])).round(1).tolist()
    [[0.0, 121.3, 0.0], [672.2, -552.0, -120.2], [-82.8, 367.4, -284.6]]
    """
    x, y, z = share * WHITE
    light = 116 * np.cbrt(share[1]) - 16 if share[1] > _LAB_BEND else _LAB_SLOPE * share[1]
    rise = 116 / 3 * share[1] ** (-2 / 3) if share[1] > _LAB_BEND else _LAB_SLOPE
    weights = np.array([1.0, 15.0, 3.0])
    whole = float(weights @ (x, y, z))
    grey = float(weights @ WHITE)
    slope_light = np.array([0.0, rise, 0.0])
    rows = [slope_light]
    for part, factor, at in ((x, 4, 0), (y, 9, 1)):
        own = np.zeros(3)
        own[at] = factor / whole
        slope = (own - factor * part * weights / whole**2) * WHITE
        rows.append(13 * (slope_light * (factor * part / whole - factor * WHITE[at] / grey) + light * slope))
    return np.array(rows)


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
        return missing(Missing.GREY_CHANNEL_DARK)
    matrix = camera_to_srgb(xyz_to_camera)
    value = float(_drift(first[None], second[None], second, matrix)[0])
    noise_first = rng.normal(0.0, patch.se_dn, (_DRAWS, 4))
    noise_second = rng.normal(0.0, reference.se_dn, (_DRAWS, 4))
    drawn = _drift(first + noise_first, second + noise_second, second, matrix)
    # Sampling alone: the reference colour at this patch's level with the same relative errors.
    level = second * _green(first) / _green(second)
    alone = _drift(level + noise_first, second + noise_second, second, matrix)
    return _shift(value, drawn, alone, patch.n)


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


@dataclass(frozen=True, slots=True)
class PatchColour:
    """A patch on a rung and on the reference rung: channel means in DN above black with their standard errors."""

    own: ChannelMeans
    reference: ChannelMeans


@dataclass(frozen=True, slots=True)
class ColourShifts:
    """What became of patches against the reference rung, exposure-corrected, after the reference white balance.

    ``de00``: CIEDE2000 of each patch, in the order given. ``mean_de00``: their mean.
    """

    de00: tuple[Quantity, ...]
    mean_de00: Quantity


def colour_shifts(
    patches: Sequence[PatchColour], grey: PatchColour, xyz_to_camera: NDArray[np.float64] | None,
    rng: np.random.Generator,
) -> ColourShifts:  # fmt: skip
    """How far colours moved along a ladder. ``grey``: the grey patch, whose green sets brightness, whose reference
    rung sets white balance.

    Always of mean linear values, negatives kept: the mean of pixel Labs is far off where noise is strong. Intervals
    come from ``rng`` draws of all means; a shift inside the 95 % point of sampling alone is "not distinguishable".
    ``xyz_to_camera``: shape (3, 3).
    """
    balance = np.array(grey.reference.mean_dn)
    if (balance <= 0).any() or _green(np.array(grey.own.mean_dn)) <= 0:
        nothing = missing(Missing.GREY_CHANNEL_DARK)
        return ColourShifts((nothing,) * len(patches), nothing)
    matrix = camera_to_srgb(xyz_to_camera)
    own, own_errors = _stacked([patch.own for patch in patches])
    reference, reference_errors = _stacked([patch.reference for patch in patches])
    ratio = _green(balance) / _green(np.array(grey.own.mean_dn))
    n = sum(patch.own.n for patch in patches)
    value = _lab_scaled(own, ratio, balance, matrix)
    base = _lab_scaled(reference, 1.0, balance, matrix)

    noise = rng.normal(size=(_SHIFT_DRAWS, *own.shape)) * own_errors
    other = rng.normal(size=(_SHIFT_DRAWS, *own.shape)) * reference_errors
    level = _drawn_ratio(grey, rng)[:, None, None]
    drawn = _lab_scaled(own + noise, ratio * level, balance, matrix)
    drawn_base = _lab_scaled(reference + other, 1.0, balance, matrix)
    alone = _lab_scaled(reference / ratio + noise, ratio * level, balance, matrix)
    shift, drawn_shift = delta_e_2000(base, value), delta_e_2000(drawn_base, drawn)
    alone_shift = delta_e_2000(drawn_base, alone)
    de00 = tuple(
        _shift(float(shift[k]), drawn_shift[:, k], alone_shift[:, k], patches[k].own.n) for k in range(len(patches))
    )
    every = _shift(float(shift.mean()), drawn_shift.mean(axis=1), alone_shift.mean(axis=1), n)
    return ColourShifts(de00, every)


def colours_of(
    patches: Sequence[ChannelMeans], grey: ChannelMeans, xyz_to_camera: NDArray[np.float64] | None
) -> NDArray[np.float64] | None:
    """CIELAB of patches as developed with their own grey patch at 18 % and neutral, shape (patches, 3); None where the grey has
    no signal in a channel."""
    balance = np.array(grey.mean_dn)
    if (balance <= 0).any():
        return None
    means, _ = _stacked(patches)
    return _lab_scaled(means, 1.0, balance, camera_to_srgb(xyz_to_camera))


def told_apart(lab: NDArray[np.float64], noise: Sequence[Quantity]) -> Quantity:
    """How well neighbouring colours are told apart: of each patch the distance in a*b* to the nearest other colour, over the
    noise of both along that line, d′ of detection; the median of the patches.

    ``lab``: shape (patches, 3). ``noise``: hypot(σ_a, σ_b) of each patch at the size of a coloured detail; one axis has √½ of
    it. Colours too near to each other to be a test are taken as one. Needs three colours.
    """
    found, errors = [], []
    for n, own in enumerate(noise):
        away = np.hypot(*(lab[:, 1:] - lab[n, 1:]).T)
        others = [k for k in range(len(noise)) if away[k] >= _LEAST_APART]
        if not others or not own.value:
            continue
        nearest = min(others, key=lambda k: away[k])
        other = noise[nearest]
        if not other.value:
            continue
        sigma = math.sqrt((own.value**2 + other.value**2) / 4)
        found.append(float(away[nearest]) / sigma)
        errors.append(math.hypot(own.se / own.value, other.se / other.value) / 2)
    if len(found) < _FEWEST_COLOURS:
        return unknown(*noise, otherwise=Missing.NO_COLOUR_PATCH)
    # Patches share neighbours: half of them are counted. The median of a few tells by a quarter less than their mean.
    relative = 1.25 * float(np.median(errors)) / math.sqrt(max(1.0, len(found) / 2))
    return with_relative_error(float(np.median(found)), relative, len(found))


def neutral_drift_duv(
    patch: ChannelMeans, reference: ChannelMeans, xyz_to_camera: NDArray[np.float64] | None, rng: np.random.Generator
) -> Quantity:
    """Δu′v′ (CIE 1976 uniform chromaticity) of a grey patch against the reference rung, white-balanced there.

    ``xyz_to_camera``: shape (3, 3).
    """
    first, second = np.array(patch.mean_dn), np.array(reference.mean_dn)
    if (first <= 0).any() or (second <= 0).any():
        return missing(Missing.GREY_CHANNEL_DARK)
    matrix = SRGB_TO_XYZ @ camera_to_srgb(xyz_to_camera)

    def chromaticity(channels: NDArray[np.float64]) -> NDArray[np.float64]:
        balanced = channels / second
        camera = np.stack([balanced[:, 0], (balanced[:, 1] + balanced[:, 2]) / 2, balanced[:, 3]], axis=-1)
        x, y, z = np.moveaxis(camera @ matrix.T, -1, 0)
        return np.stack([4 * x, 9 * y], axis=-1) / (x + 15 * y + 3 * z)[:, None]

    def moved(one: NDArray[np.float64], other: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.hypot(*np.moveaxis(chromaticity(one) - chromaticity(other), -1, 0))

    own_noise, noise = (rng.normal(0.0, means.se_dn, (_DRAWS, 4)) for means in (patch, reference))
    value = float(moved(first[None], second[None])[0])
    level = second * _green(first) / _green(second)
    return _shift(value, moved(first + own_noise, second + noise), moved(level + own_noise, second + noise), patch.n)


def lightness_change(patch: PatchColour, grey: PatchColour, rng: np.random.Generator) -> Quantity:
    """Change of L* of a patch against the reference rung, both brought to the same grey: how far blacks are lifted."""
    balance = np.array(grey.reference.mean_dn)
    if (balance <= 0).any() or _green(np.array(grey.own.mean_dn)) <= 0:
        return missing(Missing.GREY_CHANNEL_DARK)
    ratio = _green(balance) / _green(np.array(grey.own.mean_dn))
    own, reference = (np.array(means.mean_dn)[None] for means in (patch.own, patch.reference))
    errors = [rng.normal(0.0, means.se_dn, (_SHIFT_DRAWS, 4)) for means in (patch.own, patch.reference)]

    def lightness(channels: NDArray[np.float64], scale: NDArray[np.float64] | float) -> NDArray[np.float64]:
        return _lab_scaled(channels, scale, balance, np.eye(3))[..., 0]

    value = float(lightness(own, ratio)[0] - lightness(reference, 1.0)[0])
    level = _drawn_ratio(grey, rng)[:, None]
    drawn = lightness(own + errors[0], ratio * level) - lightness(reference + errors[1], 1.0)
    low, high = (float(q) for q in np.quantile(drawn, (0.025, 0.975)))
    return Quantity(value, min(low, value), max(high, value), patch.own.n)


def _drawn_ratio(grey: PatchColour, rng: np.random.Generator) -> NDArray[np.float64]:
    """Draws of how far the grey patch's own scatter moves the exposure correction, about 1."""
    relative = [
        math.hypot(means.se_dn[1], means.se_dn[2]) / (means.mean_dn[1] + means.mean_dn[2])
        for means in (grey.own, grey.reference)
    ]
    return 1.0 + rng.normal(0.0, math.hypot(*relative), _SHIFT_DRAWS)


def _green(channels: NDArray[np.float64]) -> float:
    return float(channels[..., 1] + channels[..., 2]) / 2


def _stacked(means: Sequence[ChannelMeans]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    return np.array([one.mean_dn for one in means]), np.array([one.se_dn for one in means])


def _lab_scaled(
    channels: NDArray[np.float64], scale: NDArray[np.float64] | float, balance: NDArray[np.float64],
    matrix: NDArray[np.float64],
) -> NDArray[np.float64]:  # fmt: skip
    """Lab of channel means brought to the reference's brightness, its grey at 18 %."""
    balanced = channels * scale / balance
    camera = np.stack([balanced[..., 0], (balanced[..., 1] + balanced[..., 2]) / 2, balanced[..., 3]], axis=-1)
    return lab_of_linear_srgb(_GREY * camera @ matrix.T)


def _shift(value: float, drawn: NDArray[np.float64], alone: NDArray[np.float64], n: int) -> Quantity:
    """A distance, which sampling alone makes positive, with its interval.

    Draws lie above the value by as much as the value itself does above the truth: the interval is turned about it.
    """
    within = float(np.quantile(alone, 0.95))
    low, high = (max(0.0, 2 * value - float(q)) for q in np.quantile(drawn, (0.975, 0.025)))
    if value <= within:
        return Quantity(value, 0.0, max(high, within), n, (Note(Remark.NOT_DISTINGUISHABLE),))
    return Quantity(value, min(low, value), max(high, value), n)
