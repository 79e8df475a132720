"""Rendered pictures (JPEG, PNG, TIFF): their noise in display units only, CIELAB of the sRGB values.

A converter has been over them: sharpening, noise reduction, a curve. They are never mixed with raw readings.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.colorimetry import lab_of_linear_srgb
from yellowjacket.core.exposure.srgb import linear_of_srgb
from yellowjacket.core.image_quality.visual_noise import spread_of
from yellowjacket.core.metrology.document import Document, quantity
from yellowjacket.core.metrology.estimate import Quantity, missing, with_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.metrology.robust import without_plane
from yellowjacket.core.raw.frame import FrameError, sha256_of
from yellowjacket.core.raw.picture_file import Picture, read_rendered
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import LUMINANCE, averaged, display_encoded

_PROPOSED, _TILE_PX = 12, 32
_LEAST_SIDE_PX = 16
# L* between which a picture neither clips nor drowns.
_DARKEST, _LIGHTEST = 5.0, 95.0

_LINEAR = linear_of_srgb(np.arange(256) / 255).astype(np.float32)


@dataclass(frozen=True, slots=True)
class RenderedTask:
    """A rendered picture to measure, the one that pairs with it (or none), and patches by name (or none)."""

    path: str
    partner: str | None
    patches: tuple[tuple[str, Rect], ...]


def lab_of(picture: Picture) -> NDArray[np.float64]:
    """CIELAB (D65) of sRGB values (IEC 61966-2-1; from memory), shape (height, width, 3)."""
    return lab_of_linear_srgb(linear_of(picture).astype(np.float64))


def linear_of(picture: Picture) -> NDArray[np.float32]:
    """Linear sRGB, 0–1, of encoded values (IEC 61966-2-1; from memory), same shape."""
    return _LINEAR[picture]


def averaged_rendered(picture: Picture, factor: float, *, monochrome: bool = False, gain: float = 1.0) -> Picture:
    """A rendered picture averaged over ``factor`` × ``factor`` of its pixels in linear light; 1 and less leave it as it is.

    ``monochrome``: as its luminance, three times; ``gain``: brighter by so much, in linear light.
    Shape (height, width, 3).
    """
    if factor <= 1 and not monochrome and gain == 1:
        return picture
    linear = linear_of(picture)
    if factor > 1:
        linear = averaged(linear, factor)
    if gain != 1:
        linear = linear * np.float32(gain)
    if monochrome:
        linear = np.repeat((linear @ LUMINANCE)[..., None], 3, axis=-1)
    return display_encoded(linear)


def measure_rendered(task: RenderedTask) -> Document:
    """Mean colour and noise of the patches of one picture. Raises FrameError for files that cannot be used."""
    path = Path(task.path)
    picture = read_rendered(path)
    other = _partner(task, picture)
    height, width = picture.shape[:2]
    patches = task.patches or proposed(picture)
    return {
        "file": task.path, "sha256": sha256_of(path), "width": width, "height": height,
        "paired_with": task.partner if other is not None else None,
        "patches": [_patch(picture, other, name, rect) for name, rect in patches],
    }  # fmt: skip


def _partner(task: RenderedTask, picture: Picture) -> Picture | None:
    if task.partner is None:
        return None
    try:
        other = read_rendered(Path(task.partner))
    except FrameError:
        return None
    return None if other.shape != picture.shape or np.array_equal(other, picture) else other


def proposed(picture: Picture) -> tuple[tuple[str, Rect], ...]:
    """The most even places, told by the means of their quarters, so that the choice does not see single pixels.

    Shape (height, width, 3).
    """
    half = _TILE_PX // 2
    rows, columns = picture.shape[0] // _TILE_PX, picture.shape[1] // _TILE_PX
    if rows * columns == 0:
        return ()
    quarters = np.empty((rows, 2, columns, 2))
    for row in range(rows):
        band = picture[row * _TILE_PX : (row + 1) * _TILE_PX, : columns * _TILE_PX].mean(axis=2)
        quarters[row] = band.reshape(2, half, columns, 2, half).mean(axis=(1, 4))
    level = quarters.mean(axis=(1, 3))
    uneven = np.ptp(quarters.transpose(0, 2, 1, 3).reshape(rows, columns, 4), axis=2)
    uneven[(level < 20) | (level > 240)] = np.inf
    order = np.argsort(uneven, axis=None)[:_PROPOSED]
    places = [np.unravel_index(n, uneven.shape) for n in order if np.isfinite(uneven.flat[n])]
    return tuple(
        (f"even {n}", Rect(int(column) * _TILE_PX, int(row) * _TILE_PX, _TILE_PX, _TILE_PX))
        for n, (row, column) in enumerate(places, start=1)
    )


def _patch(picture: Picture, other: Picture | None, name: str, rect: Rect) -> Document:
    document: Document = {"name": name, "x": rect.x, "y": rect.y, "w": rect.w, "h": rect.h}
    height, width = picture.shape[:2]
    fields = ("lightness", "a", "b", "noise_luma", "noise_chroma")
    if not rect.fits(width, height) or min(rect.w, rect.h) < _LEAST_SIDE_PX:
        why = missing(Missing.PATCH_OUTSIDE_PICTURE, name, width, height, _LEAST_SIDE_PX)
        return document | {field: quantity(why) for field in fields}
    cut = np.s_[rect.y : rect.y + rect.h, rect.x : rect.x + rect.w]
    lab = lab_of(picture[cut])
    means = [_mean(lab[..., n]) for n in range(3)]
    luma, chroma = noise_in_display_units(lab, None if other is None else lab_of(other[cut]))
    return document | dict(zip(fields, map(quantity, (*means, luma, chroma)), strict=True))


def _mean(values: NDArray[np.float64]) -> Quantity:
    return with_error(float(values.mean()), float(values.std()) / math.sqrt(values.size), values.size)


def noise_in_display_units(lab: NDArray[np.float64], other: NDArray[np.float64] | None) -> tuple[Quantity, Quantity]:
    """σ of L* and hypot(σ_a, σ_b) of an even patch in CIELAB, shape (h, w, 3); ``other``: the same of a second picture.

    Of one picture alone it is "at least". Unknown with a reason where the patch is black or burnt.
    """
    lightness = float(lab[..., 0].mean())
    if not _DARKEST <= lightness <= _LIGHTEST:
        nothing = missing(Missing.TOO_DARK if lightness < _DARKEST else Missing.TOO_LIGHT)
        return nothing, nothing
    difference = lab[:, 1:] - lab[:, :-1] if other is None else lab - other
    parts: Sequence[NDArray[np.float64]] = [without_plane(difference[..., n]) / math.sqrt(2) for n in range(3)]
    found = spread_of(parts[0:1]), spread_of(parts[1:3])
    if other is None:
        return _alone(found[0]), _alone(found[1])
    return found


def _alone(found: Quantity) -> Quantity:
    return (
        found if found.value is None else Quantity(found.value, found.low, None, found.n, (Note(Remark.ONE_PICTURE),))
    )
