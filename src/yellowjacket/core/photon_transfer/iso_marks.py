"""Marks along ISO to avoid or to prefer, and why."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.notes import Remark

AVOID, PREFER = "avoid", "prefer"
# A mark that holds no more electrons than one a stop higher, within this, gave its light away.
_NO_MORE, _SURELY, _APART = 1.1, 1.3, 1.5


@dataclass(frozen=True, slots=True)
class MarkHabits:
    """What is known of a mark: its saturation in electrons, whether it is smoothed, and why it is called digital."""

    iso: int
    saturation_e: Quantity
    smoothed: bool = False
    digital: str = ""


@dataclass(frozen=True, slots=True)
class MarkAdvice:
    """A mark to avoid or prefer. ``habit``: why, ``reason``: the same in words."""

    iso: int
    advice: str
    habit: Remark
    reason: str


def advice_on(marks: Sequence[MarkHabits], second_base: Quantity) -> tuple[MarkAdvice, ...]:
    """What to mind along a ladder, from low to high ISO."""
    found: list[MarkAdvice] = []
    if second_base.value is not None:
        at = round(second_base.value)
        reason = "a second base ISO: cleaner shadows than one mark lower"
        found.append(MarkAdvice(at, PREFER, Remark.SECOND_BASE, reason))
        below = [mark.iso for mark in marks if mark.iso < at]
        if below:
            found.append(MarkAdvice(below[-1], AVOID, Remark.UNDER_BASE, f"just under the second base ISO {at}"))
    for mark in marks:
        if mark.digital:
            found.append(MarkAdvice(mark.iso, AVOID, Remark.DIGITAL, f"made by arithmetic: {mark.digital}"))
        if mark.smoothed:
            found.append(MarkAdvice(mark.iso, AVOID, Remark.SMOOTHED_HERE, "the raw is smoothed here"))
    return (*found, *_low_extended(marks))


def _low_extended(marks: Sequence[MarkHabits]) -> list[MarkAdvice]:
    """Low marks that give up headroom without losing noise: they hold no more electrons than a mark higher.

    A true lower mark holds as many more as its gain is lower.
    """
    found: list[MarkAdvice] = []
    for lower, higher in pairwise(marks):
        one, other = lower.saturation_e, higher.saturation_e
        if one.value is None or other.value is None or one.high is None or other.low is None:
            continue
        if one.value < _NO_MORE * other.value and one.high < _SURELY * other.low and lower.iso < higher.iso / _APART:
            reason = f"holds no more light than ISO {higher.iso}"
            found.append(MarkAdvice(lower.iso, AVOID, Remark.LOW_EXTENDED, reason))
    return found
