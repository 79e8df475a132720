"""A measured value with its uncertainty, or the reason why there is none."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from yellowjacket.core.metrology.notes import LOWER_BOUNDS, UPPER_BOUNDS, Missing, Note, Remark, in_words

# Two-sided 95 % point of the normal distribution.
Z95 = 1.959963984540054
# Past this the upper end of the interval is 350 times the value: that is no finding.
_WIDEST_RELATIVE_SE = 3.0


@dataclass(frozen=True, slots=True)
class Quantity:
    """``value`` with its 95 % interval ``low``–``high`` from ``n`` samples, all in the same unit.

    ``value`` is None when nothing could be measured; ``notes`` then say why. Those of a known value are remarks.
    """

    value: float | None
    low: float | None = None
    high: float | None = None
    n: int = 0
    notes: tuple[Note, ...] = ()

    @property
    def known(self) -> bool:
        """Whether there is a value."""
        return self.value is not None

    @property
    def reason(self) -> str:
        """The notes in words, for people; empty when there is nothing to say."""
        return in_words(self.notes)

    @property
    def bound(self) -> str:
        """≥ or ≤ where the value is a bound only, else nothing."""
        if self.value is None:
            return ""
        return "≥" if self.has(*LOWER_BOUNDS) else "≤" if self.has(*UPPER_BOUNDS) else ""

    def has(self, *kinds: Remark | Missing) -> bool:
        """Whether one of these remarks or reasons belongs to it."""
        return any(note.kind in kinds for note in self.notes)

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

    def widened(self, factor: float) -> Quantity:
        """The same value with an interval ``factor`` times as wide."""
        if self.value is None or self.low is None or self.high is None:
            return self
        low, high = (self.value + factor * (end - self.value) for end in (self.low, self.high))
        return replace(self, low=low, high=high)

    def moved(self, offset: float) -> Quantity:
        """The same quantity plus an exact number."""
        value, low, high = (None if q is None else q + offset for q in (self.value, self.low, self.high))
        return replace(self, value=value, low=low, high=high)

    @property
    def plain(self) -> list[Any]:
        """As records keep it: value, low, high, n, notes."""
        return [self.value, self.low, self.high, self.n, [note.plain for note in self.notes]]

    @classmethod
    def from_plain(cls, plain: Sequence[Any]) -> Quantity:
        """A quantity as it was kept; older records have the reason as one text."""
        value, low, high, n, notes = plain
        if not notes:
            return cls(value, low, high, n)
        return cls(value, low, high, n, tuple(map(Note.from_plain, [notes] if isinstance(notes, str) else notes)))


def missing(kind: Missing, *details: str | float) -> Quantity:
    """A quantity that could not be measured; ``details`` fill the places in the words of its reason."""
    return Quantity(None, notes=(Note(kind, details),))


def unknown(*parts: Quantity, otherwise: Missing = Missing.NOT_MEASURED) -> Quantity:
    """Unknown for the reason of the first part that is unknown itself."""
    notes = next((part.notes for part in parts if not part.known and part.notes), (Note(otherwise),))
    return Quantity(None, notes=notes)


def with_error(value: float, se: float, n: int, *notes: Note) -> Quantity:
    """A value with a symmetric 95 % interval. Not finite in, a reason out: never a NaN before a user."""
    if not (math.isfinite(value) and math.isfinite(se)):
        return missing(Missing.NOT_FINITE)
    return Quantity(float(value), float(value - Z95 * se), float(value + Z95 * se), n, notes)


def with_relative_error(value: float, relative_se: float, n: int, *notes: Note) -> Quantity:
    """A positive value whose logarithm is uncertain by ``relative_se``: the interval never crosses zero."""
    if not (math.isfinite(value) and math.isfinite(relative_se) and value > 0):
        return missing(Missing.NOT_FINITE)
    if relative_se > _WIDEST_RELATIVE_SE:
        return missing(Missing.TOO_UNCERTAIN)
    spread = math.exp(Z95 * relative_se)
    return Quantity(float(value), float(value / spread), float(value * spread), n, notes)


def first_notes(parts: Sequence[Quantity]) -> tuple[Note, ...]:
    """What is said of the first part that anything is said of."""
    return next((part.notes for part in parts if part.notes), ())


def weighted(parts: Sequence[Quantity]) -> Quantity:
    """Mean of positive quantities weighted by 1/SE²; unknown ones are left out."""
    known = [p for p in parts if p.value is not None and p.value > 0 and p.se > 0]
    if not known:
        return unknown(*parts, otherwise=Missing.NO_CHANNEL)
    total = sum(1 / p.se**2 for p in known)
    value = sum((p.value or 0.0) / p.se**2 for p in known) / total
    notes = first_notes(known)
    return with_relative_error(value, 1 / math.sqrt(total) / value, sum(p.n for p in known), *notes)


def rms(parts: Sequence[Quantity]) -> Quantity:
    """Root mean square of positive quantities; unknown ones are left out."""
    known = [p for p in parts if p.value is not None and p.value > 0]
    if not known:
        return unknown(*parts, otherwise=Missing.NO_CHANNEL)
    value = math.sqrt(sum((p.value or 0.0) ** 2 for p in known) / len(known))
    if any(p.low == 0.0 for p in known):
        # Bounds are no normal errors: the joint one reaches from nothing to the largest.
        high = max(p.high or 0.0 for p in known)
        return Quantity(value, 0.0, high, sum(p.n for p in known), first_notes(known))
    se = math.sqrt(sum(((p.value or 0.0) * p.se) ** 2 for p in known)) / (len(known) * value)
    notes = first_notes(known)
    return with_relative_error(value, se / value, sum(p.n for p in known), *notes)


def mean(parts: Sequence[Quantity]) -> Quantity:
    """Plain mean; unknown ones are left out."""
    known = [p for p in parts if p.value is not None]
    if not known:
        return unknown(*parts, otherwise=Missing.NO_CHANNEL)
    value = sum(p.value for p in known if p.value is not None) / len(known)
    notes = first_notes(known)
    n = sum(p.n for p in known)
    if any(p.low != p.value and p.se and p.notes for p in known):
        # Intervals that are no normal errors, such as "at least", are kept as they are.
        low = sum(p.low if p.low is not None else value for p in known) / len(known)
        high = sum(p.high if p.high is not None else value for p in known) / len(known)
        return Quantity(value, low, high, n, notes)
    return with_error(value, math.sqrt(sum(p.se**2 for p in known)) / len(known), n, *notes)


def ratio(one: Quantity, other: Quantity) -> Quantity:
    """``one`` over ``other``, both positive and independent; unknown with the reason of whichever is."""
    for part in (one, other):
        if part.value is None or part.value <= 0:
            return unknown(part, otherwise=Missing.NOTHING_TO_DIVIDE_BY)
    assert one.value is not None and other.value is not None  # noqa: S101, PT018 - seen above
    relative = math.hypot(one.se / one.value, other.se / other.value)
    return with_relative_error(one.value / other.value, relative, min(one.n, other.n))


def difference(one: Quantity, other: Quantity) -> Quantity:
    """``one`` less ``other``, independent of each other; unknown with the reason of whichever is."""
    if one.value is None or other.value is None:
        return unknown(one, other)
    return with_error(one.value - other.value, math.hypot(one.se, other.se), min(one.n, other.n))
