"""Noise as it looks in the developed picture at the size of a use: lightness, colour blotches, grain.

A patch is developed as Look develops it, interpolated between its filters, without sharpening or noise reduction; averaged
in linear light over the area of an output pixel, a fraction of raw pixels where it is one; and taken to CIELAB with negatives
kept. What differs between the two frames of a pair is noise; illumination and fixed pattern are common to both and fall out.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.colorimetry import lab_of_linear_srgb
from yellowjacket.core.image_quality.eye import visual_noise
from yellowjacket.core.limits.output_size import AT_PIXEL_LEVEL, LookedAt
from yellowjacket.core.metrology.estimate import Quantity, missing, with_error, with_relative_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.metrology.robust import without_plane
from yellowjacket.core.noise.autocorrelation import LagSums, lag_sums
from yellowjacket.core.rendering.develop import LUMINANCE, means_at

# Fewest output pixels along a side of a patch that tell noise at a size; coarser sizes go on as white noise.
_FEWEST_BLOCKS = 8
# Interpolation between filters, and a raw that was smoothed, make neighbours alike up to so many pixels away.
_ALIKE_PX = 6
# Half of the autocorrelation's height, where the width of a grain is read.
_HALF = 0.5


@dataclass(frozen=True, slots=True)
class Appearance:
    """Noise of a patch in the developed picture.

    ``luma``: σ of L*. ``chroma``: hypot(σ_a, σ_b). ``grain``: width of the noise's autocorrelation at half height in
    output pixels, 1 for white noise. ``snr``: mean over σ of the linear luminance. ``visual``: σ as the eye weighs it.
    """

    luma: Quantity
    chroma: Quantity
    grain: Quantity
    snr: Quantity
    visual: Quantity

    def remarked(self, note: Note) -> Appearance:
        """The same with a remark on all that is known of it."""
        luma, chroma, grain, snr, visual = (
            replace(q, notes=(*q.notes, note)) if q.known else q
            for q in (self.luma, self.chroma, self.grain, self.snr, self.visual)
        )
        return Appearance(luma, chroma, grain, snr, visual)


def stand_ins(picture: NDArray[np.float32]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Two pictures whose difference is to one what noise is to a pair: all that departs from a plane, fixed pattern too, a √2
    less on either side of it. ``picture``: a uniform patch in linear sRGB, shape (rows, columns, 3)."""
    own = np.moveaxis(picture.astype(np.float64), -1, 0)
    off = np.moveaxis(np.stack([without_plane(plane) for plane in own]), 0, -1)
    flat, half = picture - off, off / math.sqrt(2)
    return (flat + half).astype(np.float32), (flat - half).astype(np.float32)


def unseen(*notes: Note) -> Appearance:
    """An appearance that could not be read."""
    nothing = Quantity(None, notes=notes)
    return Appearance(nothing, nothing, nothing, nothing, nothing)


def appearance(
    one: NDArray[np.float32],
    other: NDArray[np.float32],
    px_per_output: float,
    *,
    coloured: bool,
    looked_at: LookedAt = AT_PIXEL_LEVEL,
) -> Appearance:
    """Noise of a pair at a size of ``px_per_output`` developed pixels along an output pixel's side.

    ``one``, ``other``: one patch of both frames in linear sRGB, shape (rows, columns, 3). A picture is never enlarged: below one
    pixel it is read by pixels. ``coloured``: without filters there is no noise of colour. ``looked_at``: how
    the use's output pixels are; below one pixel fewer of the picture's own fall on a degree.
    """
    side = max(1.0, px_per_output)
    most = min(one.shape[:2]) / _FEWEST_BLOCKS
    if most < 1:
        return unseen(Note(Missing.PATCH_UNDER, (_FEWEST_BLOCKS,)))
    own = replace(looked_at, pixels_per_degree=looked_at.pixels_per_degree * px_per_output / min(side, most))
    found = _at(one, other, min(side, most), coloured, own)
    if side <= most:
        return found
    white, remark = side / most, Note(Remark.AS_WHITE, (most,))
    luma, chroma = (_noted(q.scaled(1 / white), remark) for q in (found.luma, found.chroma))
    return replace(found, luma=luma, chroma=chroma, snr=_noted(found.snr.scaled(white), remark))


def _at(
    one: NDArray[np.float32], other: NDArray[np.float32], side: float, coloured: bool, looked_at: LookedAt
) -> Appearance:
    first, second = (means_at(picture, side).astype(np.float64) for picture in (one, other))
    luma, a, b = (
        without_plane(field) / math.sqrt(2)
        for field in np.moveaxis(lab_of_linear_srgb(first) - lab_of_linear_srgb(second), -1, 0)
    )
    chroma = spread_of([a, b]) if coloured else missing(Missing.NO_COLOUR_FILTERS)
    return Appearance(
        spread_of([luma]),
        chroma,
        _grain(lag_sums(luma, _ALIKE_PX)),
        _ratio(first @ LUMINANCE, second @ LUMINANCE),
        visual_noise(first, second, looked_at.pixels_per_degree, coloured=coloured and looked_at.coloured),
    )


def _ratio(first: NDArray[np.float64], second: NDArray[np.float64]) -> Quantity:
    """SNR of a luminance. Its mean is that of the patch: far surer than the noise."""
    signal = float(first.mean() + second.mean()) / 2
    noise = spread_of([without_plane(first - second) / math.sqrt(2)])
    if noise.value is None:
        return noise
    if signal <= 0:
        return missing(Missing.NO_SIGNAL)
    return with_relative_error(signal / noise.value, noise.se / noise.value, noise.n)


def spread_of(parts: Sequence[NDArray[np.float64]]) -> Quantity:
    """Root of the summed variances of noise fields of one shape, their planes taken off: σ, or hypot(σ_a, σ_b)."""
    power = np.sum([part * part for part in parts], axis=0)
    return _root(power, lag_sums(parts[0], _ALIKE_PX))


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
    middle = _ALIKE_PX
    for course, taken in ((lags.correlation[0, middle:], lags.per_row), (lags.correlation[:, middle], lags.per_column)):
        # What went with the means of rows and columns is given back.
        steps = [1.0, *(float(rho) + taken for rho in course[1:])]
        widths.append(_width(steps))
    if None in widths:
        return missing(Missing.GRAIN_TOO_WIDE, 2 * _ALIKE_PX)
    width = sum(w or 0.0 for w in widths) / 2
    # d width / d ρ₁ = width² near white noise; two directions are averaged.
    return with_error(width, width * width / math.sqrt(2 * lags.n), lags.n)


def _width(course: list[float]) -> float | None:
    for n in range(1, len(course)):
        if course[n] < _HALF:
            return 2 * (n - 1 + (course[n - 1] - _HALF) / (course[n - 1] - course[n]))
    return None


def _noted(quantity: Quantity, remark: Note) -> Quantity:
    return Quantity(quantity.value, quantity.low, quantity.high, quantity.n, quantity.notes or (remark,))
