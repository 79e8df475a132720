"""What the ISO settings of one body say about each other: digital ones, a second base, marks to avoid or to prefer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.photon_transfer.dual_gain import NoiseAt, second_base_of
from yellowjacket.core.raw.codes import CodeUse, DigitalIso, digital_verdict

AVOID, PREFER = "avoid", "prefer"
# The habits that speak against a mark, as its reading keeps them.
_AGAINST = (Remark.UNDER_BASE, Remark.DIGITAL, Remark.SMOOTHED_HERE, Remark.LOW_EXTENDED)
# A mark that holds no more electrons than one a stop higher, within this, gave its light away.
_NO_MORE, _SURELY, _APART = 1.1, 1.3, 1.5


@dataclass(frozen=True, slots=True)
class Setting:
    """What one ISO setting gave: how it uses its codes (None: not counted), gain and read noise (None: no model), saturation
    in electrons, and whether its raw is smoothed."""

    iso: int
    code_use: CodeUse | None
    noise: NoiseAt | None
    saturation_e: Quantity
    smoothed: bool


@dataclass(frozen=True, slots=True)
class Habits:
    """Of a body's settings in their order: digital or not, the ISO of a second base, and which to avoid or prefer."""

    digital: tuple[DigitalIso, ...]
    second_base: Quantity
    advice: tuple[MarkAdvice, ...]


def habits_of(settings: Sequence[Setting]) -> Habits:
    """Judge the settings of one body, from low to high ISO: each by its codes against the lowest, whose gaps are the bit
    depth of the mode; a second base from those that are neither digital nor smoothed."""
    lowest = settings[0].code_use if settings else None
    digital = tuple(
        DigitalIso(None, None, None, Note(Missing.NO_CODES_COUNTED))
        if one.code_use is None
        else digital_verdict(one.code_use, lowest if n else None)
        for n, one in enumerate(settings)
    )
    honest = [
        one.noise
        for one, verdict in zip(settings, digital, strict=True)
        if one.noise is not None and not verdict.flag and not one.smoothed
    ]
    base = second_base_of(honest)
    marks = [
        MarkHabits(one.iso, one.saturation_e, one.smoothed, verdict.why if verdict.flag else None)
        for one, verdict in zip(settings, digital, strict=True)
    ]
    return Habits(digital, base, advice_on(marks, base))


@dataclass(frozen=True, slots=True)
class MarkHabits:
    """What is known of a mark: its saturation in electrons, whether it is smoothed, and why it is called digital, if it is."""

    iso: int
    saturation_e: Quantity
    smoothed: bool = False
    digital: Note | None = None


@dataclass(frozen=True, slots=True)
class MarkAdvice:
    """A mark to avoid or prefer. ``habit``: what for, ``because``: the same more fully."""

    iso: int
    advice: str
    habit: Remark
    because: Note

    @property
    def reason(self) -> str:
        """Why, in words."""
        return str(self.because)


def against(notes: Sequence[Note]) -> tuple[Note, ...]:
    """Of the habits of a mark those for which it is to be avoided."""
    return tuple(note for note in notes if note.kind in _AGAINST)


def advice_on(marks: Sequence[MarkHabits], second_base: Quantity) -> tuple[MarkAdvice, ...]:
    """Settings to avoid or prefer along a ladder, from low to high ISO."""
    found: list[MarkAdvice] = []
    if second_base.value is not None:
        at = round(second_base.value)
        found.append(MarkAdvice(at, PREFER, Remark.SECOND_BASE, Note(Remark.IS_SECOND_BASE)))
        below = [mark.iso for mark in marks if mark.iso < at]
        if below:
            found.append(MarkAdvice(below[-1], AVOID, Remark.UNDER_BASE, Note(Remark.LIES_UNDER_BASE, (at,))))
    for mark in marks:
        if mark.digital:
            found.append(
                MarkAdvice(mark.iso, AVOID, Remark.DIGITAL, Note(Remark.MADE_BY_ARITHMETIC, (str(mark.digital),)))
            )
        if mark.smoothed:
            found.append(MarkAdvice(mark.iso, AVOID, Remark.SMOOTHED_HERE, Note(Remark.RAW_IS_SMOOTHED)))
    return (*found, *_low_extended(marks))


def _low_extended(marks: Sequence[MarkHabits]) -> list[MarkAdvice]:
    """Low marks that give up headroom without losing noise: they hold no more electrons than a mark higher.

    A true lower mark holds as many more as its gain is lower. The gain of a smoothed mark is not that of its sensor, and so
    is what it seems to hold: it tells nothing here.
    """
    found: list[MarkAdvice] = []
    for lower, higher in pairwise(mark for mark in marks if not mark.smoothed):
        one, other = lower.saturation_e, higher.saturation_e
        if one.value is None or other.value is None or one.high is None or other.low is None:
            continue
        if one.value < _NO_MORE * other.value and one.high < _SURELY * other.low and lower.iso < higher.iso / _APART:
            because = Note(Remark.HOLDS_NO_MORE, (higher.iso,))
            found.append(MarkAdvice(lower.iso, AVOID, Remark.LOW_EXTENDED, because))
    return found
