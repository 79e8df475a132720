"""The lines of the time ladder's stave."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from django.db.models import Q

from yellowjacket.bench.darks import masters
from yellowjacket.bench.darks.measure import DarkInputs, MeasuredDarks
from yellowjacket.bench.darks.sensor_temperature import Warmth
from yellowjacket.bench.models import Frame, Reading, Rung
from yellowjacket.core.darks.exposure_group import TimeFindings
from yellowjacket.core.darks.lenr import LenrTime
from yellowjacket.core.darks.usable_exposure import LIFTED_STOPS
from yellowjacket.core.limits.exposure_advice import SHADOW_STOPS
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.core.metadata.capture import Thermometer
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import DARK_MEASURANDS, Measurand
from yellowjacket.web.graphics.chart import RATIOS
from yellowjacket.web.pictures import UNTREATED, Treated
from yellowjacket.web.sheet.charts import in_columns
from yellowjacket.web.sheet.lines import CROP_HEIGHT_PX, Crops
from yellowjacket.web.sheet.stave import Cell, Line
from yellowjacket.web.sitting_page import SittingPage
from yellowjacket.web.templatetags import values

_CHART_HEIGHT_PX = 132
_SOURCES = {"entered": "entered by hand", "file": "from the file", "instrument": "from the simulated instruments"}


@dataclass(frozen=True, slots=True)
class TimeView:
    """What the page shows: the ladder's darks, the rungs that are columns, the size of the use."""

    page: SittingPage
    found: MeasuredDarks
    rungs: Sequence[Rung]
    factor: float
    inputs: DarkInputs

    def of(self, rung: Rung) -> TimeFindings:
        """Findings of a column."""
        return self.found.by_rung[rung.pk]

    @property
    def size_words(self) -> str:
        """At which size hot pixels are counted."""
        return self.page.size_short


def lines_of(view: TimeView, column_px: int) -> list[Line]:
    """All lines that have anything to show."""
    of_scene = Q(quantity=Measurand.SHADOW_SNR, channel="all", value__isnull=False)
    rows = Reading.objects.filter(of_scene | Q(quantity__in=DARK_MEASURANDS, patch=None), rung__in=view.rungs, use=None)
    readings = {(row.rung_id, row.quantity): row.pk for row in rows}
    shadows = {row.rung_id: row for row in rows if row.quantity == Measurand.SHADOW_SNR}
    lenr = {one.exposure_s: one for one in view.found.whole.lenr(view.factor)}
    found = [
        _warmth(view),
        *_dark_crops(view, column_px),
        _hot(view, column_px, readings),
        _numbers(
            view,
            "repaired",
            "After repair",
            f"per megapixel, {view.size_words}",
            readings,
            Measurand.HOT_REPAIRED_PER_MPIX,
            lambda one: view.found.whole.showing_per_mpix(one, view.factor, repaired=True),
        ),
        _lenr(view, "lenr", "With LENR", f"points per megapixel, {view.size_words}", lenr, lambda one: one.on),
        _lenr(view, "lost", "Clipped", "per megapixel: LENR leaves holes", lenr, lambda one: one.lost),
        _numbers(
            view,
            "outstanding",
            "Out of the dark",
            f"hot per megapixel, {view.size_words}",
            readings,
            Measurand.HOT_PER_MPIX,
            lambda one: view.found.whole.hot_per_mpix(one, view.factor),
        ),
        _numbers(
            view,
            "signal",
            "Dark signal",
            "e⁻, ordinary pixels",
            readings,
            Measurand.DARK_SIGNAL_E,
            view.found.whole.signal_e,
        ),
        _numbers(
            view, "noise", "Noise", "DN, ordinary pixels", readings, Measurand.DARK_NOISE_DN, lambda one: one.noise_dn
        ),
        _lenr(view, "noise-ratio", "Noise with LENR", "times that without", lenr, lambda one: one.noise_ratio),
        _snr(view, readings),
        _scene(view, shadows),
        _numbers(view, "rows", "Row noise", "DN", readings, Measurand.DARK_ROWS_DN, lambda one: one.rows_dn),
        _numbers(
            view, "columns", "Column noise", "DN", readings, Measurand.DARK_COLUMNS_DN, lambda one: one.columns_dn
        ),
        _faults(view),
    ]
    return [
        line
        for line in found
        if line is not None and (line.chart or any(cell.text or cell.extra for cell in line.cells))
    ]


