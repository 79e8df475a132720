"""Why the range that a scene's wedge shows differs from that of the noise model."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.noise.smoothing import noise_hidden_stops

# Less than this apart the two agree, in stops; and smoothing under this is none (common practice, no source).
_AGREE_STOPS, _SMOOTH_STOPS = 0.3, 0.05


def why_they_differ(model: Quantity, wedge: Quantity, found: Mapping[Measurand, Quantity]) -> list[Note]:
    """What makes two ranges at one SNR differ. ``model``, ``wedge``: stops, the wedge's counted from saturation; ``found``:
    further readings of the rung, where the wedge begins and ends, and the correlation of neighbours."""
    return [*_smoothing(model, found), *_wedge(model, wedge, found)]


def _smoothing(model: Quantity, found: Mapping[Measurand, Quantity]) -> Iterator[Note]:
    correlation = found.get(Measurand.NEIGHBOUR_CORRELATION)
    if model.value is None or correlation is None or not correlation.has(Remark.SMOOTHED):
        return
    hidden = noise_hidden_stops(correlation)
    if hidden.value is None or hidden.low is None or hidden.high is None or hidden.value <= _SMOOTH_STOPS:
        return
    yield Note(
        Remark.RANGE_OF_SMOOTHING, (model.value, hidden.value, hidden.low, hidden.high, model.value - hidden.value)
    )


def _wedge(model: Quantity, wedge: Quantity, found: Mapping[Measurand, Quantity]) -> Iterator[Note]:
    if wedge.value is None or model.value is None:
        return
    nothing = missing(Missing.NOT_MEASURED)
    start, floor = (found.get(one, nothing) for one in (Measurand.WEDGE_START, Measurand.WEDGE_FLOOR))
    if start.value is not None and start.value > _AGREE_STOPS:
        yield Note(Remark.WEDGE_BEGINS_UNDER, (start.value,))
    apart = model.value - wedge.value
    if abs(apart) <= _AGREE_STOPS:
        yield Note(Remark.WEDGE_AGREES)
    elif wedge.bound:
        yield Note(Remark.WEDGE_ENDS_FIRST)
    elif floor.value is not None and floor.has(Remark.STRAY_LIGHT):
        yield Note(Remark.WEDGE_IN_STRAY_LIGHT, (floor.value,))
    else:
        yield Note(Remark.WEDGE_THROUGH_LENS, (abs(apart), "less" if apart > 0 else "more"))
