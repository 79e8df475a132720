"""The desk: bodies with their limits, sittings with what is left to do."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.contrib import messages
from django.core.paginator import Page, Paginator
from django.db.models import Count, QuerySet
from django.http import FileResponse, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.models import Body, Decision, Lens, Record, Rung, RungDarks, Shot, Sitting
from yellowjacket.bench.services import adopting, finding, history, register, sitting_archive, spread
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.core.tolerance import LEVELS
from yellowjacket.web.desk.forms import BodyForm, LensForm
from yellowjacket.web.plan.forms import DEFAULT_PROFILE, offered_uses

_SITTINGS_A_PAGE = 40


@dataclass(frozen=True, slots=True)
class LimitRow:
    """The newest signed limits of a body for one use."""

    use: str
    marks: list[str]


@dataclass(frozen=True, slots=True)
class BodyRow:
    """A body on the desk."""

    body: Body
    record: Record | None
    limits: list[LimitRow]


def desk(request: HttpRequest) -> HttpResponse:
    """Everything at a glance."""
    asked = request.GET.get("page", "1")
    sittings = _sittings(int(asked) if asked.isdigit() else 1)
    context = {
        "bodies": _body_rows(), "page": sittings, "sittings": _sitting_rows(sittings), "levels": LEVELS, "place": "desk",
    }  # fmt: skip
    return render(request, "desk/desk.html", context)


def _body_rows() -> list[BodyRow]:
    """Bodies with the limits of their newest signed record, in four queries whatever their number."""
    signed = Record.objects.filter(signed_at__isnull=False).order_by("signed_at")
    last = dict(signed.values_list("ladder__body_id", "pk"))
    records = Record.objects.filter(pk__in=last.values()).select_related("ladder__sitting")
    newest: dict[int, Record] = {record.ladder.body_id: record for record in records}
    decisions: dict[int, dict[str, dict[str, str]]] = {}
    for decision in Decision.objects.filter(record__in=newest.values()).select_related("use").order_by("use__position"):
        uses = decisions.setdefault(decision.record_id, {})
        uses.setdefault(decision.use.name, {})[decision.level] = str(decision.iso or "none")
    rows = []
    for body in Body.objects.all():
        found = newest.get(body.pk)
        limits = decisions.get(found.pk, {}) if found else {}
        rows.append(
            BodyRow(body, found, [LimitRow(use, [marks.get(v, "–") for v in LEVELS]) for use, marks in limits.items()])
        )
    return rows


@dataclass(frozen=True, slots=True)
class SittingRow:
    """A sitting on the desk: light shots planned and taken, rungs and how many are measured, darks, signed records."""

    sitting: Sitting
    planned: int
    taken: int
    rungs: int
    measured: int
    darks: int
    signed: int


def _sittings(page: int) -> Page[Sitting]:
    return Paginator(Sitting.objects.prefetch_related("ladders__body"), _SITTINGS_A_PAGE).get_page(page)


def _sitting_rows(sittings: Iterable[Sitting]) -> list[SittingRow]:
    """What is left to do of each, counted table by table: one join over all would multiply them."""
    shown = list(sittings)

    def counted(rows: QuerySet[Any], to_sitting: str) -> dict[int, int]:
        found = rows.filter(**{f"{to_sitting}__in": [one.pk for one in shown]}).order_by().values_list(to_sitting)
        return dict(found.annotate(Count("pk")))

    shots = Shot.objects.filter(kind=Shot.Kind.LIGHT)
    planned = counted(shots, "rung__ladder__sitting")
    taken = counted(shots.filter(frame__isnull=False), "rung__ladder__sitting")
    rungs = counted(Rung.objects.all(), "ladder__sitting")
    measured = counted(Rung.objects.exclude(measured_inputs=""), "ladder__sitting")
    dark = counted(RungDarks.objects.all(), "rung__ladder__sitting")
    signed = counted(Record.objects.filter(signed_at__isnull=False), "ladder__sitting")
    return [
        SittingRow(one, *(found.get(one.pk, 0) for found in (planned, taken, rungs, measured, dark, signed)))
        for one in shown
    ]


def bodies(request: HttpRequest) -> HttpResponse:
    """The register: bodies and lenses."""
    context = {
        "bodies": Body.objects.annotate(sitting_count=Count("ladders")).prefetch_related("firmware_versions"),
        "lenses": Lens.objects.all(), "lens_form": LensForm(), "place": "bodies",
    }  # fmt: skip
    return render(request, "desk/bodies.html", context)


def edit_body(request: HttpRequest, body_id: int | None = None) -> HttpResponse:
    """Add or correct a body."""
    body = get_object_or_404(Body, pk=body_id) if body_id else None
    form = BodyForm(request.POST or None, instance=body)
    if request.method == "POST" and form.is_valid():
        saved = form.save()
        messages.success(request, f"{saved} is in the register.")
        return redirect("desk:bodies")
    context = {
        "form": form, "body": body, "place": "bodies", "history": history.of_body(body) if body else (),
        "sittings": Sitting.objects.filter(ladders__body=body).distinct() if body else (),
    }  # fmt: skip
    return render(request, "desk/body.html", context)


@require_POST
def take_in(request: HttpRequest) -> HttpResponse:
    """A sitting from an archive file; to its plan when it is in."""
    upload = request.FILES.get("archive")
    try:
        if upload is None or upload.file is None:
            raise Refusal("Choose an archive file of a sitting first.")
        if (upload.size or 0) > settings.ARCHIVE_MAX_BYTES:
            raise Refusal(f"{upload.name} is larger than {settings.ARCHIVE_MAX_BYTES // 1024**3} GB.")
        taken = sitting_archive.read(upload.file, upload.name or "the file", again="again" in request.POST)
    except Refusal as refusal:
        messages.error(request, str(refusal))
        return redirect("desk:archive")
    messages.success(request, f"“{taken.sitting}” is in. " + " ".join(f"{one.capitalize()}." for one in taken.remarks))
    return redirect("plan:page", sitting_id=taken.sitting.pk)


@require_GET
def give(request: HttpRequest, sitting_id: int) -> FileResponse:
    """A sitting as an archive file, with its originals or without."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    file = tempfile.TemporaryFile(prefix="yellowjacket-")  # noqa: SIM115 - the response closes it
    sitting_archive.write(sitting, file, originals=request.GET.get("originals") == "yes")
    file.seek(0)
    name = f"{slugify(sitting.name) or 'sitting'}.yellowjacket.zip"
    return FileResponse(file, as_attachment=True, filename=name, content_type="application/zip")


