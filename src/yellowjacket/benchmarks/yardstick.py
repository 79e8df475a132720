"""What measuring a pair gives, written plainly with NumPy and SciPy and without care for time or memory.

The benchmark's yardstick, and its oracle: the fast way must give the same numbers.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import optimize, signal

from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.raw.rect import Rect

_TILE_PX, _FIXED_PX = 8, 16
_NEIGHBOURS, _FULL_ENOUGH = 8, 12


@dataclass(frozen=True, slots=True, eq=False)
class PlainPatch:
    """Signal above black and temporal noise of one channel of a patch, DN, and correlations up to two pixels away."""

    signal_dn: float
    noise_dn: float
    correlation: NDArray[np.float64]
    fixed_dn2: float


@dataclass(frozen=True, slots=True, eq=False)
class PlainChannel:
    """One channel: its patches, the photon-transfer line, and whole-frame counts."""

    patches: tuple[PlainPatch, ...]
    gain_e_per_dn: float
    read_noise_dn: float
    empty_codes: int
    top_code: int
    tile_means: NDArray[np.float64]
    tile_noise: NDArray[np.float64]


def measure_plainly(first: RawFrame, second: RawFrame, patches: Sequence[Rect]) -> dict[str, PlainChannel]:
    """Patches, fit, codes and tiles of a pair by channel, over every pixel of the frames."""
    return {channel: _channel(first, second, patches, channel) for channel in first.channels}


def _channel(first: RawFrame, second: RawFrame, patches: Sequence[Rect], channel: str) -> PlainChannel:
    black = first.black_dn[channel]
    a, b = (frame.cells(channel).astype(np.float64) - black for frame in (first, second))
    found = tuple(_patch(_cut(a, rect), _cut(b, rect)) for rect in patches)
    signals = np.array([patch.signal_dn for patch in found])
    variances = np.array([patch.noise_dn**2 for patch in found])
    line = optimize.curve_fit(
        lambda s, r2, slope: r2 + slope * s, signals, variances, p0=(1.0, 0.5), sigma=np.maximum(variances, 1e-6)
    )[0]
    codes = np.concatenate([(plane + black).astype(np.int64).ravel() for plane in (a, b)])
    values, counts = np.unique(codes, return_counts=True)
    histogram = dict(zip(values.tolist(), counts.tolist(), strict=True))
    empty = 0
    for code in range(1, int(values[-1])):
        if code in histogram:
            continue
        sides = [[histogram.get(code + sign * n, 0) for n in range(1, _NEIGHBOURS + 1)] for sign in (-1, 1)]
        empty += min(np.mean(side) for side in sides) >= _FULL_ENOUGH
    means, noise = _tiles(a, b)
    return PlainChannel(
        found, float(1 / line[1]), math.sqrt(max(line[0], 0.0)), int(empty), int(values[-1]), means, noise
    )


def _cut(plane: NDArray[np.float64], rect: Rect) -> NDArray[np.float64]:
    return plane[rect.y // 2 : (rect.y + rect.h) // 2, rect.x // 2 : (rect.x + rect.w) // 2]


def _patch(a: NDArray[np.float64], b: NDArray[np.float64]) -> PlainPatch:
    rows, columns = np.mgrid[: a.shape[0], : a.shape[1]]
    design = np.column_stack([np.ones(a.size), rows.ravel(), columns.ravel()])
    difference = (a - b).ravel()
    fit = np.linalg.lstsq(design, difference, rcond=None)[0]
    left = (difference - design @ fit).reshape(a.shape) / math.sqrt(2)
    variance = float((left**2).sum() / (left.size - 3))
    clean = left - left.mean(axis=1, keepdims=True)
    clean = clean - clean.mean(axis=0, keepdims=True)
    products = signal.correlate2d(clean, clean, mode="full")
    middle = products.shape[0] // 2, products.shape[1] // 2
    near = products[middle[0] : middle[0] + 3, middle[1] - 2 : middle[1] + 3]
    shared = [
        float(np.cov(one.ravel(), other.ravel())[0, 1])
        for y in range(0, a.shape[0] - _FIXED_PX + 1, _FIXED_PX)
        for x in range(0, a.shape[1] - _FIXED_PX + 1, _FIXED_PX)
        for one, other in [[plane[y : y + _FIXED_PX, x : x + _FIXED_PX] for plane in (a, b)]]
    ]
    return PlainPatch(
        float((a.mean() + b.mean()) / 2), math.sqrt(variance), near / near[0, 2], float(np.mean(shared or [0.0]))
    )


def _tiles(a: NDArray[np.float64], b: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    rows, columns = a.shape[0] // _TILE_PX, a.shape[1] // _TILE_PX
    means, noise = np.zeros((rows, columns)), np.zeros((rows, columns))
    for row in range(rows):
        for column in range(columns):
            cut = np.s_[row * _TILE_PX : (row + 1) * _TILE_PX, column * _TILE_PX : (column + 1) * _TILE_PX]
            means[row, column] = (a[cut].mean() + b[cut].mean()) / 2
            noise[row, column] = np.var(a[cut] - b[cut], ddof=1) / 2
    return means, noise
