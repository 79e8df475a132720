"""Proposals from readings and grades, and the record that a person decides and signs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from django.db import transaction
from django.utils import timezone

from yellowjacket.bench.models import Decision, Ladder, OtherDecision, Record, Use
from yellowjacket.bench.models.queries.decisions import Decisions
from yellowjacket.bench.people import trail
from yellowjacket.bench.record.evidence import evidence
from yellowjacket.bench.record.proposals import Proposal, proposals
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.limits.tolerance import LEVELS


def newest_record(ladder: Ladder) -> Record:
    """The record being decided, or the newest signed one; not stored as long as nothing was decided."""
    return ladder.records.last() or Record(ladder=ladder, version=1)


def open_record(ladder: Ladder) -> Record:
    """The same, stored, so that something can be decided."""
    record, _ = Record.objects.get_or_create(ladder=ladder, version=newest_record(ladder).version)
    return record


@transaction.atomic
def decide(record: Record, use: Use, level: str, iso: int | None, person: str = "") -> Decision:
    """Set the decided limit of a use and level; the trail keeps it. Refuses signed records and ISO marks not on the ladder."""
    _must_be_open(record)
    if level not in LEVELS:
        raise Refusal(f"There is no level {level!r}; there are {', '.join(LEVELS)}.")
    if iso is not None and not record.ladder.rungs.filter(iso=iso).exists():
        raise Refusal(f"ISO {iso} is not a rung of this ladder.")
    earlier = record.decisions.filter(use=use, level=level).first()
    decision, _ = Decision.objects.update_or_create(record=record, use=use, level=level, defaults={"iso": iso})
    _noted(
        record, "decided", f"{use.name}, {level}", person, before=earlier.words if earlier else "", after=decision.words
    )
    return decision


@transaction.atomic
def decide_other(record: Record, what: str, use: str, text: str, person: str = "") -> None:
    """Set what is decided of a limit besides the highest ISO as is, in words; nothing opens it again. Refuses signed records
    and limits that name nothing."""
    _must_be_open(record)
    if not what:
        raise Refusal("Say which limit is decided.")
    earlier = record.other_decisions.filter(what=what, use=use).first()
    said = text.strip()[: OtherDecision._meta.get_field("text").max_length]
    if said:
        OtherDecision.objects.update_or_create(record=record, what=what, use=use, defaults={"text": said})
    elif earlier is not None:
        earlier.delete()
    before = earlier.text if earlier else ""
    if said != before:
        _noted(record, "decided", f"{use}, {what}" if use else what, person, before=before, after=said or "open")


def _noted(record: Record, act: str, what: str, person: str, *, before: str = "", after: str = "") -> None:
    about = f"{record.ladder.body.model}, version {record.version}{': ' if what else ''}{what}"
    trail.note(act, about, sitting=record.ladder.sitting, person=person, before=before, after=after)


@transaction.atomic
def accept_proposed(record: Record, person: str = "") -> None:
    """Decide as proposed wherever nothing is decided yet: as measured, else as graded. What is neither stays open."""
    _must_be_open(record)
    decided = set(record.decisions.values_list("use_id", "level"))
    for one in proposals(record.ladder):
        if one.proposed is None or (one.use.pk, one.level) in decided:
            continue
        made = Decision.objects.create(record=record, use=one.use, level=one.level, iso=one.proposed.mark)
        act = "accepted as measured" if one.proposed is one.measured else "accepted as graded"
        _noted(record, act, f"{one.use.name}, {one.level}", person, after=made.words)


def answer_of(record: Record, decisions: Decisions | None = None) -> str:
    """The decided usable limits in a sentence, as a beginning for the tester's own. ``decisions``: of the record, where they are
    known already."""
    known = Decision.objects.of(record) if decisions is None else decisions
    usable = sorted((one for one in known.values() if one.level == "usable"), key=lambda one: one.use.position)
    return usable_in_words([(decision.use.name, decision.iso) for decision in usable])


def usable_in_words(marks: Sequence[tuple[str, int | None]]) -> str:
    """Highest usable ISO by use in a sentence, None where no setting is usable; empty without any.

    >>> usable_in_words([("Web", 6400), ("Large print", 3200), ("Pixel level", 3200)])
    'Usable up to ISO 6400 for web, ISO 3200 for large print and pixel level.'
    """
    by_mark: dict[int | None, list[str]] = {}
    for use, iso in marks:
        by_mark.setdefault(iso, []).append(use.lower())
    parts = [f"ISO {iso} for {' and '.join(uses)}" for iso, uses in by_mark.items() if iso]
    usable = f"Usable up to {', '.join(parts)}." if parts else ""
    never = f"No ISO setting is usable for {' or '.join(by_mark[None])}." if None in by_mark else ""
    return f"{usable} {never}".strip()


def note(record: Record, *, answer: str, text: str) -> None:
    """Keep the tester's answer and note. Refuses signed records."""
    _must_be_open(record)
    record.answer, record.note = answer.strip()[:400], text.strip()[:4000]
    record.save(update_fields=["answer", "note"])


