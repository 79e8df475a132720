"""Record: limits proposed, decided, signed; print view and exports."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from django.db import transaction
from django.db.models import Case, F, Prefetch, When, prefetch_related_objects
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.development import Developing
from yellowjacket.bench.exchange import readings
from yellowjacket.bench.models import Decision, Ladder, OtherDecision, Record, Rung, Sitting, Use
from yellowjacket.bench.models.queries.decisions import Decisions
from yellowjacket.bench.models.queries.readings import LOOKED_AT
from yellowjacket.bench.people import trail
from yellowjacket.bench.push.iso_invariance import IsoReadings
from yellowjacket.bench.record import other_limits
from yellowjacket.bench.record import proposals as proposals_
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.record.fetched import Fetched
from yellowjacket.bench.record.sides import sides_of
from yellowjacket.bench.record.standing import Standing, newest_signed, standing_of
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import identity, whole
from yellowjacket.core.limits.iso_limits import Limit
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.web.pictures import CropView
from yellowjacket.web.record import cards, reports
from yellowjacket.web.refusals import carried_out, refused
from yellowjacket.web.sheet.lines import Crops, grade_lines
from yellowjacket.web.sheet.stave import Stave, columns_of
from yellowjacket.web.sitting_page import SittingPage

_TRAIL_ROWS = 30
# Signing in one go: every limit that is open is taken as measured.
_ACCEPT = "accept"
# By whether the record is signed.
_UNDECIDED = {False: "open", True: "not decided"}
# Of a rung beside its limit, screen pixels.
_SEEN_PX = (162, 122)


@dataclass(frozen=True, slots=True)
class Row:
    """One use and level: proposal and decision side by side."""

    proposal: proposals_.Proposal
    decision: Decision | None
    decided_text: str = "open"
    # Graded limits with a lane's finish, by its name.
    finished: Sequence[tuple[str, Limit]] = ()


@dataclass(frozen=True, slots=True)
class UseBlock:
    """A use with its three levels."""

    use: Use
    size: str
    rows: list[Row]


@dataclass(frozen=True, slots=True)
class SeenLimit:
    """A limit as it looks: the last rung inside and the first outside, either None where the ladder ends."""

    level: str
    inside: tuple[Rung, CropView | None] | None
    outside: tuple[Rung, CropView | None] | None


def _as_seen(page: SittingPage, standing: Standing) -> list[SeenLimit]:
    """The limits of the use in force, each with the rungs on both of its sides."""
    sides = sides_of(standing, page.use.name, page.rungs)
    if not sides:
        return []
    factor, _ = use_noise_factor(page.ladder.body.pixels, page.use.whole_frame_pixels)
    crops = Crops.of(page)

    def shown(rung: Rung | None) -> tuple[Rung, CropView | None] | None:
        if rung is None:
            return None
        return rung, crops.view(rung, _SEEN_PX, factor=factor, monochrome=page.use.monochrome)

    return [SeenLimit(one.proposal.level, shown(one.inside), shown(one.outside)) for one in sides]


def _context(page: SittingPage, record: Record) -> dict[str, object]:
    # The ladder of the page, with its rungs and the body that it knows; what is said of its body asks the others for theirs.
    record.ladder = page.ladder
    prefetch_related_objects([ladder for ladder in page.ladders if ladder.body_id == page.ladder.body_id], "rungs")
    columns = columns_of(page.rungs, page.rung)
    decisions = _decisions(page, record)
    page.fetch_lanes([page.ladder])
    readings = None
    if page.ladder.kind == Ladder.Kind.ISO:
        readings = IsoReadings.of(
            page.ladder, page.ladders, LOOKED_AT, page.so_far.read, Developing.asked_of(page.ladder)
        )
        page.developing = Developing.told(page.ladder, readings.beside, page.rungs)
    fetched = Fetched(page.grades_by_lane, decisions, page.ladders, page.every_frame, readings, so_far=page.so_far)
    standing = standing_of(record, page.uses, fetched)
    # With a finish the eye alone speaks.
    by_lane = {lane.name: {(p.use.pk, p.level): p.graded for p in found} for lane, found in standing.finished}
    blocks: dict[str, UseBlock] = {}
    for p in standing.proposals:
        finished = [(name, graded[p.use.pk, p.level]) for name, graded in by_lane.items()]
        block = blocks.setdefault(p.use.name, UseBlock(p.use, standing.sizes.get(p.use.name, ""), []))
        decided = standing.decided.get((p.use.name, p.level))
        block.rows.append(
            Row(
                p,
                (decisions or {}).get((p.use.pk, p.level)),
                decided.words if decided else _UNDECIDED[record.signed],
                finished,
            )
        )
    doubts = sorted({doubt for p in standing.proposals for doubt in p.measured.doubts + p.graded.doubts})
    # Only an ISO ladder is graded rung by rung.
    lines = grade_lines(page, standing.proposals) if standing.proposals else []
    stave = Stave(page.ladder, columns, lines)
    found = other_limits.as_evidence([one.limit for one in standing.others])
    open_count = 0 if record.signed else record_.open_limits(record, found, standing.proposals, decisions)
    proposed_by = {"measured" if p.proposed is p.measured else "graded" for p in standing.proposals if p.proposed}
    return page.context(
        record=record, blocks=list(blocks.values()), doubts=doubts, stave=stave, conditions=standing.conditions,
        versions=page.ladder.records.all(), open_count=open_count,
        proposed="measured" if proposed_by <= {"measured"} else "graded" if proposed_by == {"graded"} else "proposed",
        others=standing.others,
        open_others=sum(not row.decided and row.limit.text != "–" for row in standing.others), standing=standing,
        answer=record.answer or ("" if open_count or record.signed else record_.answer_of(record, decisions)),
        seen_limits=_as_seen(page, standing), mark_advice=standing.mark_advice,
        remembered=other_limits.remembered(page.ladder.body) if page.so_far.has_of("remembered", page.ladder) else (),
    )  # fmt: skip


def _decisions(page: SittingPage, record: Record) -> Decisions | None:
    """What is decided of an open version; None of a signed one, whose evidence tells."""
    if record.signed:
        return None
    there = page.so_far.has_of("other decisions", page.ladder)
    if record.pk:
        others = OtherDecision.objects.all() if there else OtherDecision.objects.none()
        prefetch_related_objects([record], Prefetch("other_decisions", others))
    return Decision.objects.of(record) if page.so_far.has_of("decisions", page.ladder) else {}


def _fetch_versions(page: SittingPage, shown: int | None) -> Sequence[Record]:
    """Versions of the ladder's record, in order; who asks the ladder for them gets the same. What one rests on is large: that of
    the one that is ``shown``, None the newest, comes with it, others are read from the database when they are asked for."""
    newest = page.so_far.ladders[page.ladder.pk].version
    kept = Case(When(version=newest if shown is None else shown, then=F("evidence")))
    versions = Record.objects.defer("evidence").annotate(kept=kept) if newest else Record.objects.none()
    prefetch_related_objects([page.ladder], Prefetch("records", versions))
    for one in page.ladder.records.all():
        if one.kept is not None:
            one.evidence = one.kept
    return page.ladder.records.all()


def _record(request: HttpRequest, page: SittingPage) -> Record:
    """The version asked for, else the newest."""
    version = whole(request.GET.get("version") or request.POST.get("version"))
    versions = _fetch_versions(page, version)
    # The first version is there to be decided before anything of it is stored.
    if version is not None and (version != 1 or versions):
        found = next((one for one in versions if one.version == version), None)
        if found is None:
            raise Http404
        return found
    if request.method == "POST":
        return record_.open_record(page.ladder)
    return versions[len(versions) - 1] if versions else Record(ladder=page.ladder, version=1)


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The record of the sitting's ladder."""
    sitting_page = SittingPage(request, sitting_id, "record")
    return render(request, "record/page.html", _context(sitting_page, _record(request, sitting_page)))