def _dark_crops(view: TimeView, column_px: int) -> list[Line]:
    """The middle of a dark of every time as a lifted picture would show it: as shot, repaired, with LENR, and less the master
    dark of its time where the library has one."""
    crops = Crops.of(view.page)
    rungs: Sequence[Rung] = view.page.ladder.rungs.all()
    with_lenr = {rung.exposure_s: rung for rung in rungs if rung.lenr}
    size = (column_px - 2, CROP_HEIGHT_PX)

    def first(rung: Rung) -> Frame | None:
        return next(iter(view.inputs.frames.get(rung.pk, ())), None)

    def shown(rung: Rung | None, treated: Treated | None = UNTREATED) -> Cell:
        frame = first(rung) if rung is not None else None
        if rung is None or frame is None or treated is None:
            return Cell()
        return Cell(extra=crops.of_dark(frame, rung, size, LIFTED_STOPS - SHADOW_STOPS, view.factor, treated))

    def repaired(rung: Rung) -> Treated | None:
        table = view.of(rung).pixels
        return None if table is None else Treated(repair_dn=table.repair_bar_dn)

    masters_ = masters.same_time(
        [one for rung in view.rungs if (one := first(rung))], view.page.ladder.body, view.inputs.warmth
    )

    def less_master(rung: Rung) -> Treated | None:
        frame = first(rung)
        master = masters_.get(frame.pk) if frame is not None else None
        return None if master is None else Treated(master)

    rows = [
        ("dark-crops", "Dark", [shown(rung) for rung in view.rungs]),
        ("repaired-crops", "Lone points repaired", [shown(rung, repaired(rung)) for rung in view.rungs]),
        ("lenr-crops", "Dark with LENR", [shown(with_lenr.get(rung.exposure_s)) for rung in view.rungs]),
    ]
    if masters_:
        less = [shown(rung, less_master(rung)) for rung in view.rungs]
        rows.append(("master-crops", "Less master dark", [cell if cell.extra else Cell("no master") for cell in less]))
    where = f"lifted by two stops, {view.size_words}"
    return [Line(key, name, where, "crops", cells) for key, name, cells in rows]


def _warmth(view: TimeView) -> Line:
    cells = []
    for rung in view.rungs:
        known = view.found.warmth.get(rung.pk)
        cells.append(Cell(_degrees(known), title=_source_in_words(known)) if known else Cell())
    said = {known.thermometer for known in view.found.warmth.values()}
    # A body's thermometer, or the air's, is not the sensor's: where it was stays with the numbers.
    only = next(iter(said)) if len(said) == 1 else None
    where = f"°C {only.words}, as the files say" if only is not None else "°C, mean of its darks"
    return Line("warmth", "Temperature" if only not in (None, Thermometer.SENSOR) else "Sensor", where, cells=cells)


def _degrees(known: Warmth) -> str:
    """The mean of a rung, or where its darks began and ended, if it warmed up or cooled down."""
    return f"{known.course[0]:.1f}–{known.course[-1]:.1f}" if known.warmed else f"{known.celsius:.1f}"


def _source_in_words(known: Warmth) -> str:
    words = _SOURCES[known.source]
    return f"{words}: {known.thermometer.words}" if known.thermometer is not None else words


def _quantity_cell(quantity: Quantity, reading_id: int | None, *, strong: bool = False) -> Cell:
    if quantity.value is None:
        return Cell("–", title=quantity.reason)
    text = values.number(quantity.value) if abs(quantity.value) >= 0.005 else "0"
    interval = f"95 %: {values.number(quantity.low)} … {values.number(quantity.high)}"
    return Cell(text, strong, interval, reading_id=reading_id)


