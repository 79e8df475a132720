"""Whether one body, or firmware, is better than another, and by how much: the same answer whichever is named first.

Compared at the marks both were read at. Of each quantity the difference is pooled over the marks, weighted by its errors; it
counts where it is larger than chance leaves (family-wise 5 % over everything that is looked at) and than anybody would see.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from statistics import NormalDist

from yellowjacket.core.metrology.estimate import Z95, Quantity
from yellowjacket.core.metrology.measurands import Better, Measurand

# What is compared, in the order of the sheet.
COMPARED = (
    Measurand.SNR, Measurand.SHADOW_SNR, Measurand.NOISE_CHROMA, Measurand.RANGE_SNR1, Measurand.READ_NOISE_E,
    Measurand.DETAIL, Measurand.NEUTRAL_DRIFT_DE00,
)  # fmt: skip
# Chance of a false alarm over all quantities together.
_ALARM = 0.05
# Smaller than this is called level though it be certain (common practice, no source): stops of a ratio, stops of range, ΔE00.
_SEEN_RATIO_STOPS, _SEEN_RANGE_STOPS, _SEEN_DE00 = 0.05, 0.1, 0.5
Readings = Mapping[int, Mapping[Measurand, Quantity]]


@dataclass(frozen=True, slots=True)
class Effect:
    """A quantity of two bodies held against each other, over ``marks``.

    ``worse`` over better: a ratio of 1 and more, or for range and colour a difference of nothing and more, with its interval;
    ``who`` is worse: 0 the first, 1 the other, None where neither is. ``most_mark``: where the difference is largest.
    """

    quantity: Measurand
    worse: Quantity
    who: int | None
    marks: tuple[int, ...]
    most_mark: int | None = None

    @property
    def is_ratio(self) -> bool:
        """Whether it is told as a ratio."""
        return _is_ratio(self.quantity)


def _is_ratio(quantity: Measurand) -> bool:
    return quantity not in (Measurand.RANGE_SNR1, Measurand.NEUTRAL_DRIFT_DE00)


def _seen_from(quantity: Measurand) -> float:
    if quantity is Measurand.NEUTRAL_DRIFT_DE00:
        return _SEEN_DE00
    return _SEEN_RANGE_STOPS if quantity is Measurand.RANGE_SNR1 else _SEEN_RATIO_STOPS


@dataclass(frozen=True, slots=True)
class _At:
    """By how much the other reads higher at a mark: stops of a ratio or the difference, and the standard error of it."""

    mark: int
    value: float
    error: float


def effects(
    one: Readings, other: Readings, quantities: Sequence[Measurand], left_out: Sequence[int] = ()
) -> list[Effect]:
    """Every quantity that both were read for at a mark or more; ``left_out``: marks where a raw is smoothed, whose numbers
    read too good."""
    marks = [mark for mark in sorted(set(one) & set(other)) if mark not in left_out]
    looked_at = {
        quantity: [at for mark in marks if (at := _at(mark, quantity, one[mark], other[mark])) is not None]
        for quantity in quantities
    }
    told = [quantity for quantity, rows in looked_at.items() if rows]
    return [_effect(quantity, looked_at[quantity], _ALARM / len(told)) for quantity in told]


def _at(
    mark: int, quantity: Measurand, one: Mapping[Measurand, Quantity], other: Mapping[Measurand, Quantity]
) -> _At | None:
    a, b = one.get(quantity), other.get(quantity)
    # A value that only the frame or the wedge bounds is no ground for a difference.
    if a is None or b is None or a.value is None or b.value is None or a.bound or b.bound:
        return None
    if not _is_ratio(quantity):
        return _At(mark, b.value - a.value, max(math.hypot(a.se, b.se), 1e-9))
    if a.value <= 0 or b.value <= 0:
        return None
    error = math.hypot(a.se / a.value, b.se / b.value) / math.log(2)
    return _At(mark, math.log2(b.value / a.value), max(error, 1e-9))


def _effect(quantity: Measurand, rows: Sequence[_At], alarm: float) -> Effect:
    weights = [1 / row.error**2 for row in rows]
    whole = sum(weights)
    mean = sum(w * row.value for w, row in zip(weights, rows, strict=True)) / whole
    error = 1 / math.sqrt(whole)
    if len(rows) > 1:
        # Marks that differ more than their own errors say: the light or the scene was not quite the same.
        scatter = sum(w * (row.value - mean) ** 2 for w, row in zip(weights, rows, strict=True)) / (len(rows) - 1)
        error *= math.sqrt(max(1.0, scatter))
    seen = _seen_from(quantity)
    # Half of the chance goes to the mean, half to the marks: a difference at some marks only may vanish in the mean.
    pooled = abs(mean) > max(seen, _beyond(alarm / 2) * error)
    single = [row for row in rows if abs(row.value) > max(seen, _beyond(alarm / 2 / len(rows)) * row.error)]
    marks = tuple(row.mark for row in rows)
    if not pooled and not single:
        return Effect(quantity, _quantity(quantity, mean, error, len(rows)), None, marks)
    most = max(rows if pooled else single, key=lambda row: abs(row.value))
    stands_out = not pooled or (most.value * mean > 0 and abs(most.value) > abs(mean) + Z95 * most.error)
    if not pooled:
        mean, error = most.value, most.error
    other_worse = (mean < 0) == (quantity.described.better is Better.HIGHER)
    return Effect(
        quantity, _quantity(quantity, abs(mean), error, len(rows)), 1 if other_worse else 0, marks,
        most.mark if stands_out else None,
    )  # fmt: skip


def _beyond(chance: float) -> float:
    """σ beyond which a normal value lies with this chance, either side counted."""
    return NormalDist().inv_cdf(1 - chance / 2)


def _quantity(quantity: Measurand, value: float, error: float, n: int) -> Quantity:
    low, high = value - Z95 * error, value + Z95 * error
    if _is_ratio(quantity):
        return Quantity(2.0**value, 2.0**low, 2.0**high, n)
    return Quantity(value, low, high, n)


def in_words(one: str, other: str, found: Sequence[Effect]) -> list[str]:
    """Sentences without their dots, the largest difference first, then what is level: the same for either order of names."""
    names = (one, other)
    if not found:
        return ["nothing was read of both at the same ISO: no statement"]
    apart = sorted((effect for effect in found if effect.who is not None), key=lambda effect: -_size(effect))
    said = []
    for who in dict.fromkeys(effect.who for effect in apart):
        amounts = [_amount(effect) for effect in apart if effect.who == who]
        said.append(f"{names[who or 0]} is worse than {names[1 - (who or 0)]}: {'; '.join(amounts)}")
    level = [_named(effect) for effect in found if effect.who is None]
    if level:
        said.append(f"level in {_listed(level)}" if apart else f"no difference in {_listed(level)}")
    return said


def _size(effect: Effect) -> float:
    value = effect.worse.value or 0.0
    return math.log2(value) / _SEEN_RATIO_STOPS if effect.is_ratio else value / _seen_from(effect.quantity)


def _amount(effect: Effect) -> str:
    known, q = effect.quantity.described, effect.worse
    low, high = (max(end or 0.0, 0.0) for end in (q.low, q.high))
    if not effect.is_ratio:
        unit = "ΔE00" if effect.quantity is Measurand.NEUTRAL_DRIFT_DE00 else "stops"
        more = "more" if known.better is Better.LOWER else "less"
        amount = f"{q.value:.1f} {unit} {more} {_named(effect)} ({low:.1f} to {high:.1f})"
    elif known.better is Better.LOWER:
        amount = f"{100 * ((q.value or 1) - 1):.0f} % more {_named(effect)} ({100 * (low - 1):.0f} to {100 * (high - 1):.0f} %)"
    else:
        shares = [100 * (1 - 1 / max(end or 1.0, 1e-9)) for end in (q.value, low, high)]
        amount = f"{shares[0]:.0f} % less {_named(effect)} ({shares[1]:.0f} to {shares[2]:.0f} %)"
    where = f", most at ISO {effect.most_mark}" if effect.most_mark is not None and len(effect.marks) > 1 else ""
    return f"{amount}{where}"


def _named(effect: Effect) -> str:
    """The quantity inside a sentence; what is written in capitals stays."""
    words = effect.quantity.described.words
    return words if words[1:2].isupper() else words[0].lower() + words[1:]


def _listed(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"
