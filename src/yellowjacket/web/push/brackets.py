"""Push and pull limits as brackets on the stop axis of the stave."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from yellowjacket.core.latitude.push_pull import StopLimit
from yellowjacket.core.limits.tolerance import LEVELS

_ROW_PX, _TOP_PX = 27, 6
# Words stand outside a bracket where there is room for them to its left.
_ROOM_PX = 150


@dataclass(frozen=True, slots=True)
class End:
    """One end of a bracket: where it stands, its interval, its words and on which side they stand."""

    x: float
    low_x: float
    high_x: float
    text: str
    open: bool
    anchor: str
    text_x: float
    outside: bool


@dataclass(frozen=True, slots=True)
class Bracket:
    """A level with its two ends; either may be missing, with the reason."""

    level: str
    y: float
    left: End | None
    right: End | None
    middle: float
    reason: str


@dataclass(frozen=True, slots=True)
class Brackets:
    """What the template draws under the stave."""

    rows: Sequence[Bracket]
    width: int
    height: int
    zero: float


def brackets_of(
    push: Mapping[str, StopLimit], pull: Mapping[str, StopLimit], places: Sequence[float], column_px: int
) -> Brackets:
    """``places``: measured stops of the columns, from left to right; positions between are interpolated."""
    width = column_px * len(places)

    def x(stops: float) -> float:
        """Pixels of a place on the axis, kept on the sheet."""
        ordered = sorted(range(len(places)), key=lambda n: places[n])
        centres = [(places[n], (n + 0.5) * column_px) for n in ordered]
        if stops <= centres[0][0]:
            slope = _slope(centres[0], centres[1]) if len(centres) > 1 else column_px
            return max(4.0, centres[0][1] + (stops - centres[0][0]) * slope)
        for one, other in pairwise(centres):
            if stops <= other[0]:
                return one[1] + (stops - one[0]) * _slope(one, other)
        slope = _slope(centres[-2], centres[-1]) if len(centres) > 1 else column_px
        return min(width - 4.0, centres[-1][1] + (stops - centres[-1][0]) * slope)

    rows = []
    for n, level in enumerate(LEVELS):
        under, over = push[level], pull[level]
        rows.append(
            Bracket(
                level, _TOP_PX + n * _ROW_PX + 10, _end(under, -1, x), _end(over, 1, x), round(x(0.0), 1),
                under.reason or over.reason,
            )
        )  # fmt: skip
    return Brackets(rows, width, _TOP_PX + len(LEVELS) * _ROW_PX, round(x(0.0), 1))


def _slope(one: tuple[float, float], other: tuple[float, float]) -> float:
    return (other[1] - one[1]) / (other[0] - one[0]) if other[0] != one[0] else 0.0


def _end(limit: StopLimit, sign: int, x: Callable[[float], float]) -> End | None:
    if limit.stops is None:
        return None
    at = round(x(sign * limit.stops), 1)
    ends = [round(x(sign * (limit.stops if stops is None else stops)), 1) for stops in (limit.low, limit.high)]
    text = f"{'at least ' if limit.at_least else ''}{limit.stops:.1f}"
    if limit.criterion and not limit.at_least:
        text += f", {limit.criterion}"
    outside = sign > 0 or at > _ROOM_PX
    anchor = "start" if (sign > 0) == outside else "end"
    return End(at, min(ends), max(ends), text, limit.at_least, anchor, at + (8 if outside else -8) * sign, outside)
