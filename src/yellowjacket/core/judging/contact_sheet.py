"""A blind contact sheet: codes that tell nothing, and where each crop stands on paper at true size."""

from __future__ import annotations

import math
import random
from collections.abc import Sequence
from dataclasses import dataclass

# A4, mm; what common printers leave white, and the room for heading and code.
PAGE_MM = (210.0, 297.0)
_MARGIN_MM, _HEAD_MM, _CODE_MM, _GAP_MM = 12.0, 14.0, 7.0, 4.0
MM_PER_INCH = 25.4
# Letters that are not taken for one another when read from a distance.
_LETTERS = "ACEFHKLMNPRTUVXY"


@dataclass(frozen=True, slots=True)
class Slot:
    """A crop on paper: page from 0, left and top edge in mm from the page's upper left, its side in mm."""

    page: int
    x_mm: float
    y_mm: float
    side_mm: float


def codes(count: int, chance: random.Random) -> list[str]:
    """Different codes of two letters in random order. Raises ValueError for more than there are."""
    pairs = [a + b for a in _LETTERS for b in _LETTERS if a != b]
    if not 1 <= count <= len(pairs):
        raise ValueError(f"a sheet takes 1 to {len(pairs)} pictures")
    return chance.sample(pairs, count)


def layout(count: int, side_mm: float) -> Sequence[Slot]:
    """Squares of ``side_mm`` in rows on as many A4 pages as it takes. Raises ValueError for squares that fit on none."""
    width, height = PAGE_MM[0] - 2 * _MARGIN_MM, PAGE_MM[1] - 2 * _MARGIN_MM - _HEAD_MM
    columns = math.floor((width + _GAP_MM) / (side_mm + _GAP_MM)) if side_mm > 0 else 0
    rows = math.floor((height + _GAP_MM) / (side_mm + _CODE_MM + _GAP_MM)) if side_mm > 0 else 0
    if columns < 1 or rows < 1:
        raise ValueError(f"a square of {side_mm:g} mm does not fit on the page")
    slots = []
    for n in range(count):
        page, place = divmod(n, columns * rows)
        row, column = divmod(place, columns)
        slots.append(
            Slot(
                page, _MARGIN_MM + column * (side_mm + _GAP_MM),
                _MARGIN_MM + _HEAD_MM + row * (side_mm + _CODE_MM + _GAP_MM), side_mm,
            )
        )  # fmt: skip
    return slots


def pixels_on_paper(side_mm: float, print_ppi: float) -> int:
    """Output pixels along a square's side at a print's resolution."""
    return max(1, round(side_mm / MM_PER_INCH * print_ppi))
