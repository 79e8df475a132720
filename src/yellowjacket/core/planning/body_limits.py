"""What planning needs to know of a body."""

from __future__ import annotations

import math
from dataclasses import dataclass

from yellowjacket.core.exposure import dial
from yellowjacket.core.planning.ladder import STEPS


class PlanError(ValueError):
    """A plan that cannot be: the field it concerns and a sentence with the nearest possible value."""

    def __init__(self, field: str, reason: str) -> None:
        super().__init__(reason)
        self.field, self.reason = field, reason


@dataclass(frozen=True, slots=True)
class BodyLimits:
    """What planning needs of a body: the dial in printed ISO marks and shutter times in s, and its habits.

    ``iso_step``: "full", "third", or "every" for the marks listed in ``iso_list``. ``bulb``: whether it can be
    held open past the slowest mark. ``lenr_from_s``: exposures from here on get long-exposure noise reduction
    when it is on; None when the body has none.
    """

    lowest_iso: int
    highest_iso: int
    native_lowest_iso: int
    native_highest_iso: int
    fastest_shutter_s: float
    slowest_shutter_s: float
    iso_step: str = "third"
    iso_list: tuple[int, ...] = ()
    bulb: bool = True
    lenr_from_s: float | None = 1.0
    lenr_switchable: bool = True
    pixel_pitch_um: float | None = None
    crop_factor: float | None = None
    raw_modes: tuple[str, ...] = ()

    def iso_marks(self, step: str) -> tuple[dial.Mark, ...]:
        """Marks of the dial from lowest to highest at a step of STEPS."""
        if self.iso_step == "every" and self.iso_list:
            marks = tuple(
                dial.mark_from_nominal(dial.ISO_MARKS, iso) or dial.Mark(str(iso), iso, float(iso), "third")
                for iso in sorted(self.iso_list)
            )
        else:
            marks = self._with_ends(dial.iso_marks_between(self.lowest_iso, self.highest_iso, self.iso_step))
        if step in ("third", "half"):
            # Dials have no half marks between thirds: every mark is taken.
            return marks
        full = tuple(mark for mark in marks if mark.step == "full")
        every = round(STEPS[step])
        anchor = next((n for n, mark in enumerate(full) if mark.nominal >= self.native_lowest_iso), 0)
        return tuple(mark for n, mark in enumerate(full) if (n - anchor) % every == 0)

    def _with_ends(self, marks: tuple[dial.Mark, ...]) -> tuple[dial.Mark, ...]:
        """What a dial ends at is on it, whatever is printed there: 50000 where others have 51200."""
        printed = {mark.nominal for mark in marks}
        ends = [
            dial.Mark(str(end), float(end), float(end), "third")
            for end in {self.lowest_iso, self.highest_iso} - printed
        ]
        return tuple(sorted((*marks, *ends), key=lambda mark: mark.nominal))

    def has_iso(self, iso: float) -> bool:
        """Whether the dial has this mark."""
        return any(mark.nominal == iso for mark in self.iso_marks("third"))

    def nearest_iso(self, iso: float) -> int:
        """The dial mark nearest to a value."""
        marks = self.iso_marks("third")
        return round(min(marks, key=lambda mark: abs(math.log2(mark.exact / iso))).nominal)
