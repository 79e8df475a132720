"""Questions to the readings."""

from __future__ import annotations

from collections.abc import Sequence

from django.db.models import Q

from yellowjacket.bench.models import Patch, Reading, Rung
from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand


def findings_by_use(rungs: Sequence[Rung]) -> dict[int | None, dict[int, dict[str, Quantity]]]:
    """Quantities by criterion key for every rung and use (None: per pixel), in one query."""
    found: dict[int | None, dict[int, dict[str, Quantity]]] = {}
    by_quantity = {criterion.quantity: criterion.key for criterion in DEFAULT_CRITERIA}
    # The rung as a whole, or the patch that stands for it.
    detail = Q(patch__role=Patch.Role.TEXTURE, quantity=Measurand.DETAIL_SHARE)
    speaks = Q(patch=None) | Q(patch__role=Patch.Role.GREY) | detail
    rows = Reading.objects.filter(speaks, rung__in=rungs, quantity__in=by_quantity, channel__in=["G", "all"])
    for reading in rows:
        of_use = found.setdefault(reading.use_id, {}).setdefault(reading.rung_id, {})
        of_use.setdefault(by_quantity[reading.quantity], reading.result)
    return found
