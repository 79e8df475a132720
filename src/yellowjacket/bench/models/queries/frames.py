"""Questions to frames."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from django.db.models import QuerySet

from yellowjacket.bench.refusal import Refusal

if TYPE_CHECKING:
    from yellowjacket.bench.models import Frame, Ladder, Rung


def one_each(frames: Iterable[Frame]) -> bool:
    """Whether no rung has two light frames of those of a ladder, with their shots: its noise is that of single frames."""
    rungs = [frame.shot.rung_id for frame in frames if frame.shot is not None and frame.shot.kind == "light"]
    return bool(rungs) and len(set(rungs)) == len(rungs)


class FrameQuerySet(QuerySet["Frame"]):
    """Frames, and what they are of ladders and rungs."""

    def darks_of(self, ladder: Ladder) -> dict[int, list[Frame]]:
        """Dark frames by rung id, in the order of repeats; one query."""
        found: dict[int, list[Frame]] = {}
        rows = self.filter(shot__rung__ladder=ladder, shot__kind="dark").defer("report")
        for frame in rows.select_related("shot").order_by("shot__repeat"):
            if frame.shot is not None:
                found.setdefault(frame.shot.rung_id, []).append(frame)
        return found

    def paths_by_rung(self, rungs: Iterable[Rung]) -> dict[int, dict[str, list[str]]]:
        """Frame paths per rung and kind, in one query."""
        found: dict[int, dict[str, list[str]]] = {rung.pk: {"light": [], "dark": []} for rung in rungs}
        rows = self.filter(shot__rung__in=found).order_by("shot__repeat")
        for rung_id, kind, path in rows.values_list("shot__rung_id", "shot__kind", "path"):
            found[rung_id][kind].append(path)
        return found

    def size_of(self, ladder: Ladder) -> tuple[int, int]:
        """Width and height of the ladder's frames. Refuses where there is none yet."""
        # Of several raw modes the largest is drawn on.
        sizes = self.filter(shot__rung__ladder=ladder).values_list("width", "height").distinct()
        if not sizes:
            raise Refusal("There is no frame to draw on yet. Shoot or import frames first.")
        return max((int(width), int(height)) for width, height in sizes)
