"""The limits of a body for one use as a bar along ISO: how far it is clean, usable, and good for an emergency."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.web.graphics.scale import Scale

# Every bar has the same axis, so that bodies under each other compare; two stops between its lines.
_FIRST_ISO, _LAST_ISO, _LINE_STOPS = 50.0, 204_800.0, 2
WIDTH_PX = 168.0


@dataclass(frozen=True, slots=True)
class LimitBar:
    """Where each level ends, from the first to the last, and the lines behind; in pixels from the left."""

    ends: Sequence[tuple[str, float]]
    lines: Sequence[float]
    words: str
    width: float = WIDTH_PX


def limit_bar(marks: Sequence[str]) -> LimitBar | None:
    """The bar of three ISO marks by level; None where none of them is a number. What is not a number has no part of the bar.

    >>> [round(x) for _, x in limit_bar(["800", "3200", "none"]).ends]
    [56, 84]
    >>> limit_bar(["none", "–", "–"]) is None
    True
    """
    axis = Scale(_FIRST_ISO, _LAST_ISO, 0.0, WIDTH_PX, logarithmic=True)
    known = [(level, float(mark)) for level, mark in zip(LEVELS, marks, strict=True) if mark.isdecimal()]
    if not known:
        return None
    stops = range(0, 13, _LINE_STOPS)
    words = ", ".join(f"{level} to ISO {iso:.0f}" for level, iso in known)
    return LimitBar(
        [(level, axis.at(iso)) for level, iso in known], [axis.at(_FIRST_ISO * 2.0**n) for n in stops], words
    )
