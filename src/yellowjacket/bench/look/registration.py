"""Where the frames of a sitting's ladders lie on one another, so that a spot chosen on one is the same on all."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from yellowjacket.bench.decoding import raw_frame
from yellowjacket.bench.models import Frame, Ladder, MarkedSpot, Placement, Shot, Sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.registration import similarity
from yellowjacket.core.registration.similarity import NoMatch, Similarity, scaled_to


def frame_of(ladder: Ladder) -> Frame | None:
    """The frame a ladder is placed by: the first light one of its reference rung, else any."""
    rungs = list(ladder.rungs.all())
    if not rungs:
        return None
    wanted = ladder.reference_rung(rungs).pk
    frames = Frame.objects.filter(shot__rung__in=rungs, shot__kind=Shot.Kind.LIGHT).defer("report")
    ordered = frames.select_related("shot").order_by("shot__repeat", "id")
    return next((frame for frame in ordered if frame.shot and frame.shot.rung_id == wanted), ordered.first())


def between(here: Ladder, there: Ladder, sizes: dict[int, tuple[int, int]]) -> Similarity:
    """From raw pixels of one ladder's frames to another's. Ladders of one body lie on one another unless placed apart;
    bodies that were never placed share centre and diagonal.

    ``sizes``: width and height of a frame by ladder id.
    """
    if here.pk == there.pk or not {here.pk, there.pk} <= sizes.keys():
        return Similarity()
    first, second = (_stored(ladder) for ladder in (here, there))
    if first is None and second is None:
        if here.body_id == there.body_id and sizes[here.pk] == sizes[there.pk]:
            return Similarity()
        return scaled_to(sizes[here.pk], sizes[there.pk])
    to_here, to_there = first or Similarity(), second or Similarity()
    # Through the sitting's first ladder: back from here, on to there.
    corners = [(0.0, 0.0), (float(sizes[here.pk][0]), 0.0), (0.0, float(sizes[here.pk][1]))]
    found = similarity.fitted(corners, [to_there.at(to_here.back(corner)) for corner in corners])
    left = max(to_here.residual_px, to_there.residual_px)
    return Similarity(found.a, found.b, found.x0, found.y0, left, max(to_here.points, to_there.points))


def _stored(ladder: Ladder) -> Similarity | None:
    placement: Placement | None = getattr(ladder, "placement", None)
    return placement.place if placement else None


def _first(sitting: Sitting, ladder: Ladder) -> Ladder:
    """The ladder that others are placed on: the first of the sitting with frames."""
    for candidate in sitting.ladders.select_related("body"):
        if candidate.pk != ladder.pk and not candidate.capped and frame_of(candidate) is not None:
            return candidate
    raise Refusal("There is no other ladder with frames to align this one with.")


def match(ladder: Ladder) -> Placement:
    """Find by the pictures themselves where a ladder lies on the sitting's first. Refuses what cannot be matched."""
    first = _first(ladder.sitting, ladder)
    own, its = frame_of(ladder), frame_of(first)
    if own is None or its is None:
        raise Refusal(f"{ladder} has no light frame yet: shoot or import one.")
    try:
        here, here_step = similarity.reduced(green_cells(its))
        there, there_step = similarity.reduced(green_cells(own))
        # A cell is two raw pixels wide.
        found = similarity.found(here, there, its.mosaic_layout.cell * here_step, own.mosaic_layout.cell * there_step)
    except NoMatch as error:
        raise Refusal(f"{ladder} was not laid on {first}. {error}") from error
    except FrameError as error:
        raise Refusal(f"{own.file_name} or {its.file_name}: {error.reason} {error.remedy}") from error
    return _keep(ladder, found, Placement.By.MATCHED)


def place_by_spots(ladder: Ladder) -> Placement:
    """Lay a ladder on the first by spots that are marked on both under the same names."""
    first = _first(ladder.sitting, ladder)
    if first.body_id == ladder.body_id:
        raise Refusal("Both ladders are of one body: its marked spots are the same for both. Match them automatically.")
    spots: list[dict[str, tuple[float, float]]] = []
    for body in (first.body_id, ladder.body_id):
        rows: Sequence[MarkedSpot] = list(MarkedSpot.objects.filter(sitting=ladder.sitting, body=body))
        spots.append({row.name: (float(row.x), float(row.y)) for row in rows})
    names = sorted(spots[0].keys() & spots[1].keys())
    if len(names) < 2:
        raise Refusal(
            f"Mark two spots or more under the same names on {first.body} and on {ladder.body}; "
            f"{len(names)} {'is' if len(names) == 1 else 'are'} there."
        )
    try:
        found = similarity.fitted([spots[0][name] for name in names], [spots[1][name] for name in names])
    except NoMatch as error:
        raise Refusal(str(error)) from error
    return _keep(ladder, found, Placement.By.MARKED)


def _keep(ladder: Ladder, found: Similarity, by: str) -> Placement:
    placement = Placement.objects.filter(ladder=ladder).first() or Placement(ladder=ladder)
    placement.place, placement.found_by = found, by
    placement.save()
    return placement


def green_cells(frame: Frame) -> NDArray[np.float32]:
    """Green of every cell of the mosaic above black, from the original. Raises FrameError when it is gone or changed."""
    return raw_frame(frame).green_cells()
