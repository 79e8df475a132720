"""Pictures that a tester finished elsewhere: which frame each came from, where it lies, and what the finish did.

Everything is in display units (CIELAB of sRGB); it is never mixed with raw readings.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from yellowjacket.core.colour.colorimetry import delta_e_2000
from yellowjacket.core.metrology.estimate import Z95, Quantity, first_notes, missing, unknown, with_error
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.registration.similarity import Grey, NoMatch, Similarity, found, scaled_to, shift_between
from yellowjacket.core.rendering.develop import LUMINANCE
from yellowjacket.core.renditions.picture import Picture, lab_of, linear_of, noise_in_display_units

# Rows that are turned into numbers at a time.
_BAND_PX = 256
# Length of the longer side at which pictures are laid on one another.
_PLACED_AT_PX = 900
# So much smaller at most is a picture whose rim was cut off; halves that agree so well (px) tell the right scale.
_RIM_SHARE, _STEADY_PX = 0.05, 0.4
# A noise pattern is recognised when it stands so far above chance, and above the next best.
_SIGMAS, _CLEAR_OF_NEXT = 6.0, 1.4
# Finer than this (σ in px) is detail; what is coarser gives the contrast of the tone curve.
_DETAIL_PX = 1.5
_FEWEST_DETAIL_PX = 400


@dataclass(frozen=True, slots=True)
class Effect:
    """What a finish did to one frame. Noise as mean over patches in L* and ΔE of a*b*, as is and finished; ``colour_de00``:
    mean shift of the patches at equal lightness; ``detail_kept``: share of the texture's contrast that is left."""

    luma_as_is: Quantity
    luma: Quantity
    chroma_as_is: Quantity
    chroma: Quantity
    colour_de00: Quantity
    detail_kept: Quantity


@dataclass(frozen=True, slots=True, eq=False)
class Cuts:
    """One patch of a rung: cut from its frames as is, and from the finished pictures, one or two each, of one shape."""

    as_is: Sequence[Picture]
    finished: Sequence[Picture]


def named_after(file_name: str, stems: Mapping[str, int]) -> int | None:
    """The frame whose name (without suffix) stands in a file's name; the longest wins, several equally long are none."""
    name = file_name.rsplit(".", 1)[0].lower()
    hits = []
    for stem, key in stems.items():
        if re.search(rf"(?<![a-z0-9]){re.escape(stem.lower())}(?![a-z0-9])", name):
            hits.append((len(stem), key))
    longest = max((length for length, _ in hits), default=0)
    keys = {key for length, key in hits if length == longest}
    return keys.pop() if len(keys) == 1 else None


def same_noise(picture: Grey, frames: Mapping[int, Grey]) -> int | None:
    """The frame whose own noise is in a picture. All grey, of one shape and laid on one another; frames of one scene.

    None where no noise stands out: denoised too much, or none of them.
    """
    if len(frames) < 2:
        return None
    logs = {key: np.log(np.maximum(frame, 1e-3 * max(float(frame.mean()), 1e-9))) for key, frame in frames.items()}
    scene = np.mean(list(logs.values()), axis=0)
    target = np.log(np.maximum(picture, 1e-3 * max(float(picture.mean()), 1e-9)))
    # A tone curve is taken off as a smooth function of the scene's brightness.
    curve = np.polynomial.Polynomial.fit(scene.ravel(), target.ravel(), 5)
    left = _fine(target - curve(scene))
    scores = {}
    for key, log in logs.items():
        others = (scene * len(logs) - log) / (len(logs) - 1)
        own = _fine(log - others)
        spread = float(left.std() * own.std())
        scores[key] = float((left * own).mean()) / spread if spread > 0 else 0.0
    ranked = sorted(scores, key=scores.__getitem__, reverse=True)
    best, next_best = scores[ranked[0]], max(scores[ranked[1]], 0.0)
    if best * math.sqrt(picture.size) < _SIGMAS or best < _CLEAR_OF_NEXT * next_best:
        return None
    return ranked[0]


def _fine(values: NDArray[np.floating]) -> NDArray[np.float64]:
    from scipy.ndimage import gaussian_filter

    return np.asarray(values - gaussian_filter(values, 2.0), np.float64)


def luminance_of(picture: Picture) -> Grey:
    """Linear luminance of an sRGB picture, 0–1."""
    height, width = picture.shape[:2]
    found: Grey = np.empty((height, width), np.float32)
    # A band at a time: three planes of numbers for the whole of a large picture take as much memory as two frames.
    for top in range(0, height, _BAND_PX):
        found[top : top + _BAND_PX] = linear_of(picture[top : top + _BAND_PX]) @ LUMINANCE
    return found


