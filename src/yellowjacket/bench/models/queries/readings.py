"""Questions to the readings."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from django.db.models import Q

from yellowjacket.bench.models import Reading, Rung
from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand


def speaking_for_rungs(quantities: Iterable[Measurand]) -> Q:
    """Of each quantity the reading that stands for its rung, as the registry says: of the rung or of a patch's role, in one
    channel."""
    found = Q(pk__in=[])
    for quantity in quantities:
        known = quantity.described
        place = Q(patch__role=known.role) if known.role else Q(patch=None)
        found |= Q(place, quantity=quantity, channel=known.channel)
    return found


def findings_by_use(rungs: Sequence[Rung]) -> dict[int | None, dict[int, dict[str, Quantity]]]:
    """Quantities by criterion key for every rung and use (None: per pixel), in one query."""
    found: dict[int | None, dict[int, dict[str, Quantity]]] = {}
    by_quantity = {criterion.quantity: criterion.key for criterion in DEFAULT_CRITERIA}
    for reading in Reading.objects.filter(speaking_for_rungs(by_quantity), rung__in=rungs):
        of_use = found.setdefault(reading.use_id, {}).setdefault(reading.rung_id, {})
        of_use.setdefault(by_quantity[reading.measurand], reading.result)
    return found
