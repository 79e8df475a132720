"""Values to places: one axis for every chart."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

# A threshold is shown where it lies within so many times the values: others would press the curves flat.
_FAR = 4.0


def thresholds_near(values: Sequence[float], thresholds: Sequence[tuple[str, float]]) -> list[tuple[str, float]]:
    """Of (level, value) pairs those that a chart of the values shows.

    >>> thresholds_near([3.0, 20.0], [("clean", 16.0), ("usable", 8.0), ("emergency", 0.5)])
    [('clean', 16.0), ('usable', 8.0)]
    """
    return [(level, bar) for level, bar in thresholds if min(values) / _FAR < bar < max(values) * _FAR]


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

    def round_ticks(self, most: int = 6) -> list[tuple[float, float]]:
        """Round values inside of the axis, 1, 2 and 5 times powers of ten, each with its place: as many as may be.

        >>> [value for value, _ in Scale(1.4, 60, 0, 200, logarithmic=True).round_ticks()]
        [2.0, 5.0, 10.0, 20.0, 50.0]
        >>> [value for value, _ in Scale(3.2, 14.8, 0, 200).round_ticks()]
        [4.0, 6.0, 8.0, 10.0, 12.0, 14.0]
        """
        low, high = sorted((self.first, self.last))
        found = self._log_values(low, high, most) if self.logarithmic else _even_values(low, high, most)
        return [(value, self.at(value)) for value in found]

    @staticmethod
    def _log_values(low: float, high: float, most: int) -> list[float]:
        decades = range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1)
        for steps in ((1, 2, 5), (1, 3), (1,)):
            values = [step * 10.0**decade for decade in decades for step in steps]
            found = [value for value in values if low <= value <= high]
            if len(found) <= most:
                break
        # Under one decade equal steps say more.
        return found if len(found) > 1 else _even_values(low, high, most)


def _even_values(low: float, high: float, most: int) -> list[float]:
    span = high - low
    if span <= 0:
        return [low]
    size = 10.0 ** math.floor(math.log10(span / most))
    step = next(one * size for one in (1, 2, 5, 10, 20) if span / (one * size) <= most)
    return [round(n * step, 10) for n in range(math.ceil(low / step), math.floor(high / step) + 1)]