def _numbers(
    view: TimeView, key: str, name: str, sub: str, readings: Mapping[tuple[int, str], int], quantity: str,
    value: Callable[[TimeFindings], Quantity],
) -> Line | None:  # fmt: skip
    found = [value(view.of(rung)) for rung in view.rungs]
    if not any(one.value for one in found):
        return None
    # A value at a use's size is not the reading, which is per pixel.
    plain = view.factor == 1.0 or not quantity.startswith("hot")
    return Line(key, name, sub, cells=[
        _quantity_cell(one, readings.get((rung.pk, quantity)) if plain else None)
        for rung, one in zip(view.rungs, found, strict=True)
    ])  # fmt: skip


def _hot(view: TimeView, column_px: int, readings: Mapping[tuple[int, str], int]) -> Line:
    criterion = view.page.sitting.profile.criteria.long_exposure[0]
    found = [view.found.whole.showing_per_mpix(view.of(rung), view.factor) for rung in view.rungs]
    labels = [
        f"{rung.shutter_label}: {values.number(one.value)} ({values.number(one.low)} … {values.number(one.high)})"
        for rung, one in zip(view.rungs, found, strict=True)
    ]
    where = "in a lifted shadow" if view.found.whole.shadow_dn2 else "over the dark"
    name, sub = "Hot pixels", f"per megapixel, {where}, {view.size_words}"
    kept = [readings.get((rung.pk, Measurand.HOT_SHOWING_PER_MPIX)) for rung in view.rungs]
    chart = in_columns(
        f"{name} of {view.page.ladder.body}, {sub}", found, labels,
        [(level, criterion.threshold(level)) for level in LEVELS], axis=RATIOS, column_px=column_px, height=_CHART_HEIGHT_PX,
        reading_ids=kept if view.factor == 1.0 else [None] * len(kept),
    )  # fmt: skip
    cells = [_quantity_cell(one, None) for one in found]
    return Line("hot", name, sub, "chart" if chart else "text", cells, chart)


def _lenr(
    view: TimeView, key: str, name: str, sub: str, lenr: Mapping[float, LenrTime], value: Callable[[LenrTime], Quantity]
) -> Line | None:
    if not lenr:
        return None
    cells = []
    for rung in view.rungs:
        one = lenr.get(view.of(rung).group.exposure_s)
        cells.append(_quantity_cell(value(one), None) if one else Cell())
    return Line(key, name, sub, cells=cells)


def _snr(view: TimeView, readings: Mapping[tuple[int, str], int]) -> Line | None:
    criterion = view.page.sitting.profile.criteria.long_exposure[1]
    found = [view.found.whole.snr(view.of(rung), view.factor) for rung in view.rungs]
    if not any(one.value for one in found):
        return None
    cells = [
        _quantity_cell(
            one, readings.get((rung.pk, Measurand.LIFTED_SHADOW_SNR)) if view.factor == 1.0 else None,
            strong=one.value is not None and not criterion.holds(one.value, "usable"),
        )
        for rung, one in zip(view.rungs, found, strict=True)
    ]  # fmt: skip
    return Line("snr", "Lifted shadow", f"SNR at +2 stops, {view.size_words}", cells=cells)


def _scene(view: TimeView, found: Mapping[int, Reading]) -> Line:
    """What the scene's own shadow has, where light frames of the ladder were measured. ``found``: by rung id."""
    cells = [_quantity_cell(found[r.pk].result, found[r.pk].pk) if r.pk in found else Cell() for r in view.rungs]
    return Line("scene", "Scene’s shadow", "SNR, 3 stops under grey", cells=cells)


def _faults(view: TimeView) -> Line:
    by_time = {fault.group.paths: fault for fault in view.found.whole.faults}
    cells = []
    for rung in view.rungs:
        fault = by_time.get(view.of(rung).group.paths)
        words = {"leak": "light leak", "above-line": "over the line"}
        cells.append(Cell(words[fault.code], True, f"{fault.words} {fault.remedy}") if fault else Cell())
    return Line("faults", "Watch out", "reasons below", cells=cells)
