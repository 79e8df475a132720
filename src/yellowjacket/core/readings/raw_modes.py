"""A reduced raw mode against the full one scaled down to the same pixels: noise and detail side by side.

Both are developed linearly to one RGB a pixel of the reduced mode's picture. The full frame is scaled two ways, because
the scaler can be the difference: by area averages, and by Lanczos windows (Pillow) after interpolating its colours.

A mode whose colours are interpolated at its own size is blurred by that, and blur lowers the noise of a pixel without any
more light. So noise is compared at equal sharpness as well: by its power below a frequency that both pass whole, tile by tile
of the same scene. Beside it stands how sharp edges are: the contrast that is left of the scene's at a quarter cycle a pixel,
told from what both frames of a pair have in common, so that noise does not pass for sharpness.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from yellowjacket.core.colour.colorimetry import lab_of_linear_srgb
from yellowjacket.core.image_quality.texture import finest_detail
from yellowjacket.core.image_quality.visual_noise import spread_of
from yellowjacket.core.metrology.estimate import Quantity, missing, with_error, with_relative_error
from yellowjacket.core.metrology.measurands import Measurand, Reading
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.metrology.robust import without_plane
from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.output_size import rendering_of
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.rendering.develop import developed_crop

# Channel names under which the three pictures are kept.
OWN, AREA, LANCZOS = "own", "area", "lanc"
SAME = (
    Measurand.SAME_EQUAL, Measurand.SAME_EDGE, Measurand.SAME_LUMA, Measurand.SAME_CHROMA, Measurand.SAME_DETAIL,
)  # fmt: skip
_WORDS = {
    OWN: "the reduced mode itself", AREA: "the full mode, averaged down", LANCZOS: "the full mode, by Lanczos windows",
}  # fmt: skip
# Tiles of the reduced picture over which power is told, how many at most, and the frequency (cycles a pixel) up to which
# interpolation passes what is there.
_TILE_PX, _MOST_TILES, _COMMON_CYCLES = 64, 96, 0.07
_FEWEST_TILES = 6
# Frequencies, cycles a pixel, at which the contrast of edges is read, and σ by which a tile must stand out of noise there.
_EDGE_CYCLES, _EDGE_SIGMAS = (0.2, 0.3), 5.0
# Terms of a spectrum under a Hann window that go together, along one direction: n Σw⁴ / (Σw²)².
_HANN_TERMS = (35 / 128) / (3 / 8) ** 2
# What interpolation may take or leave below that frequency.
_TRANSFER = 0.01
_LUMA = np.array([0.2126, 0.7152, 0.0722])
_SEEN, _TEXTURE = ("grey", "shadow"), "texture"

Linear = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class SamePixelsTask:
    """A pair of the full mode and one of the reduced mode of one body, ISO and light, and patches in full-mode pixels.

    ``picture_height``: of the body's full picture, for line pairs.
    """

    key: int
    full: tuple[str, str]
    reduced: tuple[str, str]
    patches: tuple[PatchSpec, ...]
    picture_height: int


def same_pixels(task: SamePixelsTask) -> tuple[Reading, ...]:
    """Noise of the grey and shadow patch and detail of the texture, three times. Raises FrameError."""
    full, reduced = ([read_frame(Path(name)) for name in names] for names in (task.full, task.reduced))
    grey = next((patch for patch in task.patches if patch.role == "grey"), None)
    if grey is None:
        return ()
    factor = full[0].size[0] / reduced[0].size[0]
    readings: list[Reading] = list(_equal(full, reduced, grey, factor))
    for patch in task.patches:
        if patch.role not in (*_SEEN, _TEXTURE):
            continue
        for name, pair in _pictures(full, reduced, patch, grey, factor):
            if patch.role == _TEXTURE:
                readings.append(_detail(patch, name, pair, task.picture_height / factor))
            else:
                readings += _noise(patch, name, pair)
    return tuple(readings)


def _pictures(
    full: Sequence[RawFrame], reduced: Sequence[RawFrame], patch: PatchSpec, grey: PatchSpec, factor: float
) -> Iterator[tuple[str, tuple[Linear, Linear] | None]]:
    """The patch of both frames of a pair, linear sRGB: of the reduced mode, and of the full one scaled two ways."""
    small = _developed(reduced, patch, grey, factor)
    large = _developed(full, patch, grey, 1.0)
    yield OWN, small
    if large is None:
        yield AREA, None
        yield LANCZOS, None
        return
    height, width = (round(side / factor) for side in large[0].shape[:2])
    yield AREA, (_area(large[0], width, height), _area(large[1], width, height))
    yield LANCZOS, (_lanczos(large[0], width, height), _lanczos(large[1], width, height))


def _equal(full: Sequence[RawFrame], reduced: Sequence[RawFrame], grey: PatchSpec, factor: float) -> Iterator[Reading]:
    """Noise of the modes below the common frequency, per pixel of the reduced picture, as light relative to grey, and the
    contrast of edges against the full frame averaged down.

    Paired tile by tile: what the scene does is the same for both, and the scatter of the ratio is its error.
    """
    noise: list[tuple[float, float]] = []
    edges: list[list[float]] = []
    n = 0
    for rect in _tiles(reduced[0].size, factor):
        tile = PatchSpec("", "", rect)
        small, large = _developed(reduced, tile, grey, factor), _developed(full, tile, grey, 1.0)
        if small is None or large is None:
            continue
        height, width = small[0].shape[:2]
        area, lanczos = ([scale(picture, width, height) for picture in large] for scale in (_area, _lanczos))
        own, averaged = (_low_power((one[0] - one[1]) @ _LUMA / math.sqrt(2)) for one in (small, area))
        if own > 0 and averaged > 0:
            noise.append((own, averaged))
            n += height * width
        (ours, _), (its, clear), (theirs, _) = (edge_power(picture) for picture in (small, area, lanczos))
        if clear:
            edges.append([ours, its, theirs])
    yield from _noise_at_equal_sharpness(noise, n)
    powers = np.array(edges).reshape(-1, 3)
    for name, values in ((OWN, powers[:, 0]), (AREA, powers[:, 1]), (LANCZOS, powers[:, 2])):
        how = f"contrast of the scene at {_EDGE_CYCLES[0]:g} to {_EDGE_CYCLES[1]:g} cycles a pixel, {_WORDS[name]}"
        yield Reading(None, name, Measurand.SAME_EDGE, contrast_kept(values, powers[:, 1]), how)


def _noise_at_equal_sharpness(powers: Sequence[tuple[float, float]], n: int) -> Iterator[Reading]:
    how = f"noise power below {_COMMON_CYCLES:g} cycles a pixel, both modes on the same tiles of the scene"
    if len(powers) < _FEWEST_TILES:
        for name in (OWN, AREA):
            yield Reading(None, name, Measurand.SAME_EQUAL, missing(Missing.NO_COMMON_TILES), how)
        return
    logs = np.log(np.array(powers)) / 2
    apart = logs[:, 0] - logs[:, 1]
    # Half of the ratio's variance to each, so that their ratio has the error that was seen.
    error = math.hypot(float(np.std(apart, ddof=1)) / math.sqrt(len(powers)), _TRANSFER) / math.sqrt(2)
    level = float(np.exp(logs[:, 1].mean()))
    for name, value in ((OWN, level * math.exp(float(apart.mean()))), (AREA, level)):
        yield Reading(None, name, Measurand.SAME_EQUAL, with_relative_error(value, max(error, 1e-6), n), how)


def contrast_kept(own: Linear, reference: Linear) -> Quantity:
    """Contrast of edges against that of a reference: root of the ratio of `edge_power`, summed over the same tiles.

    ``own``, ``reference``: (tiles,). Interval: jackknife over tiles; missing where there are too few.
    """
    tiles = len(reference)
    if tiles < _FEWEST_TILES:
        return missing(Missing.NO_EDGES)
    its, ours = float(reference.sum()), float(own.sum())
    if ours <= 0:
        return missing(Missing.NO_EDGES)
    value = math.sqrt(ours / its)
    without = np.sqrt(np.maximum(ours - own, 0.0) / (its - reference))
    error = math.sqrt((tiles - 1) / tiles * float(((without - without.mean()) ** 2).sum()))
    return with_error(value, error, tiles)


def edge_power(pair: Sequence[Linear]) -> tuple[float, bool]:
    """Power density of luma that both frames have in common where edges are sharp or soft, and whether it is clear of noise.

    ``pair``: two pictures (height, width, 3) of one scene, linear. Noise leaves nothing on average.
    """
    one, other = (_spectrum(picture @ _LUMA) for picture in pair)
    frequency = _frequency(pair[0].shape[:2])
    ring = (frequency >= _EDGE_CYCLES[0]) & (frequency <= _EDGE_CYCLES[1])
    common = float((one * other.conj()).real[ring].mean())
    noise = float((np.abs(one - other) ** 2)[ring].mean()) / 2
    chance = noise * _HANN_TERMS / math.sqrt(2 * int(ring.sum()))
    return common, common > _EDGE_SIGMAS * chance


def _spectrum(field: Linear) -> NDArray[np.complex128]:
    """Under a Hann window, scaled so that the squares are power densities: of white noise, its variance."""
    window = np.hanning(field.shape[0])[:, None] * np.hanning(field.shape[1])[None, :]
    return np.fft.rfft2(without_plane(field) * window) / math.sqrt(float((window**2).sum()))


def _frequency(shape: tuple[int, ...]) -> Linear:
    """Of every term of `_spectrum`, cycles a pixel."""
    return np.hypot(np.fft.fftfreq(shape[0])[:, None], np.fft.rfftfreq(shape[1])[None, :])


def _tiles(size: tuple[int, int], factor: float) -> list[Rect]:
    """Squares over the whole picture, in full-mode pixels, evenly spread where there are too many."""
    side = _TILE_PX
    places = [
        (x, y) for y in range(side, size[1] - 2 * side + 1, side) for x in range(side, size[0] - 2 * side + 1, side)
    ]
    step = max(1, math.ceil(len(places) / _MOST_TILES))
    return [Rect(*(round(part * factor / 2) * 2 for part in (x, y, side, side))) for x, y in places[::step]]


def _low_power(noise: Linear) -> float:
    """Mean power density of a noise field below the common frequency; that of white noise is its variance."""
    frequency = _frequency(noise.shape)
    # The lowest lines hold what the light did between the frames.
    ring = (frequency > 2 / min(noise.shape)) & (frequency <= _COMMON_CYCLES)
    return float((np.abs(_spectrum(noise)) ** 2)[ring].mean())


def _developed(
    frames: Sequence[RawFrame], patch: PatchSpec, grey: PatchSpec, factor: float
) -> tuple[Linear, Linear] | None:
    """Both frames of a pair, the mode's own grey patch at 18 % and neutral."""
    place, card = (_shrunk(one, factor) for one in (patch, grey))
    levels = {c: float(card.rect.cells(frames[0], c).mean()) - frames[0].black_dn[c] for c in frames[0].channels}
    how = rendering_of(frames[0], frames[0].black_dn, levels)
    if how is None:
        return None
    one, other = (developed_crop(frame.mosaic, place.rect, how).astype(np.float64) for frame in frames[:2])
    return one, other


