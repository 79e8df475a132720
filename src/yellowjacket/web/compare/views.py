"""Compare: two to six ladders on one stop axis; the address holds the whole comparison."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from django.contrib import messages
from django.db.models import prefetch_related_objects
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.text import slugify
from django.views.decorators.http import require_POST

from yellowjacket.bench.compare import bodies, foreign_curves
from yellowjacket.bench.compare.bodies import Comparison
from yellowjacket.bench.models import ForeignCurve
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import decimal, whole
from yellowjacket.core.exposure import dial
from yellowjacket.core.limits.body_comparison import COMPARED
from yellowjacket.core.limits.foreign_curves import QUANTITIES as FOREIGN
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.web.compare.crops import crops_of
from yellowjacket.web.graphics.scale import Scale, thresholds_near
from yellowjacket.web.refusals import carried_out

_CHART_PX = (1040.0, 230.0)
_PAD_PX, _LEFT_PX = 26.0, 52.0
_MOST_PIXELS = 10**12
_CHART_ENDS = (_CHART_PX[1] - _PAD_PX, _PAD_PX)


@dataclass(frozen=True, slots=True)
class Curve:
    """A curve in a chart: its line, its points, its interval bars, and which style it has; −1: from elsewhere."""

    name: str
    style: int
    line: str
    points: Sequence[tuple[float, float, float, float, str]]


@dataclass(frozen=True, slots=True)
class Line:
    """A quantity of one ladder, a cell per ISO mark."""

    quantity: str
    unit: str
    name: str
    style: int
    cells: Sequence[Quantity | None]
    first: bool
    # Where the values are somebody else's: their source.
    source: str = ""

    @property
    def key(self) -> str:
        """Of its chart, within the page."""
        return slugify(f"chart {self.quantity}")


def page(request: HttpRequest) -> HttpResponse:
    """Choice, chart and sheet."""
    offered = bodies.comparable()
    prefetch_related_objects(offered, "rungs", "sitting__uses")
    by_id = {str(ladder.pk): ladder for ladder in offered}
    wanted = [by_id[key] for key in dict.fromkeys(request.GET.getlist("ladder")) if key in by_id]
    pixels = whole(request.GET.get("size"), 1, _MOST_PIXELS)
    context: dict[str, object] = {
        "place": "compare", "offered": offered, "wanted": wanted, "sizes": bodies.sizes_of(wanted) if wanted else [],
        "size": pixels, "most": bodies.MOST, "groups": bodies.by_sensor(offered),
        "foreign": foreign_curves.known(), "foreign_quantities": FOREIGN.items(),
    }  # fmt: skip
    if wanted:
        try:
            found = bodies.compare(wanted, pixels)
            elsewhere = _foreign(found, pixels)
            context |= {
                "found": found, "lines": _lines(found, elsewhere), "charts": _charts(found, elsewhere), "chart_px": _CHART_PX,
                "crops": crops_of(found, pixels),
                "axis": [(x, mark) for mark in found.marks if (x := _x(found, mark)) is not None],
            }  # fmt: skip
        except Refusal as refusal:
            context["refusal"] = str(refusal)
    return render(request, "compare/page.html", context)


def _foreign(found: Comparison, pixels: int | None) -> list[tuple[Measurand | None, Line]]:
    """Curves from elsewhere that were given at this size, on the marks of the comparison, with what they may stand beside."""
    lines = []
    for curve in foreign_curves.known().filter(output_pixels=pixels or 0):
        values = {mark: value for mark, value in curve.points if mark in found.marks}
        if values:
            cells = [Quantity(values[mark]) if mark in values else None for mark in found.marks]
            known = FOREIGN[curve.quantity]
            lines.append((known.beside, Line(known.name, known.unit, curve.name, -1, cells, False, curve.source)))
    return lines


def _lines(found: Comparison, elsewhere: Sequence[tuple[Measurand | None, Line]]) -> list[Line]:
    """Own readings by quantity, each with what others say of it below; then what only others say."""
    lines: list[Line] = []
    for quantity in COMPARED:
        name, unit = quantity.described.words, quantity.described.short_unit
        rows = [(n, one, [one.at(mark, quantity) for mark in found.marks]) for n, one in enumerate(found.ladders)]
        beside = [line for own, line in elsewhere if own is quantity]
        if any(cell is not None and cell.value is not None for _, _, cells in rows for cell in cells):
            lines += [Line(name, unit, one.name, n, cells, n == 0) for n, one, cells in rows]
        elif beside:
            beside[0] = replace(beside[0], first=True)
        lines += beside
    alone = [line for own, line in elsewhere if own is None]
    return lines + [replace(line, first=n == 0) for n, line in enumerate(alone)]


@dataclass(frozen=True, slots=True)
class Chart:
    """A quantity along ISO: its name, and the curves of the bodies, those from elsewhere dashed."""

    name: str
    unit: str
    curves: Sequence[Curve]
    # Round values and their places, and the thresholds of the profile that looks at it.
    ticks: Sequence[tuple[str, float]]
    thresholds: Sequence[tuple[str, float]] = ()

    @property
    def key(self) -> str:
        """For an address within the page."""
        return slugify(f"chart {self.name}")


def _charts(found: Comparison, elsewhere: Sequence[tuple[Measurand | None, Line]]) -> list[Chart]:
    """Every quantity of the sheet, shadow SNR first, with what somebody else has a curve of."""
    foreign: dict[tuple[str, str], list[Line]] = {}
    ordered = sorted(COMPARED, key=lambda one: one is not Measurand.SHADOW_SNR)
    own = {(one.described.words, one.described.short_unit): one for one in ordered}
    for beside, line in elsewhere:
        foreign.setdefault((line.quantity, line.unit), []).append(line)
        if beside is not None:
            own[line.quantity, line.unit] = beside
    criteria = found.ladders[0].ladder.sitting.profile.criteria.criteria
    charts = []
    for key in dict.fromkeys([*own, *foreign]):
        bodies_ = [
            (one.name, n, [one.at(mark, own[key]) for mark in found.marks]) for n, one in enumerate(found.ladders)
        ]
        rows = (bodies_ if key in own else []) + [(line.name, -1, line.cells) for line in foreign.get(key, [])]
        values = [q.value for _, _, cells in rows for q in cells if q is not None and q.value is not None]
        if not values:
            continue
        bars = [
            (level, one.threshold(level)) for one in criteria if one.quantity is own.get(key) for level in LEVELS
        ]  # fmt: skip
        near = thresholds_near(values, bars)
        ends = [*values, *(bar for _, bar in near)]
        low, high = min(ends), max(ends)
        # Stops, and what may be nothing, stand on a straight axis, ratios and electrons on a logarithmic one.
        if key[1] == "stops" or low <= 0:
            room = 0.5 if key[1] == "stops" else 0.06 * (high - low)
            axis = Scale(low - (room if low > 0 else 0), high + room, *_CHART_ENDS)
        else:
            axis = Scale(low / 1.2, high * 1.2, *_CHART_ENDS, logarithmic=True)
        ticks = [(f"{value:g}", y) for value, y in axis.round_ticks()]
        shown = [(f"{level} {bar:g}", axis.at(bar)) for level, bar in near]
        charts.append(Chart(key[0], key[1], [_curve(found, axis, *row) for row in rows], ticks, shown))
    return charts


def _curve(found: Comparison, axis: Scale, name: str, style: int, cells: Sequence[Quantity | None]) -> Curve:
    points = []
    for mark, q in zip(found.marks, cells, strict=True):
        if q is not None and q.value is not None and (q.value > 0 or not axis.logarithmic):
            high, low = (axis.at(_end(end, q.value, axis)) for end in (q.high, q.low))
            points.append((_x(found, mark), axis.at(q.value), high, low, f"{name}, ISO {mark}: {q.value:.3g}"))
    return Curve(name, style, " ".join(f"{x:.1f},{y:.1f}" for x, y, *_ in points), points)


def _end(end: float | None, value: float, axis: Scale) -> float:
    """The end of an interval where the axis can show it."""
    return value if end is None or (axis.logarithmic and end <= 0) else end


def _x(found: Comparison, mark: int) -> float:
    first, last = (dial.exact_iso(one) for one in (found.marks[0], found.marks[-1]))
    return Scale(first, last, _LEFT_PX, _CHART_PX[0] - _PAD_PX, logarithmic=True).at(dial.exact_iso(mark))


@require_POST
def take_in(request: HttpRequest) -> HttpResponse:
    """Keep a curve from elsewhere; back to the comparison."""
    upload, said = request.FILES.get("curve"), request.POST

    def action() -> None:
        if upload is None:
            raise Refusal("Choose a CSV file: ISO and value in two columns, with a heading.")
        foreign_curves.take_in(
            upload.read(foreign_curves.LARGEST_BYTES + 1), upload.name or "the file", name=said.get("name", ""),
            quantity=said.get("quantity", ""), unit=said.get("unit", ""), output_pixels=_pixels(said.get("megapixels", "")),
            source=said.get("source", ""),
        )  # fmt: skip

    if carried_out(request, action):
        messages.success(request, "The curve is kept, marked as foreign data.")
    return redirect(f"{reverse('compare:page')}?{request.GET.urlencode()}")


def _pixels(megapixels: str) -> int:
    """Pixels of a size given in megapixels, 0 where none is given."""
    if not megapixels.strip():
        return 0
    found = decimal(megapixels, 0.001, 1e6)
    if found is None:
        raise Refusal("The size is given in megapixels; leave it empty for a curve per pixel.")
    return round(1e6 * found)


@require_POST
def delete(request: HttpRequest, curve_id: int) -> HttpResponse:
    """Remove a curve from elsewhere."""
    foreign_curves.delete(get_object_or_404(ForeignCurve, pk=curve_id))
    return redirect(f"{reverse('compare:page')}?{request.GET.urlencode()}")
