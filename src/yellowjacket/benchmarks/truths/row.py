"""A line of the table of accuracy, and how it comes to be."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yellowjacket.core.metrology.estimate import Quantity


@dataclass(frozen=True, slots=True)
class Row:
    """One line of the table: what is held against what, the goal and what was found in words, and whether it holds."""

    what: str
    condition: str
    goal: str
    found: str
    holds: bool


def many(count: int, share: float, least: int = 1) -> int:
    """How many of a whole run's ``count`` a share of it takes."""
    return max(least, round(count * share))


def ratio_row(what: str, condition: str, own: Quantity, truth: float, within: float) -> Row:
    """An estimate over its truth."""
    ratio = (own.value or math.nan) / truth
    return Row(what, condition, f"within {within:.0%}", f"{ratio:.3f} of it", abs(ratio - 1) <= within)


def coverage_row(what: str, condition: str, held: Sequence[bool], share: float) -> Row:
    """How many of the 95 % intervals hold the truth; a run of a few bodies cannot tell, and misses nothing."""
    part = float(np.mean(held))
    return Row(what, condition, "92 to 98 %", f"{part:.1%}", 0.92 <= part <= 0.98 or share < 1)


def holds(own: Quantity, truth: float) -> bool:
    """Whether an interval holds the truth; an open end holds everything beyond."""
    return (-math.inf if own.low is None else own.low) <= truth <= (math.inf if own.high is None else own.high)
