"""The predicted picture of a frame that is shown small: one draw for each point of the picture instead of one for each pixel.

A sum of thinned counts is a thinned sum, and a sum of normal noise is normal, so that what lies behind a point is drawn at
once. Whole tiles stand behind every point: their number differs by one from point to point, which moves edges by less than
a tile. What is not linear is done to the means: ends of the range, which a point that is clipped in part does not show, and
codes, whose rounding is noise like any other (σ² of a twelfth of a step).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.prediction.predicted_mosaic import Asked, noise_to_add, predicted
from yellowjacket.core.prediction.sensor_at import SensorAt
from yellowjacket.core.raw.frame import BAYER, Layout

# Tiles behind a point, along each side: of fewer, one more or less would be seen as a pattern.
_FEWEST_TILES = 8
# Of so few electrons (variance) a normal is not yet what thinning leaves.
_NORMAL_FROM = 30.0
# The lower end of the range must be so far below black (σ of a pixel) that no noise reaches it.
_CLEAR_OF_ZERO = 4.0

# What interpolation carries over each edge of a point: so many pixels' worth of a colour that every fourth site measures, and
# of one that every other does. Points that do not end on a pixel share it: a sixth of it on average is the neighbour's.
_CARRIED_PX, _CARRIED_GREEN_PX, _SHARED_PX = 0.25, 0.125, 1 / 6

Means = dict[str, NDArray[np.float64]]


@dataclass(frozen=True, slots=True)
class Blocks:
    """The tiles behind each point: numbers summed by site of the tile, float64 of shape (sites, rows, columns), and the block
    of each row and column of tiles."""

    sums: NDArray[np.float64]
    row_of: NDArray[np.int64]
    column_of: NDArray[np.int64]
    step: int

    @property
    def tall(self) -> NDArray[np.int64]:
        """Rows of tiles of each row of points, shape (rows, 1)."""
        return np.bincount(self.row_of)[:, None]

    @property
    def wide(self) -> NDArray[np.int64]:
        """Columns of tiles of each column of points, shape (columns,)."""
        return np.bincount(self.column_of)


def is_small_enough(asked: Asked, layout: Layout, factor: float) -> bool:
    """Whether ``factor`` pixels to the side of a point are many enough, and the noise lies inside of the range."""
    # Codes are counted from where the file says black is.
    black_dn = min(asked.target.black_dn.values())
    sigma_dn = asked.target.read_noise_e / min(asked.target.gain_e_per_dn.values())
    enough = factor >= _FEWEST_TILES * layout.step
    return enough and not (layout.demosaiced or layout.rendered) and black_dn > _CLEAR_OF_ZERO * sigma_dn


def blocks_of(mosaic: NDArray[np.uint16], layout: Layout, shape: tuple[int, int]) -> Blocks:
    """Of a crop that begins on a tile, as many rows and columns of points as ``shape`` says; what is left of a tile at the end
    is left out."""
    from yellowjacket.core.raw.counting import sum_blocks

    step = layout.step
    of = [_points_of(side // step, points) for side, points in zip(mosaic.shape, shape, strict=True)]
    sums = np.zeros((step * step, *shape), np.uint64)
    whole = mosaic[: of[0].size * step, : of[1].size * step]
    sum_blocks(whole, of[0], of[1], sums)
    return Blocks(sums.astype(np.float64), of[0], of[1], step)


def _points_of(tiles: int, points: int) -> NDArray[np.int64]:
    """The point that the middle of each tile lies in, along one side."""
    return ((np.arange(tiles) + 0.5) * points / tiles).astype(np.int64)


def predicted_means(blocks: Blocks, layout: Layout, asked: Asked, seed: int) -> Means:
    """Levels of the target's channels over its black as files tell it, DN, of shape (rows, columns); the same seed is the same
    picture."""
    rng = np.random.default_rng(seed)
    clean, target, step = asked.clean, asked.target, blocks.step
    read, row, column = noise_to_add(asked)
    shape = blocks.sums.shape[1:]
    # A row of the sensor is the same for all points along it, whatever their colour.
    rows = row * np.sqrt(blocks.tall) * rng.standard_normal((step, shape[0], 1))
    columns = column * np.sqrt(blocks.wide) * rng.standard_normal((step, 1, shape[1]))
    found = {}
    for channel in layout.channels:
        places = [site.row * step + site.column for site in layout.sites(channel)]
        pixels = len(places) * blocks.tall * blocks.wide
        gain, gain_out = clean.gain_e_per_dn[channel], target.gain_e_per_dn[channel]
        there = (blocks.sums[places].sum(axis=0) - pixels * clean.black_dn[channel]) * gain
        electrons = _thinned(there, asked.light[channel], rng) + rng.poisson(asked.dark_e * pixels)
        rounding = target.code_step * gain_out / math.sqrt(12)
        electrons += math.hypot(read, rounding) * np.sqrt(pixels) * rng.standard_normal(shape)
        for place in places:
            electrons += rows[place // step] * blocks.wide + columns[place % step] * blocks.tall
        electrons += _hot(blocks, asked, places, rng)
        signal = np.minimum(electrons / pixels, target.saturation_e) / gain_out
        over = target.black_dn[channel] - target.tag_dn[channel]
        found[channel] = np.minimum(signal + over, target.clip_dn - target.tag_dn[channel])
    return found


def as_interpolated(means: Means, layout: Layout, factor: float) -> Means:
    """The same as if every pixel had been interpolated before they were averaged ``factor`` to a side: neighbours share some of
    what lies behind a point, and so noise is a little less."""
    # Large packages are loaded at first use: a start does without them.
    from scipy.ndimage import convolve1d

    shared = 0.0 if factor == round(factor) else _SHARED_PX
    found = {}
    for channel, level in means.items():
        carried = (_CARRIED_GREEN_PX if channel in layout.greens else _CARRIED_PX) if layout.coloured else 0.0
        share = (carried + shared) / factor
        kernel = [share, 1 - 2 * share, share]
        found[channel] = convolve1d(convolve1d(level, kernel, axis=0, mode="nearest"), kernel, axis=1, mode="nearest")
    return found


def be_ready() -> None:
    """Predict a picture of a few pixels both ways, which loads what was compiled: that takes longer than a page of pictures."""
    layout = Layout(BAYER, (("R", "G1"), ("G2", "B")))
    one, mosaic = dict.fromkeys(layout.channels, 1.0), np.ones((4, 4), np.uint16)
    at = SensorAt(100, one, one, one, clip_dn=100.0, saturation_e=99.0, read_noise_e=1.0)
    asked = Asked(at, at, dict.fromkeys(one, 0.5))
    predicted(mosaic, (0, 0), layout, asked, 1)
    as_interpolated(predicted_means(blocks_of(mosaic, layout, (2, 2)), layout, asked, 1), layout, 2.0)


def _thinned(there: NDArray[np.float64], light: float, rng: np.random.Generator) -> NDArray[np.float64]:
    """What is left of so many electrons when each is kept with the chance ``light``; less than none is scaled."""
    spread = np.maximum(there, 0.0) * light * (1 - light)
    left = there * light + np.sqrt(spread) * rng.standard_normal(there.shape)
    few = (spread > 0) & (spread < _NORMAL_FROM)
    left[few] = rng.binomial(np.rint(there[few]).astype(np.int64), light)
    return left


def _hot(blocks: Blocks, asked: Asked, places: list[int], rng: np.random.Generator) -> NDArray[np.float64]:
    """Electrons of hot pixels behind each point, of the sites of one channel; none gathers more than it can hold."""
    found = np.zeros(blocks.sums.shape[1:])
    for hot in asked.hot:
        tiles = hot.rows // blocks.step, hot.columns // blocks.step
        own = np.isin(hot.rows % blocks.step * blocks.step + hot.columns % blocks.step, places)
        own &= (tiles[0] < blocks.row_of.size) & (tiles[1] < blocks.column_of.size)
        gathered = np.minimum(rng.poisson(hot.electrons[own]), asked.target.saturation_e)
        np.add.at(found, (blocks.row_of[tiles[0][own]], blocks.column_of[tiles[1][own]]), gathered)
    return found
