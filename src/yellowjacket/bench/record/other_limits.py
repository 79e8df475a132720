"""Limits of a body besides its highest ISO, from the ladders of one sitting: push, pull, longest exposure, invariance."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass

from django.db.models import QuerySet

from yellowjacket.bench.darks import measure
from yellowjacket.bench.darks.measure import MeasuredDarks
from yellowjacket.bench.models import Body, Ladder, Reading, Record, RememberedLimit, Sitting, Use
from yellowjacket.bench.people import trail
from yellowjacket.bench.push import iso_invariance, latitude
from yellowjacket.bench.push.latitude import Exposed
from yellowjacket.bench.record import proposals
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.exposure.notation import between_marks
from yellowjacket.core.latitude.push_pull import StopLimit
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.core.metrology.measurands import Measurand

_NOT_SHOT = "not shot in this sitting"


@dataclass(frozen=True, slots=True)
class OtherLimit:
    """One limit of a body: what it is, for which use (empty: for any), its text, its interval, what ends it, its source."""

    what: str
    use: str
    text: str
    interval: str = ""
    because: str = ""
    source: str = ""


def of_ladder(ladder: Ladder, uses: Sequence[Use]) -> list[OtherLimit]:
    """What the record of a ladder decides beside the highest ISO as is. An exposure or time ladder has its own limits, at every
    level; an ISO ladder those with each finish that was graded, and the usable ones of the body's other ladders."""
    if ladder.kind == Ladder.Kind.EXPOSURE:
        return _of_exposure(ladder, uses)
    if ladder.kind == Ladder.Kind.TIME:
        found = measure.measured(ladder)
        return [row for use in uses for level in LEVELS for row in _long(ladder, use, found, level)] if found else []
    if ladder.kind == Ladder.Kind.ISO:
        return [*_finished(ladder), *of_body(ladder.sitting, ladder.body, uses)]
    return []


def _of_exposure(ladder: Ladder, uses: Sequence[Use]) -> list[OtherLimit]:
    by_use = latitude.exposed_by_use(ladder, uses)
    rows = [row for use in uses for level in LEVELS for row in _pushed(ladder, use, by_use[use.pk], level)]
    told = Reading.objects.filter(
        rung=ladder.reference_rung(list(ladder.rungs.all())),
        quantity__in=(Measurand.CLIPS_AT_STOPS, Measurand.BLACK_ERROR_DN),
    ).select_related("patch")
    for row in told:
        name = f"{row.patch} clips" if row.patch else f"black error, {row.channel}"
        unit, sign = (" stops over", "") if row.patch else (" DN", "+")
        text = "–" if row.value is None else f"{row.value:{sign}.2f}{unit}"
        ends = "" if row.low is None or row.high is None else f"{row.low:{sign}.2f} … {row.high:{sign}.2f}"
        rows.append(
            OtherLimit(name, "", text, ends, f"in {row.channel} first" if row.patch else row.reason, str(ladder))
        )
    for use in uses:
        turned = latitude.turning(ladder, use)
        if turned is not None:
            rows.append(OtherLimit("push turns", use.name, *turned, str(ladder)))
    return rows


def _finished(ladder: Ladder) -> list[OtherLimit]:
    rows = []
    for lane in ladder.lanes.filter(grades__isnull=False).distinct():
        for one in proposals.proposals(ladder, lane):
            graded = one.graded
            text = f"ISO {graded.mark}" if graded.mark is not None else "–"
            ends = graded.criterion or graded.reason
            rows.append(OtherLimit(f"{one.level} ISO with {lane.name}", one.use.name, text, "", ends, "graded"))
    return rows


def of_body(sitting: Sitting, body: Body, uses: Sequence[Use]) -> list[OtherLimit]:
    """Everything the sitting says of a body besides ISO; what was not shot is left out."""
    found: list[OtherLimit] = []
    for ladder in sitting.ladders.filter(body=body, kind=Ladder.Kind.EXPOSURE).select_related("body"):
        by_use = latitude.exposed_by_use(ladder, uses)
        for use in uses:
            found += _pushed(ladder, use, by_use[use.pk], "usable")
    for ladder in measure.time_ladders(sitting):
        measured = measure.measured(ladder) if ladder.body_id == body.pk else None
        if measured is not None:
            for use in uses:
                found += _long(ladder, use, measured, "usable")
    return found + _of_iso(sitting, body)


