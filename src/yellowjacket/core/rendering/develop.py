"""Neutral development for looking: white balance, matrix, display curve. No sharpening, no noise reduction.

Two developers fill in the colours that a site has not measured. On 2×2 tiles *plain* takes the mean of the nearest sites of
that colour; *gradient* corrects it by how the measured colour bends there (Malvar, He and Cutler, ICASSP 2004; coefficients
from memory). On larger tiles both go by normalised convolution, see ``demosaic_any``. Measured sites stay as
they are. The choice is the tester's: it changes how noise and detail look.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.colorimetry import camera_to_srgb, rgb_of
from yellowjacket.core.exposure.srgb import linear_of_srgb
from yellowjacket.core.raw.frame import BAYER, Layout, cells_of
from yellowjacket.core.raw.rect import Rect

PLAIN, GRADIENT = "plain", "gradient"
DEVELOPERS = (PLAIN, GRADIENT)
# Luminance of linear sRGB (IEC 61966-2-1; from memory), for uses in black and white.
LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)
# Below this the curve of sRGB is a straight line (IEC 61966-2-1; from memory).
_LINEAR_BELOW = 0.0031308
# Steps in which the code of a value is looked up: finer than the codes over most of the range.
_ENCODING_STEPS = 4096
# Pixels read around a crop so that its rim is interpolated from real neighbours.
_RIM_PX, _WIDE_RIM_PX = 2, 6
# So much of an area may be missing at the rim for it to count as whole: what floating point leaves of a fraction.
_WHOLE = 1e-6
# Development brings the grey patch here: 18 % of display white.
GREY_TARGET = 0.18


@dataclass(frozen=True, slots=True, eq=False)
class Development:
    """How a frame is developed.

    ``layout``: which channel each pixel belongs to. ``black_dn``: by channel. ``gains``: factors for R, G, B that bring DN
    above black to linear display values (white balance and exposure in one). ``xyz_to_camera``: 3×3 or None. ``developer``:
    one of DEVELOPERS. ``monochrome``: shown as its luminance. ``shift_px``: (x, y) by which the picture is moved, which
    interpolates.
    """

    layout: Layout
    black_dn: dict[str, float]
    gains: tuple[float, float, float]
    xyz_to_camera: NDArray[np.float64] | None
    developer: str = PLAIN
    monochrome: bool = False
    shift_px: tuple[float, float] = (0.0, 0.0)


def gains_from_grey(grey_dn: dict[str, float]) -> tuple[float, float, float]:
    """Gains for R, G, B that put a grey patch of these channel means (DN above black) on GREY_TARGET.

    Raises ValueError when a channel has no signal.
    """
    means = rgb_of(grey_dn)
    if min(means) <= 0:
        raise ValueError("the grey patch has no signal above black in every channel")
    return tuple(GREY_TARGET / mean for mean in means)  # type: ignore[return-value]


def develop_crop(mosaic: NDArray[np.uint16], rect: Rect, how: Development) -> NDArray[np.uint8]:
    """The crop ``rect`` of a mosaic as display sRGB, shape (h, w, 3). One image pixel per sensor pixel.

    Raises ValueError when the crop lies outside the mosaic.
    """
    return display_encoded(developed_crop(mosaic, rect, how))


def developed_crop(mosaic: NDArray[np.uint16], rect: Rect, how: Development) -> NDArray[np.float32]:
    """The crop in linear sRGB, shape (h, w, 3), nothing clipped: what a converter holds before its display curve.

    Raises ValueError when the crop lies outside the mosaic.
    """
    return _in_display_colours(interpolated_crop(mosaic, rect, how), how)


def _in_display_colours(linear: NDArray[np.float32], how: Development) -> NDArray[np.float32]:
    """Balanced camera RGB as linear sRGB, or as its luminance three times. Without filters there are no colours to turn."""
    if not how.layout.coloured:
        return linear
    shown = linear @ camera_to_srgb(how.xyz_to_camera).T.astype(np.float32)
    if how.monochrome:
        shown = np.repeat((shown @ LUMINANCE)[..., None], 3, axis=-1)
    return np.asarray(shown, np.float32)


def develop_at_use(mosaic: NDArray[np.uint16], rect: Rect, how: Development, factor: float) -> NDArray[np.uint8]:
    """The crop as it is at a use's size: averaged over ``factor`` × ``factor`` sensor pixels in linear light, then encoded.

    Shape (h/factor, w/factor, 3), rounded, at least one pixel each way; a factor of 1 and less leaves every pixel.
    Raises ValueError when the crop lies outside the mosaic.
    """
    if factor <= 1:
        return develop_crop(mosaic, rect, how)
    linear = interpolated_crop(mosaic, rect, how)
    small = averaged(linear, factor)
    return display_encoded(_in_display_colours(small, how))


def mean_light(mosaic: NDArray[np.uint16], rect: Rect, how: Development, factor: float) -> float:
    """How bright a crop is as it is shown at a use's size: the mean of its light as a share of display white, clipped there.

    Raises ValueError when the crop lies outside the mosaic.
    """
    return float(linear_of_srgb(develop_at_use(mosaic, rect, how, factor) / 255).mean())


def averaged(linear: NDArray[np.float32], factor: float) -> NDArray[np.float32]:
    """Area averages to be shown, shape (h/factor, w/factor, 3), rounded, at least one each way: the areas fill the picture, and
    so are ``factor`` pixels a side but for what rounding takes."""
    rows, columns = (max(1, round(side / factor)) for side in linear.shape[:2])
    return _area_means(linear, linear.shape[0] / rows, linear.shape[1] / columns, (rows, columns))


def means_at(linear: NDArray[np.float32], factor: float) -> NDArray[np.float32]:
    """Area averages to be measured: exactly ``factor`` × ``factor`` pixels each, as many as are whole, from the upper left.

    Shape (height, width, 3) in, (height // factor, width // factor, 3) out.
    """
    rows, columns = (int(side / factor + _WHOLE) for side in linear.shape[:2])
    return _area_means(linear, factor, factor, (rows, columns))


def _area_means(linear: NDArray[np.float32], tall: float, wide: float, shape: tuple[int, int]) -> NDArray[np.float32]:
    from yellowjacket.core.rendering.demosaic import area_means

    result = np.empty((*shape, 3), np.float32)
    area_means(np.ascontiguousarray(linear, np.float32), tall, wide, result)
    return result


def interpolated_crop(mosaic: NDArray[np.uint16], rect: Rect, how: Development) -> NDArray[np.float32]:
    """The crop as balanced linear camera RGB, negatives kept, shape (h, w, 3).

    Raises ValueError when the crop lies outside the mosaic.
    """
    height, width = mosaic.shape[0], mosaic.shape[1] // how.layout.samples
    if not rect.fits(width, height):
        raise ValueError(f"crop {rect} lies outside the frame of {width} × {height} px")
    rim = (_RIM_PX if how.layout.step <= 2 else _WIDE_RIM_PX) + math.ceil(
        max(abs(how.shift_px[0]), abs(how.shift_px[1]))
    )
    top, left = max(0, rect.y - rim), max(0, rect.x - rim)
    samples = how.layout.samples
    area = np.ascontiguousarray(mosaic[top : rect.y + rect.h + rim, samples * left : samples * (rect.x + rect.w + rim)])
    linear = _interpolated(area, (top, left), how)
    if how.shift_px != (0.0, 0.0):
        from scipy.ndimage import shift

        linear = shift(linear, (how.shift_px[1], how.shift_px[0], 0), order=1, mode="nearest")
    return linear[rect.y - top : rect.y - top + rect.h, rect.x - left : rect.x - left + rect.w]


def develop_reduced(mosaic: NDArray[np.uint16], step: int, how: Development) -> NDArray[np.uint8]:
    """The whole frame averaged ``step`` cells of the layout to a pixel, as display sRGB.

    Shape (height, width) in, (height // cell // step, width // cell // step, 3) out.
    """
    means = {
        name: _averaged(cells_of(mosaic, how.layout, name), step) - how.black_dn[name] for name in how.layout.channels
    }
    return develop_means(means, how)


def develop_means(means: Mapping[str, NDArray[np.float64]], how: Development) -> NDArray[np.uint8]:
    """Levels of channels, DN above black, each of shape (rows, columns), as display sRGB of shape (rows, columns, 3)."""
    linear = np.stack(rgb_of(means), axis=-1) * np.array(how.gains)
    return display_encoded(_in_display_colours(linear.astype(np.float32), how))


def _averaged(plane: NDArray[Any], step: int) -> NDArray[np.float64]:
    rows, columns = plane.shape[0] // step, plane.shape[1] // step
    blocks = plane[: rows * step, : columns * step].reshape(rows, step, columns, step)
    return np.asarray(blocks.mean(axis=(1, 3), dtype=np.float64))


def _interpolated(area: NDArray[np.uint16], origin: tuple[int, int], how: Development) -> NDArray[np.float32]:
    """White-balanced linear RGB of every site, shape (h, w, 3). ``origin``: row and column of the area in the frame."""
    from yellowjacket.core.rendering.demosaic import balanced, filled_in
    from yellowjacket.core.rendering.demosaic_any import any_tile, balanced_tile

    layout = how.layout
    gains = np.array(how.gains, np.float32)
    if layout.demosaiced:
        black = np.array([how.black_dn[name] for name in layout.channels], np.float32)
        return (area.reshape(area.shape[0], -1, layout.samples).astype(np.float32) - black) * gains
    rows, columns = len(layout.tile), len(layout.tile[0])
    tile = [[layout.at(origin[1] + x, origin[0] + y) for x in range(columns)] for y in range(rows)]
    black = np.array([[how.black_dn[name] for name in row] for row in tile], np.float32)
    if not layout.coloured:
        # One gain: white balance is nothing to a sensor that sees no colours.
        grey = (area.astype(np.float32) - black[0, 0]) * gains[1]
        return np.repeat(grey[..., None], 3, axis=-1)
    colours = np.array([["RGB".index(name[0]) for name in row] for row in tile], np.int64)
    if layout.name == BAYER:
        padded = np.empty((area.shape[0] + 4, area.shape[1] + 4), np.float32)
        balanced(area, black, gains[colours], padded)
        result = np.empty((*area.shape, 3), np.float32)
        filled_in(padded, colours, how.developer == GRADIENT, result)
        return result
    values = np.empty(area.shape, np.float32)
    balanced_tile(area, black, gains[colours], values)
    return any_tile(values, colours, by_green=how.developer == GRADIENT)


def display_encoded(linear: NDArray[np.floating]) -> NDArray[np.uint8]:
    """Linear values to 8-bit sRGB (IEC 61966-2-1; from memory), clipped to the display's range."""
    from yellowjacket.core.rendering.demosaic import encoded

    result = np.empty(linear.shape, np.uint8)
    encoded(np.ascontiguousarray(linear).reshape(-1), _BORDERS, _GUESS, result.reshape(-1))
    return result


def _encoding() -> tuple[NDArray[np.float64], NDArray[np.uint8]]:
    """For every code the value at which the next one begins, and a code to begin the search from."""
    borders = linear_of_srgb((np.arange(256) + 0.5) / 255)
    starts = np.arange(_ENCODING_STEPS) / _ENCODING_STEPS
    return borders, np.searchsorted(borders, starts, side="right").astype(np.uint8)


_BORDERS, _GUESS = _encoding()
