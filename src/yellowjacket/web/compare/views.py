"""Compare: two to six ladders on one stop axis; the address holds the whole comparison."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.text import slugify
from django.views.decorators.http import require_POST

from yellowjacket.bench.compare import bodies, foreign_curves
from yellowjacket.bench.compare.bodies import Comparison
from yellowjacket.bench.models import ForeignCurve, Ladder
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import decimal, whole
from yellowjacket.core.exposure import dial
from yellowjacket.core.limits.body_comparison import COMPARED
from yellowjacket.core.limits.foreign_curves import QUANTITIES as FOREIGN
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.web.compare.crops import crops_of
from yellowjacket.web.graphics.chart import Curve, Layout, Point, axis_in, axis_of, chart
from yellowjacket.web.graphics.drawing import Drawing
from yellowjacket.web.graphics.scale import Scale
from yellowjacket.web.refusals import carried_out

_LAYOUT = Layout(1040, 240, left=48, right=6, top=16, foot=30, text=12, dot=3.6, line=2, axis_at=42, marks_at=10)
# Of the first and the last mark, so that their words stand whole.
_INDENT_PX = 20.0
_MOST_PIXELS = 10**12


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
    every = bodies.comparable()
    keys = {str(ladder.pk): ladder.pk for ladder in every}
    named = [keys[key] for key in dict.fromkeys(request.GET.getlist("ladder")) if key in keys]
    whole_ladders = Ladder.objects.select_related("body", "sitting").prefetch_related("rungs", "sitting__uses")
    by_id = whole_ladders.in_bulk(named)
    wanted = [by_id[key] for key in named]
    offered = every if request.GET.get("all") else bodies.offered_of(every, named)
    pixels = whole(request.GET.get("size"), 1, _MOST_PIXELS)
    context: dict[str, object] = {
        "place": "compare", "offered": offered, "left_out": len(every) - len(offered), "wanted": wanted,
        "sizes": bodies.sizes_of(wanted) if wanted else [], "size": pixels, "fewest": bodies.FEWEST, "most": bodies.MOST,
        "groups": bodies.by_sensor(offered), "foreign": foreign_curves.known(), "foreign_quantities": FOREIGN.items(),
    }  # fmt: skip
    if wanted:
        try:
            found = bodies.compare(wanted, pixels)
            elsewhere = _foreign(found, pixels)
            context |= {
                "found": found, "lines": _lines(found, elsewhere), "charts": _charts(found, elsewhere),
                "crops": crops_of(found, pixels),
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
class Unfolded:
    """A quantity along ISO: its name, its curves as the legend tells them apart, and the chart."""

    name: str
    unit: str
    curves: Sequence[tuple[str, str]]
    chart: Drawing

    @property
    def key(self) -> str:
        """For an address within the page."""
        return slugify(f"chart {self.name}")


def _charts(found: Comparison, elsewhere: Sequence[tuple[Measurand | None, Line]]) -> list[Unfolded]:
    """Every quantity of the sheet, shadow SNR first, with what somebody else has a curve of."""
    foreign: dict[tuple[str, str], list[Line]] = {}
    ordered = sorted(COMPARED, key=lambda one: one is not Measurand.SHADOW_SNR)
    own = {(one.described.words, one.described.short_unit): one for one in ordered}
    for beside, line in elsewhere:
        foreign.setdefault((line.quantity, line.unit), []).append(line)
        if beside is not None:
            own[line.quantity, line.unit] = beside
    criteria = found.ladders[0].ladder.sitting.profile.criteria.criteria
    marks = [(_x(found, mark), str(mark)) for mark in found.marks]
    charts = []
    for name, unit in dict.fromkeys([*own, *foreign]):
        quantity = own.get((name, unit))
        rows = [(line.name, role_of(-1), line.cells) for line in foreign.get((name, unit), [])]
        if quantity is not None:
            ours = [(one, [one.at(mark, quantity) for mark in found.marks]) for one in found.ladders]
            rows = [(one.name, role_of(n), cells) for n, (one, cells) in enumerate(ours)] + rows
        bars = [(level, one.threshold(level)) for one in criteria if one.quantity is quantity for level in LEVELS]
        axis = axis_of(quantity.described) if quantity is not None else axis_in(unit)
        curves = [_curve(found, *row) for row in rows]
        drawn = chart(f"{name} along ISO", curves, _LAYOUT, axis=axis, thresholds=bars, marks=marks)
        if drawn is not None:
            charts.append(Unfolded(name, unit, [(said, role) for said, role, _ in rows], drawn.drawing))
    return charts


def role_of(style: int) -> str:
    """How the styles know a curve; below 0 it is from elsewhere."""
    return "body-curve elsewhere" if style < 0 else f"body-curve style-{style}"


def _curve(found: Comparison, name: str, role: str, cells: Sequence[Quantity | None]) -> Curve:
    """A body's own marks, joined across those that only others have."""
    return Curve(
        [
            Point(_x(found, mark), q, f"{name}, ISO {mark}: {q.value:.3g}")
            for mark, q in zip(found.marks, cells, strict=True)
            if q is not None and q.value is not None
        ],
        role,
    )


def _x(found: Comparison, mark: int) -> float:
    first, last = (dial.exact_iso(one) for one in (found.marks[0], found.marks[-1]))
    axis = Scale(first, last, _LAYOUT.left + _INDENT_PX, _LAYOUT.width - _LAYOUT.right - _INDENT_PX, logarithmic=True)
    return axis.at(dial.exact_iso(mark))


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
