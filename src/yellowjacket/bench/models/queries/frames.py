"""Questions to frames."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from django.db.models import QuerySet

from yellowjacket.bench.refusal import Refusal

if TYPE_CHECKING:
    from yellowjacket.bench.models import Frame, Ladder, Rung


def one_each(frames: Iterable[Frame]) -> bool:
    """Whether no rung has two light frames of those of a ladder, with their shots: its noise is that of single frames."""
    rungs = [frame.shot.rung_id for frame in frames if frame.shot is not None and frame.shot.kind == "light"]
    return bool(rungs) and len(set(rungs)) == len(rungs)


@dataclass(slots=True)
class Files:
    """Files of a rung: paths of its light frames and its darks in the order of repeats, what they hold as SHA-256 by path, and
    width and height, None without any."""

    light: list[str] = field(default_factory=list)
    dark: list[str] = field(default_factory=list)
    contents: dict[str, str] = field(default_factory=dict)
    size: tuple[int, int] | None = None

    def add(self, kind: str, path: str, sha256: str, size: tuple[int, int]) -> None:
        """One more, after those before it."""
        (self.light if kind == "light" else self.dark).append(path)
        self.contents[path] = sha256
        self.size = size


def files_in(rungs: Iterable[Rung], frames: Mapping[tuple[int, str], Iterable[Frame]]) -> dict[int, Files]:
    """Files by rung, of frames that are known already, by (rung id, kind) in the order of repeats."""
    found = {rung.pk: Files() for rung in rungs}
    for (rung_id, kind), own in frames.items():
        for frame in own:
            found[rung_id].add(kind, frame.path, frame.sha256, (frame.width, frame.height))
    return found


class FrameQuerySet(QuerySet["Frame"]):
    """Frames, and what they are of ladders and rungs."""

    def darks_of(self, *ladders: Ladder) -> dict[int, list[Frame]]:
        """Dark frames by rung id, in the order of repeats; one query."""
        found: dict[int, list[Frame]] = {}
        rows = self.filter(shot__rung__ladder__in=ladders, shot__kind="dark").defer("report")
        for frame in rows.select_related("shot").order_by("shot__repeat"):
            if frame.shot is not None:
                found.setdefault(frame.shot.rung_id, []).append(frame)
        return found

    def fetch_reports(self, frames: Iterable[Frame]) -> None:
        """What a look at each of some frames said, for those that were fetched without it; one query."""
        without = {frame.pk: frame for frame in frames if "report" in frame.get_deferred_fields()}
        for pk, report in self.filter(pk__in=without).values_list("pk", "report"):
            without[pk].report = report

    def files_of(self, rungs: Iterable[Rung]) -> dict[int, Files]:
        """Files by rung, in one query."""
        found = {rung.pk: Files() for rung in rungs}
        rows = self.filter(shot__rung__in=found).order_by("shot__repeat")
        said = ("shot__rung_id", "shot__kind", "path", "sha256", "width", "height")
        for rung_id, kind, path, sha256, width, height in rows.values_list(*said):
            found[rung_id].add(kind, path, sha256, (width, height))
        return found

    def size_of(self, ladder: Ladder) -> tuple[int, int]:
        """Width and height of the ladder's frames. Refuses where there is none yet."""
        # Of several raw modes the largest is drawn on.
        sizes = self.filter(shot__rung__ladder=ladder).values_list("width", "height").distinct()
        if not sizes:
            raise Refusal("There is no frame to draw on yet. Shoot or import frames first.")
        return max((int(width), int(height)) for width, height in sizes)
