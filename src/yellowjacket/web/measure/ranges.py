"""Range by the noise model beside range as the scene's wedge shows it, and in words why the two differ."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yellowjacket.bench.models import Reading, Rung
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing, Remark
from yellowjacket.core.noise.smoothing import noise_hidden_stops
from yellowjacket.core.photon_transfer.dynamic_range import SNR_LEVELS
from yellowjacket.web.templatetags.values import interval

# Less than this apart the two agree, in stops; and smoothing under this is none.
_AGREE_STOPS, _SMOOTH_STOPS = 0.3, 0.05


@dataclass(frozen=True, slots=True)
class RangeRow:
    """A wanted SNR: stops by the model, and by the wedge with what lies over its lightest step."""

    snr: int
    model: Quantity
    wedge: Quantity


@dataclass(frozen=True, slots=True)
class RangeTable:
    """The rows, and sentences on what makes them differ."""

    rows: Sequence[RangeRow]
    why: Sequence[str]
    has_wedge: bool


def range_table(rung: Rung) -> RangeTable | None:
    """What is known of a rung's range per pixel; None where nothing is: one query."""
    wanted = [Measurand(f"{kind}_snr{level}") for kind in ("range", "wedge") for level in SNR_LEVELS]
    more = (Measurand.WEDGE_START, Measurand.WEDGE_FLOOR, Measurand.NEIGHBOUR_CORRELATION)
    found = Reading.objects.speaking((*wanted, *more)).filter(rung=rung, use=None).by_rung().get(rung.pk, {})
    nothing = missing(Missing.NOT_MEASURED)
    start = found.get(Measurand.WEDGE_START, nothing)
    rows = []
    for level in SNR_LEVELS:
        wedge = found.get(Measurand(f"wedge_snr{level}"), nothing)
        whole = wedge.moved(start.value) if wedge.value is not None and start.value is not None else wedge
        rows.append(RangeRow(level, found.get(Measurand(f"range_snr{level}"), nothing), whole))
    if not any(row.model.known for row in rows):
        return None
    has_wedge = any(row.wedge.known for row in rows)
    return RangeTable(rows, list(_why(rows[0], found, start)), has_wedge)


def _why(row: RangeRow, found: Mapping[Measurand, Quantity], start: Quantity) -> list[str]:
    said = []
    lag = found.get(Measurand.NEIGHBOUR_CORRELATION)
    hidden = noise_hidden_stops(lag) if lag is not None and lag.has(Remark.SMOOTHED) else None
    if hidden is not None and (hidden.value or 0.0) > _SMOOTH_STOPS and row.model.value is not None:
        said.append(
            f"of {row.model.value:.1f} stops {hidden.value:.1f} ({interval(hidden)}) are smoothing of the raw: without it "
            f"{row.model.value - (hidden.value or 0.0):.1f} are left"
        )
    if row.wedge.value is None or row.model.value is None:
        return said
    if start.value is not None and start.value > _AGREE_STOPS:
        said.append(f"the wedge begins {start.value:.1f} stops under saturation, which is counted in")
    apart = row.model.value - row.wedge.value
    if abs(apart) <= _AGREE_STOPS:
        said.append("model and wedge agree")
        return said
    floor = found.get(Measurand.WEDGE_FLOOR)
    if row.wedge.bound:
        said.append("the wedge ends before its noise does: it has at least so much")
    elif floor is not None and floor.has(Remark.STRAY_LIGHT) and floor.value is not None:
        said.append(
            f"stray light holds the wedge's dark steps up from {floor.value:.1f} stops on: lens and scene, not the sensor"
        )
    else:
        side = "less" if apart > 0 else "more"
        said.append(
            f"the wedge shows {abs(apart):.1f} stops {side}: it is read through the lens, in steps, on green alone; the model "
            "is the sensor by itself"
        )
    return said
