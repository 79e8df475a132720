"""Range by the noise model beside range as the scene's wedge shows it, and why the two differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.bench.models import Reading, Rung
from yellowjacket.core.image_quality.wedge_and_model import why_they_differ
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing, Note
from yellowjacket.core.photon_transfer.dynamic_range import SNR_LEVELS


@dataclass(frozen=True, slots=True)
class RangeRow:
    """A wanted SNR: stops by the model, and by the wedge with what lies over its lightest step."""

    snr: int
    model: Quantity
    wedge: Quantity


@dataclass(frozen=True, slots=True)
class RangeTable:
    """The rows, and what makes them differ."""

    rows: Sequence[RangeRow]
    why: Sequence[Note]

    @property
    def has_wedge(self) -> bool:
        """Whether the scene had a wedge that tells a range."""
        return any(row.wedge.known for row in self.rows)


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
    return RangeTable(rows, why_they_differ(rows[0].model, rows[0].wedge, found))
