"""How a tester's own frames are spread over ISO and exposure time: where the limits matter for their work."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

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
    rows = Frame.objects.filter(dark=False, iso__isnull=False, exposure_s__gt=0).values_list("iso", "exposure_s")
    settings = [(iso, seconds) for iso, seconds in rows if iso and seconds]
    if not settings:
        return Spread((), (), None, 0.0)
    marks = [(dial.iso_mark(float(iso), "full"), dial.shutter_mark(seconds, "full")) for iso, seconds in settings]
    counts = Counter((iso.nominal, time.exact) for iso, time in marks)
    isos = sorted({iso.nominal for iso, _ in marks})
    times = sorted({time.exact for _, time in marks})
    labels = {time.exact: time.label for _, time in marks}
    table = tuple(
        (f"{iso:g}", cells := tuple(counts[iso, time] for time in times), sum(cells)) for iso in isos
    )  # fmt: skip
    in_order = sorted(iso for iso, _ in settings)
    long = sum(seconds >= 1 for _, seconds in settings) / len(settings)
    return Spread(tuple(labels[time] for time in times), table, in_order[(len(in_order) - 1) // 2], long)
