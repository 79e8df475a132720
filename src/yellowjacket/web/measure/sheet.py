"""The lines of findings on the Measure page: each can be unfolded to a chart with its intervals, or folded to a spark."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from yellowjacket.bench.models import Rung
from yellowjacket.core.limits.tolerance import LEVELS, Criterion
from yellowjacket.core.metrology.measurands import REGISTRY, Measurand, Shown, Style
from yellowjacket.core.metrology.notes import in_words
from yellowjacket.web.graphics.chart import axis_of
from yellowjacket.web.sheet.charts import Spark, in_columns, spark_of
from yellowjacket.web.sheet.lines import Readings, SeenReading, reading_cell
from yellowjacket.web.sheet.stave import Cell, Line
from yellowjacket.web.sitting_page import SittingPage
from yellowjacket.web.templatetags import values

STATES = (Shown.CHART, Shown.NUMBERS, Shown.FOLDED)
_SESSION_KEY = "measure-lines"
_CHART_HEIGHT_PX = 150
_ERROR_ALLOWED_STOPS = 1 / 6


def _remark(reading: SeenReading) -> str:
    return in_words(reading.result.notes, ", ") if reading.value else ""


_TEXTS: Mapping[Style, Callable[[SeenReading], str]] = {
    Style.THREE_DIGITS: lambda reading: values.number(reading.value),
    Style.TWO_DIGITS: lambda reading: values.number(reading.value, 2),
    Style.PER_CENT: lambda reading: values.share(reading.value),
    Style.STOPS: lambda reading: values.stops_signed(reading.value),
    Style.REMARK: _remark,
}


@dataclass(frozen=True, slots=True)
class LineKind:
    """A line of findings: which reading it shows, and how."""

    key: str
    name: str
    sub: str
    quantity: Measurand
    channel: str
    # Of the patch that is read; empty for the rung as a whole.
    role: str
    text: Callable[[SeenReading], str]

    @classmethod
    def of(
        cls, quantity: Measurand, *, key: str = "", name: str = "", sub: str = "", role: str | None = None,
        text: Callable[[SeenReading], str] | None = None,
    ) -> LineKind:  # fmt: skip
        """The line of a quantity, as the registry has it but for what is given."""
        known = quantity.described
        return cls(
            key or quantity, name or known.words, sub or known.said_in, quantity, known.channel,
            known.role if role is None else role, text or _TEXTS[known.style],
        )  # fmt: skip


KINDS = tuple(LineKind.of(quantity) for quantity, known in REGISTRY.items() if known.shown is not Shown.NOWHERE)
BY_KEY = {kind.key: kind for kind in KINDS}


@dataclass(frozen=True, slots=True)
class Folded:
    """A folded line: its name and the spark of its course."""

    key: str
    name: str
    sub: str
    spark: Spark | None


def set_state(page: SittingPage, key: str, state: str) -> None:
    """Remember how a line is wanted; unknown lines and states are passed over."""
    if key in BY_KEY and state in STATES:
        page.request.session[_SESSION_KEY] = {**page.request.session.get(_SESSION_KEY, {}), key: state}


def finding_lines(page: SittingPage, readings: Readings, column_px: int) -> tuple[list[Line], list[Folded]]:
    """Lines in their order, and those that are folded; what was never measured on the ladder is left out."""
    states: Mapping[str, str] = page.request.session.get(_SESSION_KEY, {})
    lines: list[Line] = []
    folded: list[Folded] = []
    for kind in KINDS:
        found = [_reading(readings, rung, kind) for rung in page.rungs]
        if not any(found) or (kind.text is _remark and not any(reading and reading.value for reading in found)):
            continue
        state = states.get(kind.key, kind.quantity.described.shown)
        line = _chart_line(page, kind, found, column_px) if state == Shown.CHART else None
        if state == Shown.FOLDED:
            quantities = [reading.result if reading else None for reading in found]
            folded.append(Folded(kind.key, kind.name, _sub(page, kind), spark_of(quantities)))
        else:
            lines.append(line or _number_line(page, kind, found))
    return lines, folded


def _reading(readings: Readings, rung: Rung, kind: LineKind) -> SeenReading | None:
    if kind.quantity == Measurand.CLIPPED_SHARE:
        return readings.worst_share(rung, kind.role)
    return readings.get(rung, kind.quantity, kind.channel, kind.role or None)


def _sub(page: SittingPage, kind: LineKind) -> str:
    return f"{kind.sub}, {page.size_short}" if kind.quantity.described.sized else kind.sub


def fixed_lines(page: SittingPage, readings: Readings, kinds: Sequence[LineKind]) -> list[Line]:
    """Lines of numbers that stay as they are, for pages that show a chosen few."""
    lines = []
    for kind in kinds:
        found = [_reading(readings, rung, kind) for rung in page.rungs]
        if any(reading is not None and reading.value is not None for reading in found):
            cells = [_cell(kind, reading) for reading in found]
            lines.append(Line(kind.key, kind.name, _sub(page, kind), cells=cells))
    return lines


def _number_line(page: SittingPage, kind: LineKind, found: Sequence[SeenReading | None]) -> Line:
    cells = [_cell(kind, reading) for reading in found]
    # Words make no chart.
    unfolds_to = "" if kind.text is _remark else Shown.CHART
    return Line(kind.key, kind.name, _sub(page, kind), cells=cells, unfolds_to=unfolds_to, folds=True)


def _cell(kind: LineKind, reading: SeenReading | None) -> Cell:
    text = kind.text(reading) if reading is not None and reading.value is not None else ""
    if reading is None or (reading.value is not None and not text):
        return Cell()
    return reading_cell(reading, text, strong=_stands_out(kind, reading))


def _stands_out(kind: LineKind, reading: SeenReading) -> bool:
    value = reading.value or 0.0
    if kind.text is _remark or kind.quantity == Measurand.CLIPPED_SHARE:
        return bool(value)
    return kind.quantity == Measurand.EXPOSURE_ERROR_STOPS and abs(value) > _ERROR_ALLOWED_STOPS


def _chart_line(page: SittingPage, kind: LineKind, found: Sequence[SeenReading | None], column_px: int) -> Line | None:
    criterion = _criterion(page, kind)
    quantities = [reading.result if reading else None for reading in found]
    labels = [
        f"{rung.label}: {kind.text(reading)} ({values.number(reading.low)} … {values.number(reading.high)})"
        if reading and reading.value is not None
        else ""
        for rung, reading in zip(page.rungs, found, strict=True)
    ]
    thresholds = [(level, criterion.threshold(level)) for level in LEVELS] if criterion else []
    chart = in_columns(
        f"{kind.name} of {page.ladder.body}, {_sub(page, kind)}", quantities, labels, thresholds,
        axis=axis_of(kind.quantity.described), column_px=column_px, height=_CHART_HEIGHT_PX,
        reading_ids=[reading.pk if reading else None for reading in found],
    )  # fmt: skip
    if chart is None:
        return None
    return Line(kind.key, kind.name, _sub(page, kind), "chart", chart=chart, unfolds_to=Shown.NUMBERS, folds=True)


def _criterion(page: SittingPage, kind: LineKind) -> Criterion | None:
    return next((one for one in page.sitting.profile.criteria.criteria if one.quantity == kind.quantity), None)