@require_GET
def search(request: HttpRequest) -> HttpResponse:
    """Bodies, sittings, notes and file names by a few words."""
    text = request.GET.get("q", "").strip()[:80]
    return render(request, "desk/search.html", {"text": text, "hits": finding.find(text), "place": "desk"})


@require_POST
def body_from_frame(request: HttpRequest) -> HttpResponse:
    """The form for a new body, filled in from one of its frames; everything can be overridden."""
    upload = request.FILES.get("frame")
    if upload is None:
        messages.error(request, "Choose a raw file of the body first.")
        return redirect("desk:body-new")
    try:
        values = register.body_values_from(upload)
    except Refusal as refusal:
        messages.error(request, str(refusal))
        return redirect("desk:body-new")
    form = BodyForm(initial=values)
    return render(request, "desk/body.html", {"form": form, "body": None, "place": "bodies", "from_frame": upload.name})


@require_POST
def add_lens(request: HttpRequest) -> HttpResponse:
    """Add a lens to the register."""
    form = LensForm(request.POST)
    if form.is_valid():
        messages.success(request, f"{form.save()} is in the register.")
    else:
        messages.error(request, " ".join(str(error) for errors in form.errors.values() for error in errors))
    return redirect("desk:bodies")


@require_POST
def adopt(request: HttpRequest) -> HttpResponse:
    """Adopt a folder of this machine, or files sent by the browser: the shortest way from files to a stave."""
    try:
        uploads = request.FILES.getlist("frames")
        if uploads:
            sitting = adopting.adopt_uploads(uploads, offered_uses(), DEFAULT_PROFILE)
        else:
            sitting = adopting.adopt_folder(request.POST.get("folder", ""), offered_uses(), DEFAULT_PROFILE)
    except Refusal as refusal:
        messages.error(request, str(refusal))
        return redirect("desk:page")
    return redirect("desk:adopting", sitting_id=sitting.pk)


def adopting_page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """How far adopting is; as soon as there are ladders, their stave."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    job = sitting.jobs.last()
    if sitting.ladders.exists() and (job is None or not job.open):
        if job is not None:
            messages.success(request, f"{job.message}. What was guessed stands in the log below.")
        return redirect("check:page", sitting_id=sitting.pk)
    return render(
        request,
        "desk/adopting.html",
        {"sitting": sitting, "job": job, "problems": sitting.problems.all(), "place": "desk"},
    )


def archive(request: HttpRequest) -> HttpResponse:
    """How all light frames that are in are spread over ISO and exposure time."""
    return render(request, "desk/archive.html", {"spread": spread.of_archive(), "place": "archive"})