@transaction.atomic
def sign(record: Record, person: str, others: Sequence[Mapping[str, str]] = ()) -> Record:
    """Close the record under a name, with conditions and proposals as they stand now, and ``others``: limits besides ISO."""
    _must_be_open(record)
    if not person.strip():
        raise Refusal("Sign with a name.")
    missing = open_limits(record, others, proposals(record.ladder))
    if missing:
        raise Refusal(
            f"{missing} limit{'s are' if missing > 1 else ' is'} not decided yet. Decide each, or accept what is proposed."
        )
    if record.ladder.kind == Ladder.Kind.ISO and not record.decisions.exists():
        raise Refusal("Nothing is decided yet: measure or grade this ladder, or decide a limit yourself.")
    in_order(record)
    record.signed_by, record.signed_at = person.strip()[:80], timezone.now()
    decided = {(one.what, one.use): one.text for one in record.other_decisions.all()}
    besides = [{**one, "decided": decided.get((one["what"], one["use"]), "")} for one in others]
    marks = [
        {"use": one.use.name, "level": one.level, "iso": one.iso, "words": one.words}
        for one in Decision.objects.of(record).values()
    ]
    record.evidence = {**evidence(record.ladder), "others": besides, "decisions": marks}
    record.save()
    _noted(record, "signed", "", record.signed_by)
    return record


def open_limits(
    record: Record,
    others: Sequence[Mapping[str, str]],
    proposed: Sequence[Proposal],
    decisions: Decisions | None = None,
) -> int:
    """How many limits must still be decided before it is signed: those that something was found of, measured or graded.
    ``decisions``: of the record, where they are known already."""
    if record.ladder.kind == Ladder.Kind.ISO:
        closed = Decision.objects.of(record) if decisions is None else decisions
        return sum(one.proposed is not None and (one.use.pk, one.level) not in closed for one in proposed)
    decided = {(one.what, one.use) for one in record.other_decisions.all()} if record.pk else set()
    return sum(one["text"] != "–" and (one["what"], one["use"]) not in decided for one in others)


def in_order(record: Record) -> None:
    """Refuse limits that contradict each other: clean may not lie above usable, nor usable above emergency."""
    by_use: dict[str, dict[str, int]] = {}
    for decision in Decision.objects.of(record).values():
        by_use.setdefault(decision.use.name, {})[decision.level] = decision.iso or 0
    for use, levels in by_use.items():
        marks = [levels[level] for level in LEVELS if level in levels]
        if marks != sorted(marks):
            raise Refusal(
                f"{use}: clean must not lie above usable, nor usable above emergency. Correct one of the three."
            )


def amend(record: Record, person: str = "") -> Record:
    """Open a new version that begins with the decisions of the signed one, which stays as it is."""
    if not record.signed:
        raise Refusal("This version is still open; change it directly.")
    if record.ladder.records.last() != record:
        raise Refusal("A newer version exists; amend that one.")
    with transaction.atomic():
        version = Record.objects.create(
            ladder=record.ladder, version=record.version + 1, note=record.note, answer=record.answer
        )
        Decision.objects.bulk_create(
            Decision(record=version, use_id=d.use_id, level=d.level, iso=d.iso) for d in record.decisions.all()
        )
        OtherDecision.objects.bulk_create(
            OtherDecision(record=version, what=d.what, use=d.use, text=d.text) for d in record.other_decisions.all()
        )
        _noted(version, "amended", "", person, before=f"version {record.version}", after=f"version {version.version}")
    return version


def _must_be_open(record: Record) -> None:
    if record.signed:
        raise Refusal(f"This record was signed by {record.signed_by}. Amend it to make a new version.")
