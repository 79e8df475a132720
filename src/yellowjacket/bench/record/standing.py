"""What a version of a record shows: once signed, what it was signed on; until then, today's numbers. One answer for page,
print, report and field card."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from yellowjacket.bench.models import Decision, Ladder, Record, Use
from yellowjacket.bench.models.queries.decisions import Decisions
from yellowjacket.bench.models.queries.readings import LOOKED_AT
from yellowjacket.bench.push.iso_invariance import IsoReadings
from yellowjacket.bench.record.evidence import conditions, limit_from, mark_advice, size_words
from yellowjacket.bench.record.fetched import NOTHING_FETCHED, Fetched, Finished
from yellowjacket.bench.record.other_limits import OtherLimit, of_ladder
from yellowjacket.bench.record.proposals import Proposal, proposals, with_finishes
from yellowjacket.core.limits.iso_limits import disagreement_stops


@dataclass(frozen=True, slots=True)
class OtherStanding:
    """A limit besides the highest ISO, and what is decided of it."""

    limit: OtherLimit
    decided: str


@dataclass(frozen=True, slots=True)
class Decided:
    """A decided mark along ISO, None for none, and how it is written."""

    iso: int | None
    words: str


@dataclass(frozen=True, slots=True)
class Standing:
    """Limits, conditions and ISO settings to avoid or prefer of a version.

    ``decided``: marks by (use name, level); ``sizes``: of the uses by name; ``software``: that signed it; ``today``: sentences
    on what today's numbers and the profile in force would say otherwise, None for an open version; ``finished``: limits with
    each finish that was graded, of a signed version none: it has them among its other limits.
    """

    proposals: Sequence[Proposal]
    conditions: Mapping[str, object]
    others: Sequence[OtherStanding]
    mark_advice: Sequence[tuple[int, str]]
    sizes: Mapping[str, str]
    decided: Mapping[tuple[str, str], Decided]
    software: str = ""
    finished: Finished = ()
    today: Sequence[str] | None = None

    def mark_of(self, proposal: Proposal) -> int | None:
        """The highest ISO for a use and level: as decided, while that is open as measured; None where none is usable."""
        decided = self.decided.get((proposal.use.name, proposal.level))
        return proposal.measured.mark if decided is None else decided.iso

    def is_open_ended(self, proposal: Proposal) -> bool:
        """Whether nothing that was measured, or else graded, lies outside of the limit: the level is held to the end of what is
        fetched."""
        told = proposal.proposed
        return told is not None and told.at_least and self.mark_of(proposal) == told.mark

    def tells(self, proposal: Proposal) -> bool:
        """Whether a limit is known at all: decided, measured, or that nothing holds."""
        known = (proposal.use.name, proposal.level) in self.decided
        return known or proposal.measured.mark is not None or proposal.measured.ended is not None


def standing_of(record: Record, uses: Sequence[Use], fetched: Fetched = NOTHING_FETCHED) -> Standing:
    """What a version shows; ``uses``: of its sitting."""
    ladder = record.ladder
    # Once signed its evidence tells what was decided.
    told = record.signed and "proposals" in record.evidence
    decisions: Decisions = {}
    if not (told and "decisions" in record.evidence):
        decisions = Decision.objects.of(record) if fetched.decisions is None else fetched.decisions
    readings = fetched.readings
    if readings is None and ladder.kind == Ladder.Kind.ISO:
        readings = IsoReadings.of(ladder, fetched.ladders, LOOKED_AT, fetched.read)
    findings = readings.spoken.findings(ladder.rungs.all()) if readings is not None else None
    others = {(one.what, one.use): one.text for one in record.other_decisions.all()} if record.pk and not told else {}
    finished = with_finishes(ladder, findings, fetched.by_lane, fetched.frames)
    live = Standing(
        proposals(ladder, grades=fetched.grades, findings=findings, frames=fetched.frames),
        conditions(ladder, fetched.grades, fetched.frames),
        [
            OtherStanding(one, others.get((one.what, one.use), ""))
            for one in of_ladder(ladder, uses, replace(fetched, readings=readings, finished=finished))
        ],
        mark_advice(ladder, readings) if fetched.may_have("findings", ladder) else [],
        {use.name: size_words(use, ladder) for use in uses},
        {(one.use.name, one.level): Decided(one.iso, one.words) for one in decisions.values()},
        finished=finished,
    )  # fmt: skip
    return _as_signed(record, live, uses) if told else live


def newest_signed(ladder: Ladder) -> Record | None:
    """The signed version that holds, None before any is signed."""
    return ladder.records.filter(signed_at__isnull=False).last()


def _as_signed(record: Record, live: Standing, uses: Sequence[Use]) -> Standing:
    kept = record.evidence
    by_name = {use.name: use for use in uses}
    signed: list[Proposal] = []
    for row in kept["proposals"]:
        measured, graded = limit_from(row["measured"]), limit_from(row["graded"])
        # A use that was renamed since keeps the name it was signed under.
        use = by_name.get(row["use"]) or Use(name=row["use"], sitting=record.ladder.sitting)
        signed.append(Proposal(use, row["level"], measured, graded, disagreement_stops(measured, graded)))
    others = [
        OtherStanding(OtherLimit(*(str(row.get(key, "")) for key in OtherLimit.__slots__)), str(row.get("decided", "")))
        for row in kept.get("others", ())
    ]
    advice = (
        [(int(iso), str(reason)) for iso, reason in kept["mark_advice"]] if "mark_advice" in kept else live.mark_advice
    )
    sizes = kept.get("sizes", live.sizes)
    decided = live.decided
    if "decisions" in kept:
        decided = {(one["use"], one["level"]): Decided(one["iso"], one["words"]) for one in kept["decisions"]}
    shown = Standing(signed, kept["conditions"], others, advice, sizes, decided, str(kept.get("software", "")))
    return replace(shown, today=_otherwise(shown, live))


def _otherwise(signed: Standing, live: Standing) -> list[str]:
    """Where today's numbers differ from those signed: use, level, and both."""
    said = []
    was, now = signed.conditions.get("profile"), live.conditions.get("profile")
    if was != now:
        said.append(f"the profile in force is “{now}”, it was signed by “{was}”")
    elif signed.conditions.get("thresholds") != live.conditions.get("thresholds"):
        said.append(f"the profile “{was}” has other thresholds now")
    today = {(one.use.name, one.level): one for one in live.proposals}
    for one in signed.proposals:
        other = today.get((one.use.name, one.level))
        if other is None:
            said.append(f"{one.use.name} is no longer a use of the sitting")
            continue
        for how, then, since in (("measured", one.measured, other.measured), ("graded", one.graded, other.graded)):
            if then.words != since.words:
                said.append(f"{one.use.name}, {one.level}, {how}: {since.words} instead of {then.words}")
    found = {(one.limit.what, one.limit.use): one.limit.text for one in live.others}
    for row in signed.others:
        text = found.get((row.limit.what, row.limit.use), "–")
        if text != row.limit.text:
            about = f"{row.limit.what}{f', {row.limit.use}' if row.limit.use else ''}"
            said.append(f"{about}: {text} instead of {row.limit.text}")
    return list(dict.fromkeys(said))
