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
# From this variance on a normal that was given the skew stands for a binomial.
_NORMAL_FROM = 25.0
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
    rng = np.random.default_rng(seed)
    clean, target = asked.clean, asked.target
    step = layout.step
    gain, gain_out, black, black_out, tag_out, light = (
        _tiled(layout, origin, mosaic.shape, by)
        for by in (
            clean.gain_e_per_dn,
            target.gain_e_per_dn,
            clean.black_dn,
            target.black_dn,
            target.tag_dn,
            asked.light,
        )
    )
    numbers = mosaic.astype(np.float32)
    clipped = float((numbers >= _CLIPPED_SHARE * clean.clip_dn).mean())
    electrons = _thinned((numbers - black) * gain, light, rng)
    most = max(asked.light.values())
    if asked.dark_e > 0:
        electrons += rng.poisson(asked.dark_e, mosaic.shape)
    for hot in asked.hot:
        np.add.at(electrons, (hot.rows, hot.columns), rng.poisson(hot.electrons).astype(np.float32))
    share = share_of(target.correlation)
    # Of what came along, read noise is left at the share of light; a filter of the target lies over everything.
    electrons += _missing(target.pixel_noise_e, clean.pixel_noise_e * most) * rng.standard_normal(
        mosaic.shape, np.float32
    )
    rows, columns = mosaic.shape
    electrons += _missing(target.row_noise_e, clean.row_noise_e * most) * rng.standard_normal((rows, 1), np.float32)
    electrons += _missing(target.column_noise_e, clean.column_noise_e * most) * rng.standard_normal(
        (1, columns), np.float32
    )
    np.minimum(electrons, np.float32(target.saturation_e), out=electrons)
    if share:
        _smooth(electrons, np.float32(share), step)
    # Codes are counted from where the file says black is; where it really lies was added before the converter.
    signal = electrons / gain_out + (black_out - tag_out)
    coded = np.float32(target.code_step)
    signal = np.rint(np.rint(signal / coded) * coded + tag_out)
    np.clip(signal, 0, target.clip_dn, out=signal)
    return Predicted(signal.astype(np.uint16), clipped)


def _tiled(layout: Layout, origin: tuple[int, int], shape: tuple[int, ...], by: Mapping[str, float]) -> Array:
    """Numbers by channel laid over a crop."""
    side = layout.step
    tile = np.array(
        [[by[layout.at(origin[0] + x, origin[1] + y)] for x in range(side)] for y in range(side)], np.float32
    )
    rows, columns = shape[:2]
    return np.tile(tile, (-(-rows // side), -(-columns // side)))[:rows, :columns]


def _missing(wanted: float, there: float) -> np.float32:
    return np.float32(math.sqrt(max(wanted**2 - there**2, 0.0)))


def _thinned(electrons: Array, light: Array, rng: np.random.Generator) -> Array:
    """Each electron kept with a chance. Noise that took a pixel below nothing is scaled by as much; of a broken number the
    part over the whole is one more electron as often as it says."""
    if light.min() >= 1.0:
        return electrons
    found = electrons * light
    spread = found * (1 - light)
    z = rng.standard_normal(electrons.shape, np.float32)
    # A normal with the binomial's skew (Cornish and Fisher, 1937; from memory) where there are enough.
    bright = np.sqrt(np.maximum(spread, 0)) * z + (1 - 2 * light) / 6 * (z * z - 1)
    few = spread < _NORMAL_FROM
    found += np.where(few, 0, bright)
    some = few & (electrons > 0)
    whole = (electrons[some] + rng.random(int(some.sum()), np.float32)).astype(np.int64)
    found[some] = rng.binomial(whole, light[some])
    return found


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
