"""How a tester's own frames are spread over ISO and exposure time: where the limits matter for their work."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from itertools import accumulate

from django.db.models import Count

from yellowjacket.bench.models import Frame
from yellowjacket.core.exposure import dial


@dataclass(frozen=True, slots=True)
class Spread:
    """Counts of light frames. ``rows``: (ISO mark, counts by time, total), low to high; ``times``: column heads."""

    times: tuple[str, ...]
    rows: tuple[tuple[str, tuple[int, ...], int], ...]
    median_iso: int | None
    long_share: float


def of_archive() -> Spread:
    """Every light frame of every sitting, in whole stops, in one query."""
    rows = Frame.objects.filter(dark=False, iso__gt=0, exposure_s__gt=0).order_by().values_list("iso", "exposure_s")
    settings = list(rows.annotate(Count("pk")))
    if not settings:
        return Spread((), (), None, 0.0)
    counts: Counter[tuple[float, float]] = Counter()
    by_iso: Counter[int] = Counter()
    labels: dict[float, str] = {}
    for iso, seconds, frames in settings:
        mark, time = dial.iso_mark(float(iso), "full"), dial.shutter_mark(seconds, "full")
        counts[mark.nominal, time.exact] += frames
        by_iso[iso] += frames
        labels[time.exact] = time.label
    times = sorted(labels)
    table = tuple(
        (f"{iso:g}", cells := tuple(counts[iso, time] for time in times), sum(cells))
        for iso in sorted({iso for iso, _ in counts})
    )
    total = by_iso.total()
    long = sum(frames for _, seconds, frames in settings if seconds >= 1) / total
    up_to = zip(sorted(by_iso), accumulate(by_iso[iso] for iso in sorted(by_iso)), strict=True)
    median = next(iso for iso, frames in up_to if 2 * frames >= total)
    return Spread(tuple(labels[time] for time in times), table, median, long)
