"""Two pictures of one scene cut so that only what is judged differs: one field, on one number of pixels."""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Side:
    """A frame's width and height in raw pixels, and how many of them go to a pixel of the use along a side, 1 and more."""

    width: int
    height: int
    factor: float


@dataclass(frozen=True, slots=True)
class Cut:
    """What is cut out of a frame, raw pixels, and how many of them go to a pixel that is shown."""

    width: int
    height: int
    factor: float


def equal_field(left: Side, right: Side, scale: float, most: tuple[int, int]) -> tuple[Cut, Cut]:
    """The cuts of both frames. ``scale``: raw pixels of the right frame to one of the left; ``most``: pixels shown, at most.

    No side is enlarged: the one with fewer pixels of the use in the field says how many are shown.

    >>> equal_field(Side(6000, 4000, 2.0), Side(6000, 4000, 1.0), 1.0, (512, 480))
    (Cut(width=512, height=480, factor=2.0), Cut(width=512, height=480, factor=2.0))
    """
    across, down = most
    # The field, in raw pixels of the left frame: no wider than either side shows, no larger than either frame.
    widths = (across * left.factor, across * right.factor / scale, left.width, right.width / scale)
    heights = (left.height, right.height / scale)
    width = min(*widths, *(height * across / down for height in heights))
    columns = max(1, math.floor(min(width / left.factor, width * scale / right.factor)))
    rows = max(1, math.floor(columns * down / across))
    one, other = width / columns, width * scale / columns
    return (
        Cut(round(columns * one), round(rows * one), one),
        Cut(round(columns * other), round(rows * other), other),
    )
