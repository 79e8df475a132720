"""The mosaic of a scene as another setting, body or time would have given it, from one clean frame of it.

Light is taken away by thinning, which leaves the rest Poisson (thinning of a Poisson process; general literature); what is
missing of the target's noise is added; then the target's end of range and codes.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.notes import Missing, Note
from yellowjacket.core.noise.smoothing import share_of
from yellowjacket.core.prediction.sensor_at import NoPicture, Sensor, SensorAt
from yellowjacket.core.raw.frame import Layout

# Below this a change of light is none.
_NO_CHANGE_STOPS = 0.05
# The clean frame may have so much more read noise than the target (share of σ) before the picture would be too noisy.
_TOO_NOISY = 1.03
# Dark electrons a pixel up to which they are scattered one by one.
_FEW_DARK_E = 0.3
_CLIPPED_SHARE = 0.98

Array = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class HotPixels:
    """Pixels that gather more than others in the dark: places in the crop and e⁻ by the end of the exposure."""

    rows: NDArray[np.int64]
    columns: NDArray[np.int64]
    electrons: NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Asked:
    """What the picture is to be. ``light``: of the clean frame's electrons that are left, by channel. ``dark_e``: mean dark
    signal; ``hot``: pixels over it."""

    clean: SensorAt
    target: SensorAt
    light: Mapping[str, float]
    dark_e: float = 0.0
    hot: Sequence[HotPixels] = field(default_factory=tuple)


@dataclass(frozen=True, slots=True)
class Predicted:
    """``mosaic``: uint16 DN of the target, shape as the crop. ``clipped``: share of the crop that the clean frame cannot tell
    the light of."""

    mosaic: NDArray[np.uint16]
    clipped: float


def asked_for(
    own: Sensor, clean: SensorAt, target_of: Sensor, iso: float, stops_less: float = 0.0, dark_e: float = 0.0,
    grey_e: float | None = None,
) -> Asked:  # fmt: skip
    """A frame that ``own`` took at the setting ``clean``, as ``target_of`` would at ``iso`` with so many stops less than correct.
    ``grey_e``: electrons of grey in the frame; None: it is correctly exposed.

    Raises NoPicture where the body was not measured there, where more light would be needed than the clean frame has, and
    where that has more read noise than the target.
    """
    target = target_of.at(iso)
    whole = target_of.grey_e(iso) / (grey_e or own.grey_e(clean.exact_iso)) * 2.0**-stops_less
    light = {}
    for channel in clean.gain_e_per_dn:
        if channel not in target.gain_e_per_dn:
            raise NoPicture(Note(Missing.OTHER_LAYOUT))
        here, there = own.response.get(channel), target_of.response.get(channel)
        light[channel] = whole * (there / here if here and there else 1.0)
    most = max(light.values())
    if math.log2(most) > _NO_CHANGE_STOPS:
        raise NoPicture(Note(Missing.MORE_LIGHT_THAN_CLEAN, (math.log2(most),)))
    light = {channel: min(one, 1.0) for channel, one in light.items()}
    if clean.pixel_noise_e * min(most, 1.0) > _TOO_NOISY * target.pixel_noise_e:
        raise NoPicture(Note(Missing.CLEANER_THAN_CLEAN))
    return Asked(clean, target, light, dark_e)


def predicted(
    mosaic: NDArray[np.uint16], origin: tuple[int, int], layout: Layout, asked: Asked, seed: int
) -> Predicted:
    """The crop ``mosaic`` (shape (rows, columns), its first pixel at ``origin`` (x, y) of the layout) as asked; the same seed is
    the same picture.

    Raises NoPicture for samples that were demosaiced or rendered: their pixels have no noise of their own.
    """
    if layout.demosaiced or layout.rendered or mosaic.ndim != 2:
        raise NoPicture(Note(Missing.NOT_A_MOSAIC))
    # Compiled code is loaded at first use: a start does without it.
    from yellowjacket.core.prediction.exposing import encode, expose

    rng = np.random.default_rng(seed)
    clean, target = asked.clean, asked.target
    black, gain, light, gain_out, told, over = (
        _tile(layout, origin, by)
        for by in (
            clean.black_dn, clean.gain_e_per_dn, asked.light, target.gain_e_per_dn, target.tag_dn,
            {channel: black - target.tag_dn[channel] for channel, black in target.black_dn.items()},
        )
    )  # fmt: skip
    clipped = float((mosaic >= _CLIPPED_SHARE * clean.clip_dn).mean())
    read, row, column = noise_to_add(asked)
    lines = [
        np.asarray(sigma * rng.standard_normal(count), np.float32)
        for sigma, count in ((row, mosaic.shape[0]), (column, mosaic.shape[1]))
    ]
    electrons = np.empty(mosaic.shape, np.float32)
    shares, which = np.unique(light, return_inverse=True)
    expose(
        mosaic, np.stack([black, gain]), shares, which.reshape(light.shape), read, lines[0], lines[1], rng, electrons
    )
    _add_dark(electrons, asked.dark_e, rng)
    for hot in asked.hot:
        np.add.at(electrons, (hot.rows, hot.columns), rng.poisson(hot.electrons).astype(np.float32))
    share = share_of(target.correlation)
    if share:
        np.minimum(electrons, np.float32(target.saturation_e), out=electrons)
        _smooth(electrons, np.float32(share), layout.step)
    codes = np.empty(mosaic.shape, np.uint16)
    encode(
        electrons, np.stack([gain_out, told, over]), target.saturation_e, target.code_step, target.clip_dn, codes
    )  # fmt: skip
    return Predicted(codes, clipped)


def _tile(layout: Layout, origin: tuple[int, int], by: Mapping[str, float]) -> Array:
    """Numbers by channel on the layout's tile, as it lies at the corner of a crop."""
    side = layout.step
    return np.array(
        [[by[layout.at(origin[0] + x, origin[1] + y)] for x in range(side)] for y in range(side)], np.float32
    )


def noise_to_add(asked: Asked) -> tuple[float, float, float]:
    """σ in e⁻ of what the target has of pixel, row and column noise beyond what came along with the clean frame, of which the
    share of light is left; a filter of the target lies over everything."""
    clean, target, most = asked.clean, asked.target, max(asked.light.values())
    read, row, column = (
        math.sqrt(max(wanted**2 - (there * most) ** 2, 0.0))
        for wanted, there in (
            (target.pixel_noise_e, clean.pixel_noise_e),
            (target.row_noise_e, clean.row_noise_e),
            (target.column_noise_e, clean.column_noise_e),
        )
    )
    return read, row, column


def _add_dark(electrons: Array, mean_e: float, rng: np.random.Generator) -> None:
    """Add a Poisson count of ``mean_e`` to every pixel, in place."""
    if mean_e > _FEW_DARK_E:
        electrons += rng.poisson(mean_e, electrons.shape)
    elif mean_e > 0:
        # All of them together are a Poisson count too, each in any pixel.
        count = rng.poisson(mean_e * electrons.size)
        np.add.at(electrons.reshape(-1), rng.integers(0, electrons.size, count), np.float32(1))


def _smooth(signal: Array, share: np.float32, side: int) -> None:
    """Every site of the tile through [s, 1 − 2s, s] along rows and columns, in place; edges repeat."""
    for row in range(side):
        for column in range(side):
            plane = signal[row::side, column::side]
            for _ in range(2):
                # Along rows, then along columns.
                padded = np.pad(plane, ((1, 1), (0, 0)), mode="edge")
                plane = ((1 - 2 * share) * plane + share * (padded[:-2] + padded[2:])).T
            signal[row::side, column::side] = plane
