"""The hot pixels of a body as predicted pictures show them, from its newest darks."""

from __future__ import annotations

from yellowjacket.bench.darks import measure
from yellowjacket.bench.models import Body
from yellowjacket.core.darks.hot_pixels import HOT, KINDS, STUCK, WARM
from yellowjacket.core.prediction.hot_population import HotPopulation

_SHOWN = (HOT, WARM, STUCK)


def population_of(body: Body) -> HotPopulation | None:
    """From the longest time that tells pixels apart, at the temperature that the darks refer to; None without one."""
    found = measure.of_body(body)
    one = next((one for one in reversed(found.whole.off) if one.pixels is not None), None) if found else None
    if found is None or one is None or one.pixels is None:
        return None
    # A rate is that at the warmth of its own dark.
    scale = one.group.exposure_s / found.whole.warmed(one)
    kinds = [KINDS.index(kind) for kind in _SHOWN]
    return HotPopulation.of(
        (
            (int(row["x"]), int(row["y"]), None if rate is None else rate * scale)
            for row, rate in zip(one.pixels.rows, found.whole.rates_e_per_s(one), strict=True)
            if row["kind"] in kinds
        ),
        one.pixels.size,
    )