@require_POST
def decide(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Set one decided limit; answers with the table."""
    sitting_page = SittingPage(request, sitting_id, "record")
    record = _record(request, sitting_page)
    mark = request.POST.get("decided", "")

    def decide_it() -> None:
        iso = whole(mark, 1)
        if mark != "none" and iso is None:
            raise Refusal("Choose a mark, or none.")
        use = get_object_or_404(Use, sitting=sitting_page.sitting, pk=identity(request.POST.get("for_use")))
        record_.decide(record, use, request.POST.get("level", ""), iso, sitting_page.person)

    return _answered(request, sitting_id, "record/_table.html", refused(decide_it))


@require_POST
def decide_other(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Set what is decided of another limit; answers with their table."""
    sitting_page = SittingPage(request, sitting_id, "record")
    record = _record(request, sitting_page)
    said = request.POST
    what, use, decided = said.get("what", ""), said.get("limit_use", ""), said.get("decided_other", "")
    message = refused(lambda: record_.decide_other(record, what, use, decided, sitting_page.person))
    return _answered(request, sitting_id, "record/_others.html", message)


def _answered(request: HttpRequest, sitting_id: int, template: str, message: str) -> HttpResponse:
    """A part of the page after a decision, a refusal above it."""
    # Another page: what the first one had asked for has changed.
    page = SittingPage(request, sitting_id, "record")
    return render(request, template, _context(page, _record(request, page)) | {"message": message})


def _carry_out(request: HttpRequest, sitting_id: int, action: Callable[[SittingPage, Record], object]) -> HttpResponse:
    sitting_page = SittingPage(request, sitting_id, "record")
    record = _record(request, sitting_page)
    carried_out(request, lambda: action(sitting_page, record))
    return redirect(sitting_page.url("record"))


@require_POST
def accept(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Decide as proposed where nothing is decided."""
    return _carry_out(request, sitting_id, lambda page, record: record_.accept_proposed(record, page.person))


@require_POST
def accept_others(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Take over as measured what is open besides ISO."""

    def action(page: SittingPage, record: Record) -> None:
        other_limits.take_over(record, other_limits.of_ladder(page.ladder, page.uses), page.person)

    return _carry_out(request, sitting_id, action)


@require_POST
def sign(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Keep the note and sign."""

    # What cannot be signed is not accepted either.
    @transaction.atomic
    def action(page: SittingPage, record: Record) -> None:
        others = other_limits.of_ladder(page.ladder, page.uses)
        answer, signed_by = request.POST.get("answer", ""), request.POST.get("signed_by", "")
        if request.POST.get("sign") == _ACCEPT:
            record_.accept_proposed(record, page.person or signed_by)
            other_limits.take_over(record, others, page.person or signed_by)
            answer = answer or record_.answer_of(record)
        record_.note(record, answer=answer, text=request.POST.get("note", ""))
        if "sign" in request.POST:
            record_.sign(record, signed_by, other_limits.as_evidence(others))
            page.person = page.person or signed_by

    return _carry_out(request, sitting_id, action)


@require_POST
def remember(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """A limit from before, typed by hand; back to the record."""
    said = request.POST

    def action(page: SittingPage, _: Record) -> None:
        other_limits.remember(
            page.ladder.body, said.get("what", ""), said.get("text", ""), said.get("use_name", ""), said.get("source", ""),
            page.person,
        )  # fmt: skip

    return _carry_out(request, sitting_id, action)


@require_POST
def amend(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Open a new version of a signed record."""
    return _carry_out(request, sitting_id, lambda page, record: record_.amend(record, page.person))


@require_GET
def history(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Who decided what of the sitting, and when, the newest first."""
    sitting = SittingPage(request, sitting_id, "record").sitting
    return render(request, "record/_history.html", {"rows": trail.of_sitting(sitting)[:_TRAIL_ROWS]})


@require_GET
def printed(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The record on paper: no navigation."""
    sitting_page = SittingPage(request, sitting_id, "record")
    return render(request, "record/print.html", _context(sitting_page, _record(request, sitting_page)))


@require_GET
def readings_csv(request: HttpRequest, sitting_id: int) -> StreamingHttpResponse:
    """Every reading as a row."""
    sitting = SittingPage(request, sitting_id, "record").sitting
    response = StreamingHttpResponse(readings.readings_csv(sitting), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="{slugify(sitting.name) or "sitting"}-readings.csv"'
    return response


@require_GET
def sitting_json(request: HttpRequest, sitting_id: int) -> JsonResponse:
    """The whole sitting."""
    sitting = SittingPage(request, sitting_id, "record").sitting
    response = JsonResponse(readings.sitting_document(sitting), json_dumps_params={"indent": 1, "ensure_ascii": False})
    response["Content-Disposition"] = f'attachment; filename="{slugify(sitting.name) or "sitting"}.json"'
    return response


_CARDS = {
    "svg": ("image/svg+xml", cards.as_svg), "pdf": ("application/pdf", cards.as_pdf),
    "txt": ("text/plain; charset=utf-8", cards.as_text),
}  # fmt: skip


def _report_pdf(sitting: Sitting) -> bytes:
    from yellowjacket.web.record.report_pdf import report_pdf

    return report_pdf(sitting)


_REPORTS = {
    "html": ("text/html; charset=utf-8", reports.report_html), "pdf": ("application/pdf", _report_pdf),
}  # fmt: skip


@require_GET
def report(request: HttpRequest, sitting_id: int, kind: str) -> HttpResponse:
    """The whole sitting as one file that needs nothing else."""
    sitting = SittingPage(request, sitting_id, "record").sitting
    if kind not in _REPORTS:
        raise Http404
    content_type, make = _REPORTS[kind]
    response = HttpResponse(make(sitting), content_type=content_type)
    response["Content-Disposition"] = f'attachment; filename="{slugify(sitting.name) or "sitting"}-report.{kind}"'
    return response


@require_GET
def card(request: HttpRequest, sitting_id: int, kind: str) -> HttpResponse:
    """The field card of the newest signed record of the ladder."""
    page_ = SittingPage(request, sitting_id, "record")
    signed = newest_signed(page_.ladder)
    if signed is None or kind not in _CARDS:
        raise Http404
    content_type, make = _CARDS[kind]
    response = HttpResponse(make(cards.card_of(signed)), content_type=content_type)
    name = slugify(f"{page_.ladder.body} card") or "card"
    response["Content-Disposition"] = f'{"inline" if kind == "pdf" else "attachment"}; filename="{name}.{kind}"'
    return response
