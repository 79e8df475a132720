"""The hot pixels of a body, from its darks, as a predicted picture shows them."""

from __future__ import annotations

import csv
import hashlib
import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.prediction.predicted_mosaic import HotPixels
from yellowjacket.core.raw.rect import Rect

# A pixel that was cut off in its dark gathers at least so much as filled it; the picture shows it as full.
_FULL_E_PER_S = 1e6


@dataclass(frozen=True, slots=True)
class HotPopulation:
    """Places in the full raw frame and what each gathers, e⁻/s, at the temperature the darks were taken at; ``size``: of the
    frames they were told from, (width, height) in pixels."""

    x: NDArray[np.int64]
    y: NDArray[np.int64]
    e_per_s: NDArray[np.float64]
    size: tuple[int, int]

    @classmethod
    def of(cls, rows: Iterable[tuple[int, int, float | None]], size: tuple[int, int]) -> HotPopulation:
        """From places and rates; None is a pixel that was cut off."""
        found = list(rows)
        return cls(
            np.array([x for x, _, _ in found], np.int64), np.array([y for _, y, _ in found], np.int64),
            np.array([_FULL_E_PER_S if rate is None else rate for _, _, rate in found], np.float64), size,
        )  # fmt: skip

    @property
    def digest(self) -> str:
        """Short name of what is in it."""
        parts = (self.x.tobytes(), self.y.tobytes(), self.e_per_s.tobytes(), str(self.size).encode())
        return hashlib.sha256(b"".join(parts)).hexdigest()[:16]

    def within(self, area: Rect, frame: tuple[int, int], seconds: float, seed: int) -> HotPixels:
        """Those of an area of a frame of ``frame`` (width, height) pixels, by the end of an exposure.

        In a frame of the size of the darks they stand where they were found; in one of another size, as a crop or a reduced
        mode, as many a pixel with the same spread of rates stand anywhere.
        """
        x, y, rates = self.x, self.y, self.e_per_s
        if frame != self.size:
            rng = np.random.default_rng(seed)
            count = rng.poisson(len(rates) * area.w * area.h / (self.size[0] * self.size[1])) if len(rates) else 0
            x, y = area.x + rng.integers(0, area.w, count), area.y + rng.integers(0, area.h, count)
            rates = rng.choice(rates, count) if count else rates[:0]
        inside = (x >= area.x) & (x < area.x + area.w) & (y >= area.y) & (y < area.y + area.h)
        return HotPixels(y[inside] - area.y, x[inside] - area.x, rates[inside] * seconds)


def population_from_csv(text: str, size: tuple[int, int]) -> HotPopulation:
    """From a table with the columns x, y and e_per_s, as the Time page and ``characterise --hot-pixels`` write it.

    ``size``: of the frame, (width, height). Raises ValueError that names the line and the column.
    """
    lines = csv.DictReader(text.splitlines())
    missing = [name for name in ("x", "y", "e_per_s") if name not in (lines.fieldnames or ())]
    if missing:
        raise ValueError(f"has no column {' or '.join(missing)}")
    rows = []
    for number, line in enumerate(lines, 2):
        try:
            x, y = int(line["x"]), int(line["y"])
            rate = float(line["e_per_s"]) if line["e_per_s"] else None
        except (TypeError, ValueError) as error:
            raise ValueError(f"line {number}: x, y and e_per_s are numbers") from error
        if not (0 <= x < size[0] and 0 <= y < size[1]):
            raise ValueError(f"line {number}: {x}, {y} lies outside a frame of {size[0]} × {size[1]} px")
        if rate is not None and not (math.isfinite(rate) and rate >= 0):
            raise ValueError(f"line {number}: e_per_s {rate:g} cannot be")
        rows.append((x, y, rate))
    return HotPopulation.of(rows, size)
