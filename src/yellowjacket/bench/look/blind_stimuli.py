"""What a blind round can show: rungs with a light frame and how noisy they are, pairs of them, and where their spots lie."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

from yellowjacket.bench.look import registration
from yellowjacket.bench.models import (
    BlindTrial,
    Frame,
    Ladder,
    Lane,
    LanePicture,
    Reading,
    Rung,
    Shot,
    Sitting,
    Use,
)
from yellowjacket.bench.models.queries.readings import at_use
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.registration.similarity import Similarity

# What stands for the noise of a picture: the SNR of its shadow at the use's size, where noise is seen first.
CRITERION = Measurand.SHADOW_SNR
# How far apart rungs stand in practice.
PRACTICE_STOPS = (1.0, 2.0, 3.0)


def rungs_with_light(sitting: Sitting) -> list[Rung]:
    """Rungs of ISO ladders that have a light frame, ladder by ladder."""
    rungs = (
        Rung.objects.filter(ladder__sitting=sitting, ladder__kind=Ladder.Kind.ISO)
        .select_related("ladder__body")
        .order_by("ladder__position", "position")
    )
    lit = set(
        Frame.objects.filter(shot__rung__in=rungs, shot__kind=Shot.Kind.LIGHT).values_list("shot__rung_id", flat=True)
    )
    return [rung for rung in rungs if rung.pk in lit]


def stimuli_of(sitting: Sitting, use: Use) -> list[tuple[Rung, float]]:
    """Rungs that have a light frame and a measured shadow, with log2 of their relative noise at a use."""
    rungs = [rung for rung in rungs_with_light(sitting) if rung.measured_inputs]
    findings = Reading.objects.findings_by_use(rungs)
    found = []
    for rung in rungs:
        snr = at_use(findings, use, rung).get(CRITERION)
        if snr is not None and snr.value is not None and snr.value > 0:
            found.append((rung, -math.log2(snr.value)))
    return found


# A rung as it was shot, or as a lane shows it.
Pictured = tuple[Rung, Lane | None]
BODIES = "bodies"


@dataclass(frozen=True, slots=True)
class Comparison:
    """What "which is better" can hold against each other: ``key`` names it in a form, ``words`` for people."""

    key: str
    words: str
    pairs: Sequence[tuple[Pictured, Pictured]]


def comparisons(sitting: Sitting) -> list[Comparison]:
    """Bodies as they were shot, a ladder as shot and in its lanes, and lanes of different ladders; those that share a rung."""
    found = [Comparison(BODIES, "bodies at the same ISO, as shot", matched_pairs(sitting))]
    lanes = Lane.objects.filter(ladder__sitting=sitting, ladder__kind=Ladder.Kind.ISO).select_related("ladder__body")
    shown = {lane: _rungs_in(lane) for lane in lanes.prefetch_related("pictures__rung__ladder__body")}
    lit = rungs_with_light(sitting) if shown else []
    for lane, rungs in shown.items():
        as_shot = [rung for rung in lit if rung.pk in {one.pk for one in rungs}]
        words = f"{lane.ladder.body.model}: as shot and {lane}"
        found.append(Comparison(f"0-{lane.pk}", words, [((rung, None), (rung, lane)) for rung in as_shot]))
    for (one, its), (other, theirs) in combinations(shown.items(), 2):
        names = f"{one.ladder.body.model}: {one}", f"{other.ladder.body.model}: {other}"
        by_iso = {rung.iso: rung for rung in theirs}
        pairs = [((rung, one), (by_iso[rung.iso], other)) for rung in its if rung.iso in by_iso]
        found.append(Comparison(f"{one.pk}-{other.pk}", " and ".join(names), pairs))
    return [one for one in found if one.pairs]


def _rungs_in(lane: Lane) -> list[Rung]:
    rungs = {picture.rung_id: picture.rung for picture in lane.pictures.all()}
    return sorted(rungs.values(), key=lambda rung: rung.position)


def matched_pairs(sitting: Sitting) -> list[tuple[Pictured, Pictured]]:
    """Rungs of two bodies at equal ISO marks, as they were shot."""
    by_mark: dict[int, list[Rung]] = {}
    for rung in rungs_with_light(sitting):
        if all(rung.ladder.body_id != other.ladder.body_id for other in by_mark.get(rung.iso, ())):
            by_mark.setdefault(rung.iso, []).append(rung)
    return [((rungs[0], None), (other, None)) for _, rungs in sorted(by_mark.items()) for other in rungs[1:]]


def practice_pairs(sitting: Sitting, apart_stops: float) -> list[tuple[Rung, Rung]]:
    """Rungs of one ladder that stand so many stops apart, the lower first."""
    return _apart(rungs_with_light(sitting), apart_stops)


def practice_distances(sitting: Sitting) -> list[float]:
    """Of PRACTICE_STOPS those that rungs of one ladder stand apart here."""
    rungs = rungs_with_light(sitting)
    return [one for one in PRACTICE_STOPS if _apart(rungs, one)]


def _apart(rungs: Sequence[Rung], apart_stops: float) -> list[tuple[Rung, Rung]]:
    return [
        (low, high)
        for low in rungs
        for high in rungs
        if low.ladder_id == high.ladder_id and abs(high.iso_stops - low.iso_stops - apart_stops) < 1 / 6
    ]


def rungs_with_repeats(rungs: set[Rung]) -> list[Rung]:
    """Those that have a second light frame."""
    second = set(
        Frame.objects.filter(shot__rung__in=rungs, shot__kind=Shot.Kind.LIGHT, shot__repeat__gte=2).values_list(
            "shot__rung_id", flat=True
        )
    )
    return sorted((rung for rung in rungs if rung.pk in second), key=lambda rung: rung.pk)


def noise_per_iso_stop(stimuli: Sequence[tuple[Rung, float]]) -> float:
    """By how many stops noise grows with a stop of ISO on these ladders, their mean."""
    slopes = []
    for rungs in by_ladder(stimuli).values():
        (low, first), (high, last) = rungs[0], rungs[-1]
        if high.iso_stops > low.iso_stops and last > first:
            slopes.append((last - first) / (high.iso_stops - low.iso_stops))
    return sum(slopes) / len(slopes) if slopes else 1.0


def by_ladder(stimuli: Sequence[tuple[Rung, float]]) -> dict[int, list[tuple[Rung, float]]]:
    """The same by ladder, from low to high ISO."""
    found: dict[int, list[tuple[Rung, float]]] = {}
    for rung, noise in sorted(stimuli, key=lambda pair: pair[0].iso_stops):
        found.setdefault(rung.ladder_id, []).append((rung, noise))
    return found


def spot_of(rung: Rung) -> tuple[int, int]:
    """The spot of the rung's ladder in raw pixels, else the middle of its frame."""
    ladder = rung.ladder
    if ladder.spot_x is not None and ladder.spot_y is not None:
        return ladder.spot_x, ladder.spot_y
    frames = Frame.objects.filter(shot__rung=rung, shot__kind=Shot.Kind.LIGHT).defer("report")
    width, height = _size_of(rung, frames.first())
    return width // 2, height // 2