def upright(picture: Picture, size: tuple[int, int]) -> list[Picture]:
    """The picture as it lies, or both ways it can be turned when it stands where the frame lies (width, height).

    Shape (height, width, 3).
    """
    stands = (picture.shape[0] > picture.shape[1]) != (size[1] > size[0])
    return [np.rot90(picture, 1), np.rot90(picture, 3)] if stands else [picture]


def placed(frame: Grey, frame_size: tuple[int, int], picture: Picture) -> Similarity:
    """Where a picture lies on the frame it came from: from raw pixels to its own, by shift, else by matched points.

    ``frame``: the frame in grey at any reduction; ``frame_size``: its width and height in raw pixels. Raises NoMatch.
    Shapes (height, width, 3).
    """
    height, width = picture.shape[:2]
    tries = [scaled_to(frame_size, (width, height))]
    # A converter that cuts the rim off leaves the scale as it was.
    if 0 < abs(tries[0].scale - 1) < _RIM_SHARE:
        tries.append(Similarity(1.0, 0.0, (width - frame_size[0]) / 2, (height - frame_size[1]) / 2))
    scale = _PLACED_AT_PX / max(frame_size)
    raw = _resized(frame, (round(frame_size[0] * scale), round(frame_size[1] * scale)))
    luminance = luminance_of(picture)
    for whole in tries:
        step = whole.scale / scale
        seen = _resized(luminance, (round(width / step), round(height / step)))
        shift = _steady_shift(raw, seen)
        if shift is not None and whole.scale == 1.0:
            # At equal scale a converter cuts whole pixels off, or none.
            return Similarity(
                1.0, 0.0, float(round(whole.x0 - shift[0] * step)), float(round(whole.y0 - shift[1] * step))
            )
        if shift is not None:
            return Similarity(whole.a, 0.0, whole.x0 - shift[0] * step, whole.y0 - shift[1] * step)
    step = tries[0].scale / scale
    seen = _resized(luminance, (round(width / step), round(height / step)))
    return found(raw, seen, 1 / scale, step)


def _steady_shift(raw: Grey, seen: Grey) -> tuple[float, float] | None:
    """By how much the middle of a picture lies off, where its left and right half say the same: else the scale is wrong."""
    rows, columns = min(raw.shape[0], seen.shape[0]), min(raw.shape[1], seen.shape[1])
    one, other = (np.sqrt(np.maximum(_middle(grey, rows, columns), 0)) for grey in (raw, seen))
    half = columns // 2
    try:
        left = shift_between(one[:, :half], other[:, :half])
        right = shift_between(one[:, half : 2 * half], other[:, half : 2 * half])
    except NoMatch:
        return None
    if max(abs(left[0] - right[0]), abs(left[1] - right[1])) > _STEADY_PX:
        return None
    return (left[0] + right[0]) / 2, (left[1] + right[1]) / 2


def _resized(grey: Grey, size: tuple[int, int]) -> Grey:
    return np.asarray(Image.fromarray(np.ascontiguousarray(grey)).resize(size, Image.Resampling.BOX), np.float32)


def _middle(grey: Grey, rows: int, columns: int) -> Grey:
    top, left = (grey.shape[0] - rows) // 2, (grey.shape[1] - columns) // 2
    return grey[top : top + rows, left : left + columns]


def cut_like(picture: Picture, place: Similarity, rect: Rect) -> NDArray[np.uint8] | None:
    """The part of a picture that shows ``rect`` of the frame, on the frame's own pixels; None where it lies outside.

    Whole shifts at equal scale are cut; anything else is interpolated.
    Shape (height, width, 3).
    """
    height, width = picture.shape[:2]
    left, top = place.at((rect.x, rect.y))
    if math.isclose(place.a, 1.0, abs_tol=1e-6) and abs(place.b) < 1e-6:
        x, y = round(left), round(top)
        if abs(left - x) < 0.1 and abs(top - y) < 0.1:
            own = Rect(x, y, rect.w, rect.h)
            return np.ascontiguousarray(picture[y : y + rect.h, x : x + rect.w]) if own.fits(width, height) else None
    rows, columns = np.mgrid[rect.y : rect.y + rect.h, rect.x : rect.x + rect.w] + 0.5
    xs = place.a * columns - place.b * rows + place.x0 - 0.5
    ys = place.b * columns + place.a * rows + place.y0 - 0.5
    if xs.min() < -0.5 or ys.min() < -0.5 or xs.max() > width - 0.5 or ys.max() > height - 0.5:
        return None
    from scipy.ndimage import map_coordinates

    planes = [map_coordinates(picture[..., n], (ys, xs), np.float32, order=1, mode="nearest") for n in range(3)]
    return np.asarray(np.rint(np.stack(planes, axis=-1)), np.uint8)


