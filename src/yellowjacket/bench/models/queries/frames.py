"""Questions to frames."""

from __future__ import annotations

from collections.abc import Iterable

from yellowjacket.bench.models import Frame, Ladder, Rung, Shot


def darks_of(ladder: Ladder) -> dict[int, list[Frame]]:
    """Dark frames by rung id, in the order of repeats; one query."""
    found: dict[int, list[Frame]] = {}
    rows = Frame.objects.filter(shot__rung__ladder=ladder, shot__kind=Shot.Kind.DARK).defer("report")
    for frame in rows.select_related("shot").order_by("shot__repeat"):
        if frame.shot is not None:
            found.setdefault(frame.shot.rung_id, []).append(frame)
    return found


def frames_by_rung(rungs: Iterable[Rung]) -> dict[int, dict[str, list[str]]]:
    """Frame paths per rung and kind, in one query."""
    found: dict[int, dict[str, list[str]]] = {rung.pk: {"light": [], "dark": []} for rung in rungs}
    rows = Frame.objects.filter(shot__rung__in=found).order_by("shot__repeat")
    for rung_id, kind, path in rows.values_list("shot__rung_id", "shot__kind", "path"):
        found[rung_id][kind].append(path)
    return found
