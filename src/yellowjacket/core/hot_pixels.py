"""Hot, stuck and transient pixels, told from darks.

r is what a pixel stands above the median of its neighbours of one colour; s the spread of r over its tile. A pixel is hot
when the mean of the repeats stands over k·s, every repeat over 3.5 σ, and the repeats agree; what shows in one frame only
is a transient, as from a cosmic ray.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import median_filter

from yellowjacket.core.frames import CHANNELS, RawFrame
from yellowjacket.core.noise import robust_sigma

HOT, STUCK, TRANSIENT = "hot", "stuck", "transient"
# Bars, in spreads over the tile and in σ of one frame.
BAR_SPREADS = 8.0
_EVERY_SIGMAS, _AGREE_SIGMAS = 3.5, 5.0
_LEAST_SPREAD_DN = 0.29
_NEIGHBOURS_PX, _TILE_PX = 5, 64
_CLIPPED_SHARE = 0.99


@dataclass(frozen=True, slots=True)
class HotPixel:
    """A pixel in the full raw frame: what it stands above its neighbours (DN), how many spreads that is, its class."""

    x: int
    y: int
    channel: str
    kind: str
    excess_dn: float
    spreads: float


def hot_pixels(
    frames: Sequence[RawFrame], gain_e_per_dn: float | None, shortest: RawFrame | None = None, bar: float = BAR_SPREADS
) -> tuple[HotPixel, ...]:
    """All that stand out of two or more darks of one time. ``shortest``: a dark of the shortest time, in which only
    stuck pixels clip as well. Raises ValueError for fewer than two frames, or several sizes.
    """
    if len(frames) < 2 or len({frame.mosaic.shape for frame in frames}) != 1:
        raise ValueError("hot pixels are told from two or more darks of one size")
    found: list[HotPixel] = []
    for channel in CHANNELS:
        planes = [frame.plane(channel).astype(np.float32) for frame in frames]
        over = [plane - median_filter(plane, size=_NEIGHBOURS_PX, mode="nearest") for plane in planes]
        mean = np.mean(over, axis=0)
        spread = _spread(mean)
        sigma = robust_sigma((planes[0] - planes[1]).astype(np.float64)) / math.sqrt(2)
        least, most = np.min(over, axis=0), np.max(over, axis=0)
        standing = mean > bar * spread
        # Shot noise of the pixel's own dark signal lets its repeats differ.
        own = np.maximum(mean, 0) / gain_e_per_dn if gain_e_per_dn else 0.0
        alike = most - least < _AGREE_SIGMAS * np.sqrt(2 * (sigma**2 + own))
        every = least > _EVERY_SIGMAS * sigma
        row, column = frames[0].offsets[channel]
        clip = _CLIPPED_SHARE * (frames[0].white_dn - frames[0].black_dn[channel])
        short = None if shortest is None else shortest.plane(channel).astype(np.float32) - shortest.black_dn[channel]
        for y, x in zip(*np.nonzero(standing), strict=True):
            kind = HOT if every[y, x] and alike[y, x] else TRANSIENT
            if kind == HOT and short is not None and short[y, x] > clip:
                kind = STUCK
            found.append(
                HotPixel(
                    2 * int(x) + column, 2 * int(y) + row, channel, kind, float(mean[y, x]),
                    float(mean[y, x] / spread[y, x]),
                )
            )  # fmt: skip
    return tuple(found)


def _spread(values: NDArray[np.float32]) -> NDArray[np.float64]:
    """Robust spread of the tile a pixel lies in, never under that of rounding."""
    rows, columns = (max(1, length // _TILE_PX) for length in values.shape)
    spread = np.empty((rows, columns))
    edges = [
        np.linspace(0, length, count + 1).astype(int)
        for length, count in zip(values.shape, (rows, columns), strict=True)
    ]
    for i in range(rows):
        for j in range(columns):
            part = values[edges[0][i] : edges[0][i + 1], edges[1][j] : edges[1][j + 1]].astype(np.float64)
            # Halves of numbers are common here: told on a finer scale.
            spread[i, j] = max(robust_sigma(part * 16) / 16, _LEAST_SPREAD_DN)
    whole = np.repeat(np.repeat(spread, np.diff(edges[0]), axis=0), np.diff(edges[1]), axis=1)
    return np.asarray(whole)


def per_megapixel(found: Sequence[HotPixel], frame: RawFrame) -> float:
    """Hot and stuck pixels per million pixels of the frame."""
    width, height = frame.size
    return sum(one.kind in (HOT, STUCK) for one in found) / (width * height / 1e6)