def effect_of(uniform: Sequence[Cuts], texture: Cuts | None, clean: Picture | None) -> Effect:
    """What a finish did to a rung. ``uniform``: even patches, for noise and colour; ``texture``: for detail, held against
    ``clean``, the same patch on the cleanest rung as is."""
    luma_as_is, chroma_as_is = _noise([cuts.as_is for cuts in uniform])
    luma, chroma = _noise([cuts.finished for cuts in uniform])
    return Effect(luma_as_is, luma, chroma_as_is, chroma, _colour(uniform), _detail(texture, clean))


def _noise(patches: Sequence[Sequence[Picture]]) -> tuple[Quantity, Quantity]:
    found = []
    for pictures in patches:
        labs = [lab_of(picture) for picture in pictures[:2]]
        found.append(noise_in_display_units(labs[0], labs[1] if len(labs) > 1 else None))
    return _mean([luma for luma, _ in found]), _mean([chroma for _, chroma in found])


def _mean(parts: Sequence[Quantity]) -> Quantity:
    known = [part.value for part in parts if part.value is not None]
    if not known:
        return unknown(*parts, otherwise=Missing.NO_UNIFORM_PATCH)
    notes = first_notes([part for part in parts if part.known])
    if len(known) == 1:
        return Quantity(known[0], known[0], known[0], 1, notes)
    error = float(np.std(known, ddof=1)) / math.sqrt(len(known))
    return with_error(float(np.mean(known)), error, len(known), *notes)


def _colour(uniform: Sequence[Cuts]) -> Quantity:
    if not uniform:
        return missing(Missing.NO_UNIFORM_PATCH)
    before, after = (
        np.array([lab_of(pictures[0]).mean(axis=(0, 1)) for pictures in side])
        for side in ([cuts.as_is for cuts in uniform], [cuts.finished for cuts in uniform])
    )
    after[:, 0] = before[:, 0]
    shifts = delta_e_2000(before, after)
    return with_error(float(shifts.mean()), float(np.std(shifts)) / math.sqrt(len(shifts)), len(shifts))


def _detail(texture: Cuts | None, clean: Picture | None) -> Quantity:
    from scipy.ndimage import gaussian_filter

    if texture is None or clean is None:
        return missing(Missing.NO_TEXTURE_ON_PICTURES)
    if clean.shape[0] * clean.shape[1] < _FEWEST_DETAIL_PX:
        return missing(Missing.TEXTURE_TOO_SMALL)
    reference = lab_of(clean)[..., 0]
    coarse = gaussian_filter(reference, _DETAIL_PX)
    fine_slopes, errors, coarse_slopes = [], [], []
    for picture in (texture.as_is[0], texture.finished[0]):
        own = lab_of(picture)[..., 0]
        smooth = gaussian_filter(own, _DETAIL_PX)
        slope, error = _slope(reference - coarse, own - smooth)
        fine_slopes.append(slope)
        errors.append(error)
        coarse_slopes.append(_slope(coarse, smooth)[0])
    if min(*coarse_slopes, fine_slopes[0]) <= 0 or fine_slopes[0] < 2 * errors[0]:
        return missing(Missing.TEXTURE_DROWNED)
    # The tone curve's own contrast is taken out by what it does to coarse structure.
    kept = (fine_slopes[1] / coarse_slopes[1]) / (fine_slopes[0] / coarse_slopes[0])
    relative = math.hypot(errors[0] / fine_slopes[0], errors[1] / max(fine_slopes[1], 1e-6))
    spread = Z95 * relative * abs(kept)
    return Quantity(kept, kept - spread, kept + spread, reference.size)


def _slope(reference: NDArray[np.float64], values: NDArray[np.float64]) -> tuple[float, float]:
    one, other = reference - reference.mean(), values - values.mean()
    square = float((one**2).sum())
    if square <= 0:
        return 0.0, math.inf
    slope = float((one * other).sum()) / square
    left = other - slope * one
    return slope, math.sqrt(float((left**2).mean()) / square)
