"""A measured value with its uncertainty, or the reason why there is none."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

# Two-sided 95 % point of the normal distribution.
Z95 = 1.959963984540054
# Past this the upper end of the interval is 350 times the value: that is no finding.
_WIDEST_RELATIVE_SE = 3.0


@dataclass(frozen=True, slots=True)
class Quantity:
    """``value`` with its 95 % interval ``low``–``high`` from ``n`` samples, all in the same unit.

    ``value`` is None when nothing could be measured; ``reason`` then is a sentence for people. A
    known value may carry a ``reason`` too, as a remark ("limited by rounding").
    """

    value: float | None
    low: float | None = None
    high: float | None = None
    n: int = 0
    reason: str = ""

    @property
    def known(self) -> bool:
        """Whether there is a value."""
        return self.value is not None

    @property
    def se(self) -> float:
        """Standard error implied by the interval; 0 for an exact or unknown value."""
        if self.low is None or self.high is None:
            return 0.0
        return (self.high - self.low) / (2 * Z95)

    def scaled(self, factor: float) -> Quantity:
        """The same quantity in a unit ``factor`` times smaller (factor > 0)."""
        if self.value is None:
            return self
        return replace(
            self,
            value=self.value * factor,
            low=None if self.low is None else self.low * factor,
            high=None if self.high is None else self.high * factor,
        )


def missing(reason: str) -> Quantity:
    """A quantity that could not be measured."""
    return Quantity(None, reason=reason)


def with_error(value: float, se: float, n: int, reason: str = "") -> Quantity:
    """A value with a symmetric 95 % interval. Not finite in, a reason out: never a NaN before a user."""
    if not (math.isfinite(value) and math.isfinite(se)):
        return missing("the numbers gave no finite result")
    return Quantity(float(value), float(value - Z95 * se), float(value + Z95 * se), n, reason)


def with_relative_error(value: float, relative_se: float, n: int, reason: str = "") -> Quantity:
    """A positive value whose logarithm is uncertain by ``relative_se``: the interval never crosses zero."""
    if not (math.isfinite(value) and math.isfinite(relative_se) and value > 0):
        return missing("the numbers gave no finite result")
    if relative_se > _WIDEST_RELATIVE_SE:
        return missing("too uncertain to state: its error is several times its value")
    spread = math.exp(Z95 * relative_se)
    return Quantity(float(value), float(value / spread), float(value * spread), n, reason)