def _pushed(ladder: Ladder, use: Use, exposed: Exposed, level: str) -> list[OtherLimit]:
    profile = ladder.sitting.profile.criteria.seen_in(monochrome=use.monochrome)
    limits = latitude.recovery(exposed, profile)
    return [
        _stops(what, use, one[level], str(ladder))
        for what, one in ((f"push, {level}", limits.push), (f"pull, {level}", limits.pull))
    ]


def _stops(what: str, use: Use, limit: StopLimit, source: str) -> OtherLimit:
    if limit.stops is None:
        return OtherLimit(what, use.name, "–", "", limit.reason or limit.criterion or "no readings", source)
    text = f"{'at least ' if limit.at_least else ''}{limit.stops:.1f} stops"
    interval = f"{limit.low:.1f} … {limit.high:.1f}" if limit.low is not None and limit.high is not None else ""
    return OtherLimit(what, use.name, text, interval, limit.criterion or limit.reason, source)


def _long(ladder: Ladder, use: Use, found: MeasuredDarks, level: str) -> list[OtherLimit]:
    factor, _ = use_noise_factor(ladder.body.pixels, use.whole_frame_pixels)
    answers = found.whole.longest(ladder.sitting.profile.criteria.long_exposure, level, factor)
    rows = []
    for name, one in answers.items():
        # The usable one is what everybody asks for: it needs no word.
        what = f"longest, {name}" if level == "usable" else f"longest, {name}, {level}"
        if one.seconds is None:
            rows.append(OtherLimit(what, use.name, "none", "", one.reason or one.criterion, str(ladder)))
            continue
        ends = [between_marks(end) for end in (one.low, one.high) if end is not None]
        ended_by = one.criterion or one.reason
        beyond = ", past the longest dark" if one.beyond and one.criterion else ""
        rows.append(
            OtherLimit(
                what,
                use.name,
                between_marks(one.seconds),
                " … ".join(ends),
                ended_by + beyond,
                str(ladder),
            )
        )
    return rows


def _of_iso(sitting: Sitting, body: Body) -> list[OtherLimit]:
    found = []
    matrix = iso_invariance.iso_against_push(sitting, body)
    if matrix is not None:
        invariance = matrix.invariance
        at = invariance.from_iso.value
        text = f"ISO {at:.0f}" if at is not None else "–"
        low, high = invariance.from_iso.low, invariance.from_iso.high
        spread = f"ISO {low:.0f} … {high:.0f}" if low is not None and high is not None and low != high else ""
        found.append(OtherLimit("invariant from", "", text, spread, invariance.from_iso.reason, "ISO ladders"))
    base = iso_invariance.second_base_of(sitting, body)
    if base is not None:
        found.append(
            OtherLimit(
                "second base", "", f"ISO {base.iso}", base.interval, "shadows cleaner than one mark lower", "ISO ladder"
            )
        )
    return found


def as_evidence(found: Sequence[OtherLimit]) -> list[dict[str, str]]:
    """Plain values for a signed record."""
    return [asdict(one) for one in found]


def remembered(body: Body) -> QuerySet[RememberedLimit]:
    """What was typed in by hand of a body's earlier limits, newest first."""
    return RememberedLimit.objects.filter(body=body)


def take_over(record: Record, others: Sequence[OtherLimit], person: str = "") -> None:
    """Decide as measured whatever is measured and still open."""
    decided = set(record.other_decisions.values_list("what", "use"))
    for one in others:
        if (one.what, one.use) not in decided and one.text != "–":
            record_.decide_other(record, one.what, one.use, one.text, person)


def remember(body: Body, what: str, text: str, use: str, source: str, person: str) -> RememberedLimit:
    """Keep a limit from before, marked as typed by hand. Refuses half of one, and one without a source."""
    if not what.strip() or not text.strip():
        raise Refusal("Say which limit it was, and its value: highest usable ISO, 3200.")
    if not source.strip():
        raise Refusal("Say where it is from: a notebook, an earlier test, somebody's word.")
    trail.note("remembered", f"{body}: {what.strip()}", person=person, after=text.strip())
    return RememberedLimit.objects.create(
        body=body, what=what.strip()[:60], text=text.strip()[:60], use=use.strip()[:60], source=source.strip()[:120],
        person=person.strip()[:80],
    )  # fmt: skip
