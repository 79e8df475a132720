"""The spot of every ladder at every ISO mark, at equal size and brightness: what a comparison looks like."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from yellowjacket.bench.compare.bodies import Compared, Comparison
from yellowjacket.bench.development import Developing, Switches
from yellowjacket.bench.models import Frame, Shot
from yellowjacket.bench.prediction.clean_frame import Wanted
from yellowjacket.core.exposure import dial
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.web import pictures
from yellowjacket.web.predicted import PredictedCrop, PredictedCrops

# Of all rows together, and of one picture; screen pixels.
_ROW_PX, _WIDEST_PX, _NARROWEST_PX, _GAP_PX = 900, 168, 60, 6


@dataclass(frozen=True, slots=True)
class CropRow:
    """A ladder with a picture for every mark, None where it was not shot."""

    name: str
    style: int
    cells: Sequence[pictures.CropView | PredictedCrop | None]
    # On whose scene it is predicted, where it was not shot together with that.
    on_scene_of: str = ""


def crops_of(found: Comparison, pixels: int | None) -> Sequence[CropRow]:
    """A row for each ladder; none where nobody has a frame. ``pixels``: of the size everything is compared at."""
    width = max(_NARROWEST_PX, min(_WIDEST_PX, _ROW_PX // max(1, len(found.marks)) - _GAP_PX))
    rung_ids = [rung.pk for one in found.ladders for rung in one.rungs]
    frames: dict[int, Frame] = {}
    rows = Frame.objects.filter(shot__rung__in=rung_ids, shot__kind=Shot.Kind.LIGHT).select_related("shot")
    for frame in rows.defer("report").order_by("shot__repeat"):
        frames.setdefault(frame.shot.rung_id, frame)  # type: ignore[union-attr]
    cells = [_row(one, found.marks, frames, (width, width * 3 // 4), pixels) for one in found.ladders]
    if not any(cell for row in cells for cell in row):
        return ()
    shot = [CropRow(one.name, n, row) for n, (one, row) in enumerate(zip(found.ladders, cells, strict=True))]
    return [*shot, *_on_one_scene(found, (width, width * 3 // 4), pixels)]


def _on_one_scene(found: Comparison, size: tuple[int, int], pixels: int | None) -> Iterator[CropRow]:
    """Bodies that were never shot together with the first, as they would have taken its scene."""
    first, *others = found.ladders
    apart = [(n, one) for n, one in enumerate(others, 1) if one.ladder.sitting_id != first.ladder.sitting_id]
    if not apart:
        return
    factor, _ = use_noise_factor(first.ladder.body.pixels, pixels)
    crops = PredictedCrops.of(first.ladder, size, factor)
    for n, one in apart:
        taken = crops.as_taken_by(one.ladder)
        cells = [taken.at(Wanted(dial.exact_iso(mark))) for mark in found.marks]
        if any(cell.url for cell in cells):
            yield CropRow(one.name, n, cells, first.name)


def _row(
    one: Compared, marks: Sequence[int], frames: Mapping[int, Frame], size: tuple[int, int], pixels: int | None
) -> list[pictures.CropView | None]:
    ladder = one.ladder
    developing = Developing.of(ladder, one.rungs)
    factor, _ = use_noise_factor(ladder.body.pixels, pixels)
    by_mark = {rung.iso: rung for rung in one.rungs}
    found: list[pictures.CropView | None] = []
    for mark in marks:
        rung = by_mark.get(mark)
        frame = frames.get(rung.pk) if rung else None
        if rung is None or frame is None:
            found.append(None)
            continue
        developed = developing.of_frame(frame, rung.pk, Switches())
        spot = ladder.spot_in(frame.width, frame.height, max(frames[r.pk].width for r in one.rungs if r.pk in frames))
        found.append(pictures.crop_view(frame, spot, size, developed, factor))
    return found