def _shrunk(patch: PatchSpec, factor: float) -> PatchSpec:
    rect = patch.rect
    parts = [round(side / factor / 2) * 2 for side in (rect.x, rect.y, rect.w, rect.h)]
    return replace(patch, rect=type(rect)(*parts))


def _area(picture: Linear, width: int, height: int) -> Linear:
    return _resampled(picture, width, height, Image.Resampling.BOX)


def _lanczos(picture: Linear, width: int, height: int) -> Linear:
    return _resampled(picture, width, height, Image.Resampling.LANCZOS)


def _resampled(picture: Linear, width: int, height: int, how: Image.Resampling) -> Linear:
    """Each colour by itself in floating point, so that nothing is rounded or cut."""
    planes = [
        np.asarray(Image.fromarray(picture[..., n].astype(np.float32)).resize((width, height), how), dtype=np.float64)
        for n in range(3)
    ]
    return np.stack(planes, axis=-1)


def _noise(patch: PatchSpec, name: str, pair: tuple[Linear, Linear] | None) -> list[Reading]:
    how = f"two frames developed to CIELAB, {_WORDS[name]}"
    if pair is None:
        nothing = missing(Missing.GREY_DARK_SETS_BALANCE)
        return [
            Reading(patch.name, name, quantity, nothing, how)
            for quantity in (Measurand.SAME_LUMA, Measurand.SAME_CHROMA)
        ]
    first, second = (lab_of_linear_srgb(picture) for picture in pair)
    parts = [without_plane((first - second)[..., n]) / math.sqrt(2) for n in range(3)]
    return [
        Reading(patch.name, name, Measurand.SAME_LUMA, spread_of(parts[:1]), how),
        Reading(patch.name, name, Measurand.SAME_CHROMA, spread_of(parts[1:]), how),
    ]


def _detail(patch: PatchSpec, name: str, pair: tuple[Linear, Linear] | None, rows: float) -> Reading:
    """``rows``: pixels along the height of the whole picture at this size."""
    how = f"coherence of two frames of the texture, {_WORDS[name]}"
    if pair is None:
        return Reading(patch.name, name, Measurand.SAME_DETAIL, missing(Missing.GREY_DARK), how)
    found = finest_detail([(pair[0] @ _LUMA, pair[1] @ _LUMA)], [0.0])
    return Reading(patch.name, name, Measurand.SAME_DETAIL, found.scaled(rows), how)