def _size_of(rung: Rung, frame: Frame | None) -> tuple[int, int]:
    """Of its frame; lanes without one lie on the pixels of the whole sensor."""
    body = rung.ladder.body
    return (frame.width, frame.height) if frame else (body.pixel_width, body.pixel_height)


def frame_of(trial: BlindTrial, side: str) -> Frame | None:
    """The frame shown of a trial, "left" or "right". A pair that is none shows two frames of its rung."""
    rung = trial.other_id if side == "right" and trial.other_id else trial.rung_id
    frames = list(
        Frame.objects.filter(shot__rung=rung, shot__kind=Shot.Kind.LIGHT).defer("report").order_by("shot__repeat")[:2]
    )
    second = side == "right" and trial.other_id == trial.rung_id and trial.lane_id == trial.other_lane_id
    return frames[-1 if second else 0] if frames else None


def finished_of(trial: BlindTrial, side: str) -> LanePicture | None:
    """The picture of a lane that a side shows; None where it shows a frame, or where the picture is gone."""
    lane, rung = (trial.other_lane_id, trial.other_id) if side == "right" else (trial.lane_id, trial.rung_id)
    return LanePicture.objects.filter(lane=lane, rung=rung).first() if lane else None


def spot_on(trial: BlindTrial, side: str) -> tuple[int, int]:
    """Where a trial's spot lies on the picture of a side: bodies of other size and framing show the same spot."""
    x, y = to_side(trial, side).at((float(trial.x), float(trial.y)))
    return max(0, round(x)), max(0, round(y))


def to_side(trial: BlindTrial, side: str) -> Similarity:
    """From raw pixels of the left side's frame to those of the picture a side shows."""
    finished = finished_of(trial, side)
    there = _to_the_right(trial) if side == "right" else Similarity()
    return there.then(finished.place) if finished else there


def _to_the_right(trial: BlindTrial) -> Similarity:
    """From raw pixels of the left side's frame to those of the right side's."""
    other = trial.other
    if other is None or other.ladder_id == trial.rung.ladder_id:
        return Similarity()
    sizes = {
        trial.rung.ladder_id: _size_of(trial.rung, frame_of(trial, "left")),
        other.ladder_id: _size_of(other, frame_of(trial, "right")),
    }
    return registration.between(trial.rung.ladder, other.ladder, sizes)
