"""Limits of a body besides its highest ISO, from the ladders of one sitting: push, pull, longest exposure, invariance."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass

from django.db.models import Q, QuerySet

from yellowjacket.bench.darks import measure
from yellowjacket.bench.darks.measure import MeasuredDarks
from yellowjacket.bench.models import Body, Ladder, Patch, Reading, Record, RememberedLimit, Rung, Use
from yellowjacket.bench.models.queries.readings import Spoken
from yellowjacket.bench.people import trail
from yellowjacket.bench.push import iso_invariance, latitude
from yellowjacket.bench.push.iso_invariance import IsoReadings
from yellowjacket.bench.push.latitude import Exposed
from yellowjacket.bench.record import proposals
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.record.fetched import NOTHING_FETCHED, Fetched, Finished
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.exposure.notation import between_marks, with_sign
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


def of_ladder(ladder: Ladder, uses: Sequence[Use], fetched: Fetched = NOTHING_FETCHED) -> list[OtherLimit]:
    """What the record of a ladder decides beside the highest ISO as is. An exposure or time ladder has its own limits, at every
    level; an ISO ladder those with each finish that was graded, and the usable ones of the body's other ladders."""
    if ladder.kind == Ladder.Kind.EXPOSURE:
        return _of_exposure(ladder, uses)
    if ladder.kind == Ladder.Kind.TIME:
        found = measure.measured(ladder)
        return [row for use in uses for level in LEVELS for row in _long(ladder, use, found, level)] if found else []
    if ladder.kind == Ladder.Kind.ISO:
        finished = proposals.with_finishes(ladder) if fetched.finished is None else fetched.finished
        return [*_finished(finished), *of_body(ladder, uses, fetched)]
    return []


def _of_exposure(ladder: Ladder, uses: Sequence[Use]) -> list[OtherLimit]:
    by_use, source = latitude.exposed_by_use(ladder, uses), str(ladder)
    if not any(one.stops.known for found in by_use.values() for one in found.plain):
        return []
    rows = [row for use in uses for level in LEVELS for row in _pushed(ladder, use, by_use[use.pk], level)]
    for use in uses:
        profile = ladder.sitting.profile.criteria.seen_in(monochrome=use.monochrome)
        for what, told in (
            ("push turns", latitude.turning(by_use[use.pk], profile)),
            ("push shows bands", latitude.banding(by_use[use.pk], profile)),
        ):
            if told is not None:
                rows.append(OtherLimit(what, use.name, *told, source))
    return [*rows, *_of_frames(ladder, list(ladder.rungs.all()))]


def _of_frames(ladder: Ladder, rungs: Sequence[Rung]) -> Iterator[OtherLimit]:
    """What an exposure ladder says whatever the use: the cast of its deepest push, its black, and what clips from where."""
    source = str(ladder)
    worst_of = (Patch.Role.GREY, Patch.Role.HIGHLIGHT)
    on_reference = Q(quantity=Measurand.BLACK_ERROR_DN) | Q(quantity=Measurand.CLIPS_AT_STOPS, patch__role__in=worst_of)
    said = Reading.objects.in_one({
        "casts": Reading.objects.speaking((Measurand.CAST_DE00,)).filter(rung__in=rungs, use=None),
        "told": Reading.objects.filter(on_reference, rung=ladder.reference_rung(rungs)),
    })  # fmt: skip
    casts = Spoken.of(said["casts"]).per_pixel
    pushed = [rung for rung in rungs if rung.at_stops < 0 and rung.pk in casts]
    if pushed:
        deepest = min(pushed, key=lambda rung: rung.at_stops)
        cast = casts[deepest.pk][Measurand.CAST_DE00]
        text = "–" if cast.value is None else f"{cast.value:.1f} ΔE00"
        ends = "" if cast.low is None or cast.high is None else f"{cast.low:.1f} … {cast.high:.1f}"
        colour = latitude.direction_of(cast)
        yield OtherLimit(
            f"cast at {deepest.label}", "", text, ends, f"towards {colour}" if colour else cast.reason, source
        )
    for one in said["told"]:
        result = one.result
        name = f"{one.patch} clips" if one.patch else f"black error, {one.channel}"
        unit, write = (" stops over", "{:.2f}".format) if one.patch else (" DN", with_sign)
        text = "–" if result.value is None else f"{write(result.value)}{unit}"
        ends = "" if result.low is None or result.high is None else f"{write(result.low)} … {write(result.high)}"
        yield OtherLimit(name, "", text, ends, f"in {one.channel} first" if one.patch else result.reason, source)


def _finished(finished: Finished) -> list[OtherLimit]:
    rows = []
    for lane, found in finished:
        for one in found:
            graded = one.graded
            text = f"ISO {graded.mark}" if graded.mark is not None else "–"
            ends = graded.criterion or graded.reason
            rows.append(OtherLimit(f"{one.level} ISO with {lane.name}", one.use.name, text, "", ends, "graded"))
    return rows


def of_body(ladder: Ladder, uses: Sequence[Use], fetched: Fetched = NOTHING_FETCHED) -> list[OtherLimit]:
    """Everything the sitting of a ladder says of its body besides ISO; what was not shot is left out."""
    found: list[OtherLimit] = []
    every = ladder.sitting.ladders.select_related("body") if fetched.ladders is None else fetched.ladders
    ladders = [one for one in every if one.body_id == ladder.body_id]
    exposed = [one for one in ladders if one.kind == Ladder.Kind.EXPOSURE]
    by_ladder = latitude.exposed_of(exposed, uses, fetched.read)
    for one in exposed:
        for use in uses:
            found += _pushed(one, use, by_ladder[one.pk][use.pk], "usable")
    timed = [one for one in ladders if one.kind == Ladder.Kind.TIME and fetched.may_have("darks", one)]
    inputs = measure.DarkInputs.where_measured(timed) if timed else None
    for one in timed if inputs is not None else ():
        measured = measure.measured(one, inputs)
        if measured is not None:
            for use in uses:
                found += _long(one, use, measured, "usable")
    readings = IsoReadings.of(ladder, ladders, read=fetched.read) if fetched.readings is None else fetched.readings
    return found + _of_iso(readings)


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
            rows.append(
                OtherLimit(what, use.name, "none" if one.known else "–", "", one.reason or one.criterion, str(ladder))
            )
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


def _of_iso(readings: IsoReadings) -> list[OtherLimit]:
    found = []
    matrix = iso_invariance.iso_against_push(readings)
    if matrix is not None:
        invariance = matrix.invariance
        at = invariance.from_iso.value
        text = f"ISO {at:.0f}" if at is not None else "–"
        low, high = invariance.from_iso.low, invariance.from_iso.high
        spread = f"ISO {low:.0f} … {high:.0f}" if low is not None and high is not None and low != high else ""
        found.append(OtherLimit("invariant from", "", text, spread, invariance.from_iso.reason, "ISO ladders"))
    base = iso_invariance.second_base_of(readings)
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
