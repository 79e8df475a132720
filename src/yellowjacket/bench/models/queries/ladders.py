"""Questions to ladders and rungs."""

from __future__ import annotations

import math
from collections.abc import Sequence

from yellowjacket.bench.models import Frame, Ladder, Rung
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.exposure import dial


def reference_rung(ladder: Ladder, rungs: Sequence[Rung]) -> Rung:
    """The rung the others are held against.

    On an ISO ladder native base ISO, the cleanest that is not extended; else the metered exposure.
    """
    if ladder.kind == Ladder.Kind.ISO:
        native = [rung for rung in rungs if rung.iso >= ladder.body.native_lowest_iso]
        return min(native or rungs, key=lambda rung: rung.iso)
    return min(rungs, key=lambda rung: (abs(rung.at_stops), rung.position))


def frame_size(ladder: Ladder) -> tuple[int, int]:
    """Width and height of the ladder's frames. Refuses where there is none yet."""
    # Of several raw modes the largest is drawn on.
    sizes = Frame.objects.filter(shot__rung__ladder=ladder).values_list("width", "height").distinct()
    if not sizes:
        raise Refusal("There is no frame to draw on yet. Shoot or import frames first.")
    return max((int(width), int(height)) for width, height in sizes)


def stops_of(rung: Rung) -> float:
    """Where an ISO rung stands on the axis, in stops over ISO 100."""
    return math.log2(dial.exact_iso(rung.iso) / 100)
