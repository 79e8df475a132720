"""The lines of findings on the Measure page: each can be unfolded to a chart with its intervals, or folded to a spark."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from yellowjacket.bench.models import Patch, Reading, Rung
from yellowjacket.core.limits.tolerance import LEVELS, Criterion
from yellowjacket.web.sheet.charts import Spark, chart_of, spark_of
from yellowjacket.web.sheet.lines import Readings, reading_cell
from yellowjacket.web.sheet.stave import Cell, Line
from yellowjacket.web.sitting_page import SittingPage
from yellowjacket.web.templatetags import values

CHART, NUMBERS, FOLDED = "chart", "numbers", "folded"
STATES = (CHART, NUMBERS, FOLDED)
_SESSION_KEY = "measure-lines"
_CHART_HEIGHT_PX = 150
_CLIPPED_CHANNELS = ("R", "G1", "G2", "B")
_ERROR_ALLOWED_STOPS = 1 / 6


def _three(reading: Reading) -> str:
    return values.number(reading.value)


def two_text(reading: Reading) -> str:
    """Two digits."""
    return values.number(reading.value, 2)


def share_text(reading: Reading) -> str:
    """A share as per cent."""
    return values.share(reading.value)


def signed_text(reading: Reading) -> str:
    """Stops with their sign."""
    return values.stops_signed(reading.value)


def _words(reading: Reading) -> str:
    return reading.reason if reading.value else ""


@dataclass(frozen=True, slots=True)
class LineKind:
    """A line of findings: which reading it shows, how, and how it begins."""

    key: str
    name: str
    sub: str
    quantity: str
    channel: str = "all"
    role: str | None = None
    text: Callable[[Reading], str] = field(default=_three)
    begins: str = FOLDED
    criterion: str = ""
    linear: bool = False
    # Whether it reads otherwise at the size of a use.
    sized: bool = False


KINDS: tuple[LineKind, ...] = (
    LineKind("grey_snr", "Grey SNR", "green", "snr", "G", Patch.Role.GREY, begins=CHART, criterion="grey_snr", sized=True),
    LineKind("shadow", "Shadow SNR", "3 stops under the grey", "shadow_snr", "G", begins=NUMBERS, criterion="shadow_snr",
             sized=True),
    LineKind("chroma", "Chroma noise", "σ of a*b*", "noise_chroma", role=Patch.Role.GREY, begins=NUMBERS,
             criterion="chroma_noise", sized=True),
    LineKind("luma", "Luma noise", "σ of L*", "noise_luma", role=Patch.Role.GREY, sized=True),
    LineKind("grain", "Grain", "px wide", "grain_px", role=Patch.Role.GREY, text=two_text, sized=True),
    LineKind("detail", "Detail", "of the base rung's", "detail_share", role=Patch.Role.TEXTURE, text=share_text, begins=NUMBERS,
             criterion="detail", sized=True),
    LineKind("lines", "Finest detail", "line pairs a height", "detail", role=Patch.Role.TEXTURE, sized=True),
    LineKind("colour-detail", "Colour detail", "of the base rung's", "colour_detail_share", role=Patch.Role.COLOUR_TEXTURE,
             text=share_text, sized=True),
    LineKind("range", "Range", "stops to SNR 1", "range_snr1", begins=NUMBERS, sized=True),
    LineKind("wedge", "Wedge", "stops to SNR 1, seen", "wedge_snr1", "G"),
    LineKind("floor", "Wedge floor", "stops to stray light", "wedge_floor", "G"),
    LineKind("headroom", "Headroom", "stops over the grey", "headroom_stops", linear=True),
    LineKind("read", "Read noise", "e⁻, all channels", "read_noise_e", begins=NUMBERS),
    LineKind("gain", "Gain", "e⁻/DN", "gain_e_per_dn"),
    LineKind("saturation", "Saturation", "e⁻, mean of channels", "saturation_e"),
    LineKind("rows", "Row noise", "DN, in the darks", "row_noise_dn", text=two_text),
    LineKind("columns", "Column noise", "DN, in the darks", "column_noise_dn", text=two_text),
    LineKind("flags", "Watch out", "findings in the raw file", "flags", text=_words, begins=NUMBERS),
    LineKind("error", "Exposure error", "stops, ±1/6 allowed", "exposure_error_stops", text=signed_text, begins=NUMBERS,
             linear=True),
    LineKind("drift", "Neutral drift", "ΔE00 from base", "neutral_drift_de00", text=two_text, begins=NUMBERS,
             criterion="neutral_drift"),
    LineKind("drift-red", "Red drift", "stops against green", "drift_red_stops", text=signed_text, linear=True),
    LineKind("drift-blue", "Blue drift", "stops against green", "drift_blue_stops", text=signed_text, linear=True),
    LineKind("colours", "Colour patches", "mean ΔE00 from base", "colour_de00", text=two_text),
    LineKind("saturation-kept", "Saturation kept", "of the base rung's", "saturation_kept", text=share_text, begins=NUMBERS,
             criterion="saturation_kept"),
    LineKind("blacks", "Black lift", "L* from base", "black_lift", text=two_text, linear=True),
    LineKind("clipped", "Clipped", "share of the grey patch", "clipped_share", role=Patch.Role.GREY, text=share_text,
             linear=True),
)  # fmt: skip
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
        if not any(found) or (kind.text is _words and not any(reading and reading.value for reading in found)):
            continue
        state = states.get(kind.key, kind.begins)
        line = _chart_line(page, kind, found, column_px) if state == CHART else None
        if state == FOLDED:
            quantities = [reading.result if reading else None for reading in found]
            folded.append(Folded(kind.key, kind.name, _sub(page, kind), spark_of(quantities)))
        else:
            lines.append(line or _number_line(page, kind, found))
    return lines, folded


def _reading(readings: Readings, rung: Rung, kind: LineKind) -> Reading | None:
    if kind.quantity == "clipped_share":
        return readings.worst_share(rung, kind.role or Patch.Role.GREY)
    return readings.get(rung, kind.quantity, kind.channel, kind.role)


def _sub(page: SittingPage, kind: LineKind) -> str:
    return f"{kind.sub}, {page.size_short}" if kind.sized else kind.sub


def fixed_lines(page: SittingPage, readings: Readings, kinds: Sequence[LineKind]) -> list[Line]:
    """Lines of numbers that stay as they are, for pages that show a chosen few."""
    lines = []
    for kind in kinds:
        found = [_reading(readings, rung, kind) for rung in page.rungs]
        if any(reading is not None and reading.value is not None for reading in found):
            cells = [_cell(kind, reading) for reading in found]
            lines.append(Line(kind.key, kind.name, _sub(page, kind), cells=cells))
    return lines


def _number_line(page: SittingPage, kind: LineKind, found: Sequence[Reading | None]) -> Line:
    cells = [_cell(kind, reading) for reading in found]
    # Words make no chart.
    unfolds_to = "" if kind.text is _words else CHART
    return Line(kind.key, kind.name, _sub(page, kind), cells=cells, unfolds_to=unfolds_to, folds=True)


def _cell(kind: LineKind, reading: Reading | None) -> Cell:
    text = kind.text(reading) if reading is not None and reading.value is not None else ""
    if reading is None or (reading.value is not None and not text):
        return Cell()
    return reading_cell(reading, text, strong=_stands_out(kind, reading))


def _stands_out(kind: LineKind, reading: Reading) -> bool:
    value = reading.value or 0.0
    if kind.text is _words or kind.quantity == "clipped_share":
        return bool(value)
    return kind.quantity == "exposure_error_stops" and abs(value) > _ERROR_ALLOWED_STOPS


def _chart_line(page: SittingPage, kind: LineKind, found: Sequence[Reading | None], column_px: int) -> Line | None:
    criterion = _criterion(page, kind)
    quantities = [reading.result if reading else None for reading in found]
    labels = [
        f"{rung.label}: {kind.text(reading)} ({values.number(reading.low)} … {values.number(reading.high)})"
        if reading and reading.value is not None
        else ""
        for rung, reading in zip(page.rungs, found, strict=True)
    ]
    thresholds = [(level, criterion.threshold(level)) for level in LEVELS] if criterion else []
    chart = chart_of(
        quantities, labels, thresholds, column_px=column_px, height=_CHART_HEIGHT_PX, linear=kind.linear,
        title=f"{kind.name} of {page.ladder.body}, {_sub(page, kind)}",
        reading_ids=[reading.pk if reading else None for reading in found],
    )  # fmt: skip
    if chart is None:
        return None
    return Line(kind.key, kind.name, _sub(page, kind), "chart", chart=chart, unfolds_to=NUMBERS, folds=True)


def _criterion(page: SittingPage, kind: LineKind) -> Criterion | None:
    return next((one for one in page.sitting.profile.criteria.criteria if one.key == kind.criterion), None)
