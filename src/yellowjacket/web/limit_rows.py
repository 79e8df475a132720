"""The limits of a version as rows of the chart along ISO."""

from __future__ import annotations

from collections.abc import Sequence

from yellowjacket.bench.models import Body, Ladder
from yellowjacket.bench.record.standing import Standing, newest_signed, standing_of
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.web.graphics.drawing import Drawing
from yellowjacket.web.graphics.limit_chart import LimitMark, LimitRow, limit_chart


def chart_of(ladder: Ladder, standing: Standing, isos: Sequence[int]) -> Drawing | None:
    """The chart of a ladder's limits; None where none is known. An interval is shown where the mark is the measured one."""
    uses = list(dict.fromkeys(one.use.name for one in standing.proposals))
    return limit_chart(f"Highest ISO, {ladder.body}", [_row(standing, name) for name in uses], isos)


def chart_of_body(body: Body) -> tuple[Ladder, Drawing] | None:
    """The limits that hold for a body: of the newest sitting whose ISO ladder is signed; None before any is."""
    ladders = Ladder.objects.filter(body=body, kind=Ladder.Kind.ISO, records__signed_at__isnull=False).distinct()
    for ladder in ladders.select_related("body", "sitting__profile").order_by("-sitting__held_on", "-pk"):
        record = newest_signed(ladder)
        if record is not None:
            standing = standing_of(record, list(ladder.sitting.uses.all()))
            chart = chart_of(ladder, standing, list(ladder.rungs.values_list("iso", flat=True)))
            if chart is not None:
                return ladder, chart
    return None


def _row(standing: Standing, name: str) -> LimitRow:
    marks = []
    by_level = {one.level: one for one in standing.proposals if one.use.name == name}
    for level in LEVELS:
        proposal = by_level[level]
        iso, measured = standing.mark_of(proposal), proposal.measured
        if iso is not None:
            low, high = (measured.low, measured.high) if iso == measured.mark else (None, None)
            marks.append(LimitMark(level, iso, low, high, standing.is_open_ended(proposal)))
    known = any(standing.tells(one) for one in by_level.values())
    return LimitRow(name, marks, "no ISO setting is usable" if known else "not measured yet")
