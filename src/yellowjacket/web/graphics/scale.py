"""Values to places: one axis for every chart."""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Scale:
    """An axis from ``first`` at ``begin`` to ``last`` at ``end``, straight or logarithmic (both ends above 0).

    What lies outside stands at the nearer end. Places are pixels, millimetres or points, as the chart counts.

    >>> Scale(1, 100, 0, 200, logarithmic=True).at(10)
    100.0
    >>> Scale(0, 1, 90, 10).at(2)
    10.0
    """

    first: float
    last: float
    begin: float
    end: float
    logarithmic: bool = False

    def at(self, value: float) -> float:
        """The place of a value, to a tenth."""
        low, high = min(self.first, self.last), max(self.first, self.last)
        inside = min(max(value, low), high)
        along = self._of(inside) - self._of(self.first)
        span = self._of(self.last) - self._of(self.first)
        return round(self.begin + (along / span if span else 0.5) * (self.end - self.begin), 1)

    def _of(self, value: float) -> float:
        return math.log2(value) if self.logarithmic else value

    def ticks(self, count: int) -> list[tuple[float, float]]:
        """So many values at equal steps of the axis, each with its place; two at least."""
        low, high = self._of(self.first), self._of(self.last)
        steps = [low + (high - low) * n / (count - 1) for n in range(count)]
        return [(value, self.at(value)) for value in (2.0**step if self.logarithmic else step for step in steps)]
