"""Noise as it looks in the developed picture at the size of a use: lightness, colour blotches, grain.

A patch is developed linearly, one RGB per cell of the mosaic, without sharpening or noise reduction, averaged down to the use's
size, and taken to CIELAB (colour-science) with negatives kept. What differs between the two frames of a pair is noise;
illumination and fixed pattern are common to both and fall out.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.colorimetry import lab_of_linear_srgb, rgb_of
from yellowjacket.core.metrology.estimate import Quantity, missing, with_error, with_relative_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.metrology.robust import without_plane
from yellowjacket.core.noise.autocorrelation import LAGS, LagSums, lag_sums

# Fewest output pixels along a side of a patch that tell noise at a size; coarser sizes go on as white noise.
_FEWEST_BLOCKS = 8
# Half of the autocorrelation's height, where the width of a grain is read.
_HALF = 0.5

Cells = Mapping[str, NDArray[Any]]


@dataclass(frozen=True, slots=True)
class Appearance:
    """Noise of a patch in the developed picture.

    ``luma``: σ of L*. ``chroma``: hypot(σ_a, σ_b). ``grain``: width of the noise's autocorrelation at half height in
    output pixels, 1 for white noise.
    """

    luma: Quantity
    chroma: Quantity
    grain: Quantity


def unseen(*notes: Note) -> Appearance:
    """An appearance that could not be read."""
    nothing = Quantity(None, notes=notes)
    return Appearance(nothing, nothing, nothing)


@dataclass(frozen=True, slots=True, eq=False)
class Rendering:
    """How a patch is developed: black by channel in DN, gains for R, G, B (linear display values per DN above black),
    and the 3 × 3 matrix from balanced camera RGB to linear sRGB."""

    black_dn: Mapping[str, float]
    gains: tuple[float, float, float]
    matrix: NDArray[np.float64]


def appearance(a: Cells, b: Cells, how: Rendering, cells_per_output: float) -> Appearance:
    """Noise of a pair at a size of ``cells_per_output`` cells of the mosaic along an output pixel's side.

    ``a``, ``b``: channels of one patch on the grid of cells, in DN, one shape. Areas are averaged at whole factors only; between
    two of them σ is interpolated in the logarithms. A picture is never enlarged: below one cell it is read by cells.
    """
    side = max(1.0, cells_per_output)
    one, other = (_linear(planes, how) for planes in (a, b))
    most = min(one.shape[:2]) // _FEWEST_BLOCKS
    if most < 1:
        return unseen(Note(Missing.PATCH_UNDER, (2 * _FEWEST_BLOCKS,)))
    lower = min(int(side), most)
    coloured = len(a) > 1
    finer = _at(one, other, lower, coloured)
    if side > most:
        white, remark = lower / side, Note(Remark.AS_WHITE, (lower,))
        luma, chroma = (_noted(q.scaled(white), remark) for q in (finer.luma, finer.chroma))
        return Appearance(luma, chroma, finer.grain)
    if side == lower or lower == most:
        return finer
    coarser = _at(one, other, lower + 1, coloured)
    share = math.log(side / lower) / math.log((lower + 1) / lower)
    nearest = finer if share < _HALF else coarser
    return Appearance(
        _between(finer.luma, coarser.luma, share), _between(finer.chroma, coarser.chroma, share), nearest.grain
    )


def excess_over_white(lags: LagSums, raw_px_per_output: float, pitch: int = 2) -> float:
    """By how much noise averaged to a use's size exceeds what white noise of the same σ would leave; 1 for white.

    ``lags``: correlations within one channel, whose pixels lie ``pitch`` raw pixels apart. The noise power below the output's
    Nyquist frequency, as an area average takes it: Σ (1 − |dx|/m)(1 − |dy|/m) ρ(dx, dy), m channel pixels a side.
    """
    side = max(1.0, raw_px_per_output / pitch)
    total = 0.0
    for down in range(LAGS + 1):
        for across in range(-LAGS, LAGS + 1):
            weight = max(0.0, 1 - down / side) * max(0.0, 1 - abs(across) / side)
            mirrored = 1 if down == 0 else 2
            total += mirrored * weight * float(lags.correlation[down, across + LAGS])
            if down == 0 and across < 0:
                # Of the row of the pixel itself only the right half was summed.
                total += weight * float(lags.correlation[0, LAGS - across])
    return math.sqrt(max(total, 1e-6))


def _linear(planes: Cells, how: Rendering) -> NDArray[np.float64]:
    """Linear sRGB of every cell, shape (rows, columns, 3), negatives kept."""
    values = {name: plane.astype(np.float64) - how.black_dn[name] for name, plane in planes.items()}
    camera = np.stack(rgb_of(values), axis=-1)
    return np.asarray((camera * np.array(how.gains)) @ how.matrix.T)


def _at(one: NDArray[np.float64], other: NDArray[np.float64], block: int, coloured: bool) -> Appearance:
    first, second = (lab_of_linear_srgb(_averaged(picture, block)) for picture in (one, other))
    luma, a, b = (without_plane((first - second)[..., n]) / math.sqrt(2) for n in range(3))
    chroma = spread_of([a, b]) if coloured else missing(Missing.NO_COLOUR_FILTERS)
    return Appearance(spread_of([luma]), chroma, _grain(lag_sums(luma)))


def spread_of(parts: Sequence[NDArray[np.float64]]) -> Quantity:
    """Root of the summed variances of noise fields of one shape, their planes taken off: σ, or hypot(σ_a, σ_b)."""
    power = np.sum([part * part for part in parts], axis=0)
    return _root(power, lag_sums(parts[0]))


def _averaged(picture: NDArray[np.float64], block: int) -> NDArray[np.float64]:
    if block == 1:
        return picture
    rows, columns = (length // block for length in picture.shape[:2])
    blocks = picture[: rows * block, : columns * block].reshape(rows, block, columns, block, 3)
    return np.asarray(blocks.mean(axis=(1, 3)))


def _root(power: NDArray[np.float64], lags: LagSums) -> Quantity:
    """Root of the mean of a squared noise, its error from the scatter of the squares themselves."""
    n = power.size
    value = float(power.sum()) / (n - 3)
    if value <= 0:
        return missing(Missing.CONSTANT_FRAMES)
    # Neighbours that vary together are fewer than they seem: Σρ² over the lags seen.
    together = 2 * float(np.sum(lags.correlation**2)) - 1
    alike = max(1.0, together - 2 * lags.correlation.size / n)
    se = float(power.std()) / math.sqrt(n) * math.sqrt(alike)
    return with_relative_error(math.sqrt(value), se / (2 * value), n)


def _grain(lags: LagSums) -> Quantity:
    """Full width at half height of the autocorrelation, along rows and columns, their mean."""
    widths = []
    for course, taken in ((lags.correlation[0, LAGS:], lags.per_row), (lags.correlation[:, LAGS], lags.per_column)):
        # What went with the means of rows and columns is given back.
        steps = [1.0, *(float(rho) + taken for rho in course[1:])]
        widths.append(_width(steps))
    if None in widths:
        return missing(Missing.GRAIN_TOO_WIDE, 2 * LAGS)
    width = sum(w or 0.0 for w in widths) / 2
    # d width / d ρ₁ = width² near white noise; two directions are averaged.
    return with_error(width, width * width / math.sqrt(2 * lags.n), lags.n)


def _width(course: list[float]) -> float | None:
    for n in range(1, len(course)):
        if course[n] < _HALF:
            return 2 * (n - 1 + (course[n - 1] - _HALF) / (course[n - 1] - course[n]))
    return None


def _between(finer: Quantity, coarser: Quantity, share: float) -> Quantity:
    if not finer.value or not coarser.value:
        return finer
    value = finer.value ** (1 - share) * coarser.value**share
    relative = (1 - share) * finer.se / finer.value + share * coarser.se / coarser.value
    return with_relative_error(value, relative, coarser.n)


def _noted(quantity: Quantity, remark: Note) -> Quantity:
    return Quantity(quantity.value, quantity.low, quantity.high, quantity.n, quantity.notes or (remark,))
