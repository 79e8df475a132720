"""A time ladder of a scene, seen: the same spot of every time, shadows lifted, as shot, repaired and less its master dark."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from yellowjacket.bench.darks import masters, measure
from yellowjacket.bench.models import Frame, Rung
from yellowjacket.core.darks.hot_pixels import REPAIR_SPREADS
from yellowjacket.core.exposure.iso12232 import MID_GREY_SHARE
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.web.pictures import UNTREATED, CropView, Treated
from yellowjacket.web.sheet.lines import Crops
from yellowjacket.web.sitting_page import SittingPage

LIFTED_STOPS = 2.0
_CROP_PX = (256, 192)


@dataclass(frozen=True, slots=True)
class SceneSeen:
    """What was done to the frames, and for every time a picture of each, None where that cannot be done."""

    done: Sequence[str]
    rows: Sequence[tuple[Rung, Sequence[CropView | None]]]


def scene_of(page: SittingPage) -> SceneSeen:
    """The pictures of a scene's ladder, at the use in force."""
    lit = [(rung, frames[0]) for rung in page.rungs if (frames := page.light(rung))]
    columns = list(_columns(page, lit))
    rows = [(rung, [cells[n] for _, cells in columns]) for n, (rung, _) in enumerate(lit)]
    return SceneSeen([name for name, _ in columns], rows)


def _columns(page: SittingPage, lit: Sequence[tuple[Rung, Frame]]) -> Iterator[tuple[str, Sequence[CropView | None]]]:
    crops, body = Crops.of(page), page.ladder.body
    factor, _ = use_noise_factor(body.pixels, page.use.whole_frame_pixels)

    def seen(treated: Sequence[Treated | None]) -> Sequence[CropView | None]:
        return [
            None if how is None else crops.treated(rung, frame, _CROP_PX, LIFTED_STOPS, factor, how)
            for (rung, frame), how in zip(lit, treated, strict=True)
        ]

    yield "As shot", seen([UNTREATED] * len(lit))
    known = measure.of_body(body)
    bars = [_bar_dn(known, frame) if known and frame.iso in known.isos else 0.0 for _, frame in lit]
    if any(bars):
        yield "Lone points repaired", seen([Treated(repair_dn=bar) if bar else None for bar in bars])
    fitting = masters.same_time([frame for _, frame in lit], body)
    if fitting:
        yield "Less master dark", seen([Treated(fitting[f.pk]) if f.pk in fitting else None for _, f in lit])


def _bar_dn(known: measure.MeasuredDarks, frame: Frame) -> float:
    """What a lone point must stand over its neighbours to be taken for a fault: over the dark's noise and that of grey together.
    0 where no dark tells."""
    gain = known.whole.gain.value
    told = [(one.group.exposure_s, one.pixels) for one in known.whole.off if one.pixels is not None]
    if not gain or not told or not frame.exposure_s:
        return 0.0
    _, table = min(told, key=lambda one: abs(math.log(one[0] / (frame.exposure_s or 1.0))))
    grey_dn = MID_GREY_SHARE * (frame.white_dn - max(frame.black_dn.values()))
    return REPAIR_SPREADS * math.hypot(table.spread_dn, math.sqrt(grey_dn / gain))
