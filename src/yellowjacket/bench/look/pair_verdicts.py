"""Verdicts on pairs of rungs, and which rung of one body looks like which of another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.bench.models import Grade, Ladder, Lane, PairVerdict, Rung, Use
from yellowjacket.bench.models.queries.readings import Spoken, at_use
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.limits.body_comparison import Effect, effects, in_words
from yellowjacket.core.limits.iso_equivalence import (
    MatchedRung,
    Seen,
    Verdict,
    level_shift,
    matched_rungs,
    verdicts_in_words,
)
from yellowjacket.core.metrology.estimate import Quantity, missing, unknown
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing, Remark
from yellowjacket.core.rendering.develop import PLAIN

# Noise is seen first in the shadows.
CRITERION = Measurand.SHADOW_SNR


def give(
    one: Rung, other: Rung, use: Use, person: str, score: int, *, reason: str = "", blind: bool = False,
    size_percent: int = 100, developer: str = PLAIN, lanes: tuple[Lane | None, Lane | None] = (None, None),
) -> PairVerdict:  # fmt: skip
    """Keep a verdict. The rung of the ladder planned first is stored as the one, whichever side it stood on; ``lanes``: of both,
    None as is."""
    if not person:
        raise Refusal("Say who is judging first: type a name into the field at the top.")
    first, second = lanes
    if one.pk == other.pk and first == second:
        raise Refusal("Both are the same picture: pin two different ones.")
    for rung, lane in ((one, first), (other, second)):
        if lane is not None and lane.ladder_id != rung.ladder_id:
            raise Refusal(f"“{lane}” has no pictures of {rung}.")
    if not -2 <= score <= 2:
        raise Refusal("A verdict goes from clearly worse to clearly better.")
    if reason and reason not in Grade.Reason.values:
        raise Refusal(f"There is no reason {reason!r}; there are {', '.join(Grade.Reason.values)}.")
    if use.sitting_id != one.ladder.sitting_id or one.ladder.sitting_id != other.ladder.sitting_id:
        raise Refusal("Both rungs and the use must belong to one sitting.")
    if _place(one, first) > _place(other, second):
        one, other, first, second, score = other, one, second, first, -score
    return PairVerdict.objects.create(
        one=one, other=other, one_lane=first, other_lane=second, use=use, person=person, score=score, reason=reason, blind=blind,
        size_percent=size_percent, developer=developer, held_equal=one.ladder.sitting.held_equal,
    )  # fmt: skip


def because(verdict: PairVerdict, reason: str) -> PairVerdict:
    """The same verdict with its reason, as a new row."""
    return give(
        verdict.one, verdict.other, verdict.use, verdict.person, verdict.score, reason=reason, blind=verdict.blind,
        size_percent=verdict.size_percent, developer=verdict.developer, lanes=(verdict.one_lane, verdict.other_lane),
    )  # fmt: skip


def _place(rung: Rung, lane: Lane | None) -> tuple[int, int, int, int]:
    """Along the sitting: as is before its lanes."""
    return rung.ladder.position, rung.ladder_id, rung.position, lane.pk if lane else 0


def last_on(use: Use, person: str, *sides: tuple[Rung, Lane | None]) -> PairVerdict | None:
    """What a person said last of these two pictures, whichever stood left."""
    (one, first), (other, second) = sorted(sides, key=lambda side: _place(*side))
    rows = PairVerdict.objects.filter(use=use, person=person, one=one, other=other, one_lane=first, other_lane=second)
    named = rows.select_related("one__ladder__body", "other__ladder__body", "one__ladder__sitting", "use")
    return named.select_related("other__ladder__sitting", "one_lane", "other_lane").last()


def in_force(one: Ladder, other: Ladder, use: Use, person: str | None = None) -> list[PairVerdict]:
    """Verdicts between the frames of two ladders as they are, for a use: the newest of every pair and person. What was said of
    finished pictures tells nothing of bodies."""
    rows = PairVerdict.objects.filter(
        one__ladder=one, other__ladder=other, one_lane=None, other_lane=None, use=use
    ).select_related("one__ladder__body", "other__ladder__body")
    if person is not None:
        rows = rows.filter(person=person)
    newest = {(row.one_id, row.other_id, row.person): row for row in rows}
    return list(newest.values())


@dataclass(frozen=True, slots=True)
class Match:
    """Two ladders held against each other for a use: rung by rung from the measurements, and from verdicts.

    ``size_words``: at which size it was read; ``shift``: by how many stops the other must stand higher to look equal.
    """

    one: Ladder
    other: Ladder
    size_words: str
    measured: Sequence[MatchedRung]
    measured_words: str
    shift_measured: Quantity
    verdicts: Sequence[PairVerdict]
    verdict_words: str
    shift_judged: Quantity


def match_of(one: Ladder, other: Ladder, use: Use, spoken: Spoken) -> Match:
    """The matched-rung finder for two ISO ladders of a sitting. ``spoken``: what stands for limits of both."""
    one, other = sorted((one, other), key=lambda ladder: (ladder.position, ladder.pk))
    if Ladder.Method.FIXED in (one.method, other.method):
        # Held fixed, the light is the same at every ISO: noise does not grow along the ladder.
        measured, words = [], "a ladder held fixed has the same light at every ISO, so there is no shift to find"
    else:
        seen = _seen((one, other), use, spoken)
        measured = matched_rungs(*seen)
        words = "; ".join(in_words(one.body.model, other.body.model, _effects(one, other, seen, spoken)))
    verdicts = in_force(one, other, use)
    equal = [(v.one.iso, v.score) for v in verdicts if v.one.iso == v.other.iso]
    names = one.body.model, other.body.model
    return Match(
        one, other, use.size_text, measured, words, _middle(measured), verdicts,
        verdicts_in_words(*names, equal), level_shift([_apart(v) for v in verdicts]),
    )  # fmt: skip


def _apart(verdict: PairVerdict) -> Verdict:
    return Verdict(verdict.one.iso, verdict.other.iso_stops - verdict.one.iso_stops, verdict.score)


def _middle(rungs: Sequence[MatchedRung]) -> Quantity:
    """The shift that suits the ladder as a whole: the median of its rungs."""
    known = sorted(
        (rung.ahead_stops for rung in rungs if rung.ahead_stops.value is not None), key=lambda q: q.value or 0.0
    )
    return (
        known[len(known) // 2] if known else unknown(*(rung.ahead_stops for rung in rungs), otherwise=Missing.NO_RUNGS)
    )


def _effects(one: Ladder, other: Ladder, seen: Sequence[Sequence[Seen]], spoken: Spoken) -> list[Effect]:
    """Shadow SNR of both, at the marks both were read at, but for those whose raw is smoothed."""
    smoothed = []
    for rung in (*one.rungs.all(), *other.rungs.all()):
        flags = spoken.per_pixel.get(rung.pk, {}).get(Measurand.FLAGS)
        if flags is not None and flags.has(Remark.SMOOTHED_HERE):
            smoothed.append(rung.iso)
    sides = [{rung.mark: {Measurand.SHADOW_SNR: rung.snr} for rung in side} for side in seen]
    return effects(sides[0], sides[1], (Measurand.SHADOW_SNR,), smoothed)


def _seen(ladders: Sequence[Ladder], use: Use, spoken: Spoken) -> list[list[Seen]]:
    findings = spoken.findings(rung for ladder in ladders for rung in ladder.rungs.all())
    nothing = missing(Missing.NOT_MEASURED)
    return [
        [
            Seen(rung.iso, rung.iso_stops, at_use(findings, use, rung).get(CRITERION, nothing))
            for rung in ladder.rungs.all()
        ]
        for ladder in ladders
    ]
