"""What is measured already, and what is due."""

from __future__ import annotations

from collections.abc import Mapping

from yellowjacket.bench.measure.run import _stale
from yellowjacket.bench.models import Ladder, Rung, Shot
from yellowjacket.bench.models.queries.frames import Files


def take_as_measured(ladder: Ladder) -> None:
    """Readings that came with a sitting from elsewhere belong to its frames and patches as they are: nothing is due."""
    for one in _stale(ladder):
        Rung.objects.filter(pk=one.task.key).update(measured_inputs=one.inputs, measured_patches=one.patches)


def unmeasured(ladder: Ladder, files: Mapping[int, Files] | None = None) -> int:
    """How many rungs have frames whose readings are missing or out of date. ``files``: of its rungs, where they are known
    already."""
    if not ladder.patches.all():
        return ladder.rungs.filter(shots__frame__isnull=False, shots__kind=Shot.Kind.LIGHT).distinct().count()
    return len(_stale(ladder, files))
