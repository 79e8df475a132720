"""Noise made visible: what differs between two frames, and what stays in the darks, amplified to grey pictures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.robust import robust_sigma
from yellowjacket.core.raw.frame import RawFrame

# Shown from black to white: this many σ of what is shown, each way.
SHOWN_SIGMAS = 3.0
# Slow light and shade is taken off over this many pixels of the picture.
_SMOOTH_PX = 33
_MIDDLE, _WHITE = 127.5, 255.0


@dataclass(frozen=True, slots=True, eq=False)
class NoiseImage:
    """A grey picture, uint8 (rows, columns), and the DN that lie between its middle and its white."""

    picture: NDArray[np.uint8]
    full_scale_dn: float


def difference_image(first: RawFrame, second: RawFrame, step: int) -> NoiseImage:
    """What differs between two frames of a rung: the mean over the channels of A − B, over √2.

    ``step``: cells of the layout averaged to a pixel along a side. Raises ValueError when the frames differ in size.
    """
    if first.mosaic.shape != second.mosaic.shape:
        raise ValueError(f"frames differ in size: {first.mosaic.shape} and {second.mosaic.shape}")
    return _amplified((_cells(first, step) - _cells(second, step)) / np.sqrt(2))


def pattern_image(darks: Sequence[RawFrame], step: int) -> NoiseImage:
    """What stays from dark to dark: their mean over the channels. Raises ValueError without darks."""
    if not darks:
        raise ValueError("at least one dark is needed")
    return _amplified(np.mean([_cells(frame, step) for frame in darks], axis=0))


def _cells(frame: RawFrame, step: int) -> NDArray[np.float64]:
    total: NDArray[np.float64] | None = None
    for channel in frame.channels:
        plane = frame.cells(channel)
        rows, columns = plane.shape[0] // step, plane.shape[1] // step
        blocks = plane[: rows * step, : columns * step].reshape(rows, step, columns, step)
        part = blocks.mean(axis=(1, 3), dtype=np.float64)
        total = part if total is None else total + part
    assert total is not None  # noqa: S101 - there are always channels
    return total / len(frame.channels)


def _amplified(values: NDArray[np.float64]) -> NoiseImage:
    """Less what varies slowly; ±3 σ from black to white. σ is told robustly on a scale of a hundredth of a DN."""
    from scipy.ndimage import uniform_filter

    flat = values - uniform_filter(values, size=_SMOOTH_PX, mode="nearest")
    fine = 100.0
    sigma = robust_sigma(flat * fine) / fine
    scale = SHOWN_SIGMAS * max(sigma, 1 / fine)
    grey = np.clip(_MIDDLE + flat / scale * _MIDDLE, 0, _WHITE)
    return NoiseImage(np.asarray(np.rint(grey), dtype=np.uint8), scale)
