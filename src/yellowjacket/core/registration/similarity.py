"""The same spot on frames of several bodies: a similarity transform from marked or automatically matched points.

Only what is looked at is moved; noise is measured on the untransformed mosaic.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Point = tuple[float, float]
Grey = NDArray[np.float32]

# Pictures are matched at this length of their longer side: enough for a spot, quick enough to wait for.
_MATCHED_AT_PX = 700
_FEWEST_MATCHES = 10
# A matched point may lie so far off (pixels of the matched picture).
_REACH_PX = 1.5
_SEED = 20260314
# Shifts are told to a fiftieth of a pixel.
_UPSAMPLED = 50
# Beyond this share of the picture's side two frames do not show the same spot.
_FARTHEST_SHIFT = 0.25


class NoMatch(ValueError):
    """Two pictures that cannot be put on one another; the message is a sentence for people."""


@dataclass(frozen=True, slots=True)
class Similarity:
    """x' = a·x − b·y + x0, y' = b·x + a·y + y0: scale, rotation and shift, in pixels.

    ``residual_px``: root mean square of what is left at the points it was found from; ``points``: how many.
    """

    a: float = 1.0
    b: float = 0.0
    x0: float = 0.0
    y0: float = 0.0
    residual_px: float = 0.0
    points: int = 0

    @property
    def scale(self) -> float:
        """Pixels there for one here."""
        return math.hypot(self.a, self.b)

    def then(self, following: Similarity) -> Similarity:
        """This transform and ``following`` after it, as one."""
        x0, y0 = following.at((self.x0, self.y0))
        return Similarity(
            self.a * following.a - self.b * following.b, self.a * following.b + self.b * following.a, x0, y0
        )

    @property
    def turned_deg(self) -> float:
        """Rotation, degrees."""
        return math.degrees(math.atan2(self.b, self.a))

    def at(self, point: Point) -> Point:
        """Where a point lies on the other picture."""
        x, y = point
        return self.a * x - self.b * y + self.x0, self.b * x + self.a * y + self.y0

    def back(self, point: Point) -> Point:
        """Where a point of the other picture lies on this one."""
        x, y = point[0] - self.x0, point[1] - self.y0
        square = self.a**2 + self.b**2
        return (self.a * x + self.b * y) / square, (self.a * y - self.b * x) / square


def scaled_to(size: tuple[int, int], other: tuple[int, int]) -> Similarity:
    """What two whole pictures of (width, height) have in common when nothing better is known: centres and diagonals."""
    scale = math.hypot(*other) / math.hypot(*size)
    return Similarity(scale, 0.0, other[0] / 2 - scale * size[0] / 2, other[1] / 2 - scale * size[1] / 2)


def fitted(here: Sequence[Point], there: Sequence[Point]) -> Similarity:
    """Least squares over pairs of points. Raises NoMatch for fewer than two, or when all lie in one place."""
    if len(here) != len(there) or len(here) < 2:
        raise NoMatch("Mark two spots or more, each on both pictures.")
    one, other = np.asarray(here, np.float64), np.asarray(there, np.float64)
    centre, its = one.mean(axis=0), other.mean(axis=0)
    z, w = ((one - centre) @ [1, 1j], (other - its) @ [1, 1j])
    spread = float((np.abs(z) ** 2).sum())
    if spread < 1.0:
        raise NoMatch("The spots lie in one place: mark two that are far apart.")
    factor = complex((np.conj(z) * w).sum() / spread)
    shift = complex(*its) - factor * complex(*centre)
    left = np.abs(w - factor * z)
    return Similarity(factor.real, factor.imag, shift.real, shift.imag, float(np.sqrt((left**2).mean())), len(here))


def found(here: Grey, there: Grey, here_step: float = 1.0, there_step: float = 1.0) -> Similarity:
    """Similarity from ``here`` to ``there``, grey pictures of any brightness, by matched points.

    ``here_step`` and ``there_step``: pixels of the frame for one of the picture, each way. Raises NoMatch where too few
    points agree: another scene, nothing but blur or noise, or a picture too small.
    Shapes (height, width), any two.
    """
    from skimage.feature import SIFT, match_descriptors
    from skimage.measure import ransac
    from skimage.transform import SimilarityTransform

    described: list[Any] = []
    for picture in (_stretched(here), _stretched(there)):
        # Without doubling the picture first: the finest points are noise, and take most of the time.
        finder = SIFT(upsampling=1)
        try:
            finder.detect_and_extract(picture)
        except (RuntimeError, ValueError) as error:
            raise NoMatch("One of the pictures shows nothing that could be matched: mark spots by hand.") from error
        described.append(finder)
    pairs = match_descriptors(described[0].descriptors, described[1].descriptors, max_ratio=0.8, cross_check=True)
    few = f"Fewer than {_FEWEST_MATCHES} points agree: another scene, or too little to see. Mark spots by hand."
    if len(pairs) < _FEWEST_MATCHES:
        raise NoMatch(few)
    one = described[0].positions[pairs[:, 0]][:, ::-1] + 0.5
    other = described[1].positions[pairs[:, 1]][:, ::-1] + 0.5
    _, agree = ransac(
        (one, other), SimilarityTransform, min_samples=2, residual_threshold=_REACH_PX, max_trials=1000, rng=_SEED
    )
    if agree is None or agree.sum() < _FEWEST_MATCHES:
        raise NoMatch(few)
    return fitted((one[agree] * here_step).tolist(), (other[agree] * there_step).tolist())


def reduced(picture: NDArray[np.floating]) -> tuple[Grey, int]:
    """A grey picture averaged down by a whole factor to about the length matching needs, and the factor.

    Shape (height, width).
    """
    step = max(1, round(max(picture.shape) / _MATCHED_AT_PX))
    rows, columns = picture.shape[0] // step, picture.shape[1] // step
    blocks = picture[: rows * step, : columns * step].reshape(rows, step, columns, step)
    return blocks.mean(axis=(1, 3)).astype(np.float32), step


def _stretched(picture: Grey) -> Grey:
    """Brightness as its logarithm from 0 to 1: exposure drops out, and shadows count."""
    floor = max(float(np.percentile(picture, 1)), 1e-3)
    logs = np.log2(np.maximum(picture, floor / 4))
    low, high = np.percentile(logs, (0.5, 99.5))
    return np.clip((logs - low) / max(high - low, 1e-6), 0, 1).astype(np.float32)


def shift_between(here: Grey, there: Grey) -> Point:
    """By how many pixels (x, y) the second picture must be moved to lie on the first: phase correlation.

    Raises NoMatch for pictures of two sizes, and where no shift stands out.
    Both of one shape (height, width).
    """
    from skimage.registration import phase_cross_correlation

    if here.shape != there.shape:
        raise NoMatch("The pictures differ in size, so that they cannot be shifted on to one another.")
    window = np.outer(np.hanning(here.shape[0]), np.hanning(here.shape[1])).astype(np.float32)
    one, other = ((picture - picture.mean()) * window for picture in (here, there))
    if not (one.std() > 0 and other.std() > 0):
        raise NoMatch("There is nothing to see at this spot by which a shift could be told.")
    moved, error, _ = phase_cross_correlation(one, other, upsample_factor=_UPSAMPLED, normalization=None)
    y, x = (float(value) for value in moved)
    if error > 0.9 or abs(x) > _FARTHEST_SHIFT * here.shape[1] or abs(y) > _FARTHEST_SHIFT * here.shape[0]:
        raise NoMatch("No shift stands out at this spot: choose one with more to see.")
    return x, y
