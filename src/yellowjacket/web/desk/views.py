"""The desk: bodies with their limits, sittings with what is left to do."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from typing import IO, TypeVar

from django.contrib import messages
from django.core.paginator import Page, Paginator
from django.db.models import Count, Model, QuerySet
from django.http import FileResponse, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.exchange import deleted_sittings, pending_archives, plain_folder, sitting_archive
from yellowjacket.bench.intake import adopt as adopt_
from yellowjacket.bench.intake import importing
from yellowjacket.bench.intake.importing import FolderNotAllowed
from yellowjacket.bench.models import Body, Lens, Sitting
from yellowjacket.bench.plan.uses import offered_uses
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.register import bodies as bodies_
from yellowjacket.bench.register import desk as desk_
from yellowjacket.bench.register import history, usage
from yellowjacket.bench.register import search as search_
from yellowjacket.bench.shoot import conditions
from yellowjacket.bench.simulation import try_out as simulated_try_out
from yellowjacket.bench.tolerance.profiles import DEFAULT_PROFILE
from yellowjacket.bench.typed import identity, whole
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.web import folders
from yellowjacket.web.desk.forms import BodyForm, LensForm
from yellowjacket.web.folders import asked_to_allow
from yellowjacket.web.graphics.drawing import on_page
from yellowjacket.web.limit_rows import chart_of_body
from yellowjacket.web.refusals import carried_out, or_back_to, refused

_SITTINGS_A_PAGE, _BODIES_A_PAGE = 25, 25
T = TypeVar("T", bound=Model)


def desk(request: HttpRequest) -> HttpResponse:
    """Everything at a glance."""
    sittings = _page(request, "page", Sitting.objects.prefetch_related("ladders__body"), _SITTINGS_A_PAGE)
    bodies = _page(request, "bodies", Body.objects.all(), _BODIES_A_PAGE)
    context = {
        "bodies": desk_.body_rows(bodies), "bodies_page": bodies, "page": sittings,
        "sittings": desk_.sitting_rows(sittings), "levels": LEVELS, "place": "desk",
        "deleted": deleted_sittings.deleted(),
    }  # fmt: skip
    return render(request, "desk/desk.html", context)


def _page(request: HttpRequest, name: str, rows: QuerySet[T], a_page: int) -> Page[T]:
    """The part of the rows that the address asks for, the first where it asks for none."""
    return Paginator(rows, a_page).get_page(request.GET.get(name))


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
    limits = chart_of_body(body) if body else None
    battery = conditions.batteries_of([body])[body] if body else None
    context = {
        "limits": limits and {"ladder": limits[0], "svg": on_page(limits[1])},
        "battery": battery if battery and battery.known else None, "room": conditions.room_of(body) if body else None,
        "form": form, "body": body, "place": "bodies", "history": history.of_body(body) if body else (),
        "sittings": Sitting.objects.filter(ladders__body=body).distinct() if body else (),
    }  # fmt: skip
    return render(request, "desk/body.html", context)


@require_POST
@or_back_to("desk:archive")
def take_in(request: HttpRequest) -> HttpResponse:
    """A sitting from an archive file; to its plan when it is in, to a question where something is here already."""
    name = request.POST.get("name") or getattr(request.FILES.get("archive"), "name", "") or "the file"
    described = request.POST.get("described", sitting_archive.ASK)
    waiting = pending_archives.kept(request.POST.get("token", "")) or pending_archives.keep(
        request.FILES.get("archive")
    )
    try:
        taken = sitting_archive.read(waiting.path, name, again="again" in request.POST, described=described)
    except sitting_archive.Question as question:
        context = {"place": "archive", "question": question, "token": waiting.token, "name": name}
        return render(request, "desk/question.html", context)
    except Refusal:
        pending_archives.let_go(waiting)
        raise
    pending_archives.let_go(waiting)
    messages.success(request, f"“{taken.sitting}” is in. " + " ".join(f"{one.capitalize()}." for one in taken.remarks))
    return redirect("plan:page", sitting_id=taken.sitting.pk)


@require_GET
def give(request: HttpRequest, sitting_id: int) -> FileResponse:
    """A sitting as an archive file, with its originals or without."""
    originals = request.GET.get("originals") == "yes"
    return _given(sitting_id, ".yellowjacket", lambda one, file: sitting_archive.write(one, file, originals=originals))


@require_GET
def plain(request: HttpRequest, sitting_id: int) -> FileResponse:
    """The frames of a sitting as a plain folder, named by body and rung."""
    return _given(sitting_id, "-frames", plain_folder.write)


def _given(sitting_id: int, suffix: str, write: Callable[[Sitting, IO[bytes]], object]) -> FileResponse:
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    file = tempfile.TemporaryFile(prefix="yellowjacket-")  # noqa: SIM115 - the response closes it
    write(sitting, file)
    file.seek(0)
    name = f"{slugify(sitting.name) or 'sitting'}{suffix}.zip"
    return FileResponse(file, as_attachment=True, filename=name, content_type="application/zip")


@require_GET
def search(request: HttpRequest) -> HttpResponse:
    """Bodies, sittings, notes and file names by a few words."""
    text = request.GET.get("q", "").strip()[:80]
    return render(
        request, "desk/search.html", {"text": text, "found": search_.find(text), "most": search_.MOST, "place": "desk"}
    )


@require_POST
@or_back_to("desk:body-new")
def body_from_frame(request: HttpRequest) -> HttpResponse:
    """The form for a new body, filled in from one of its frames; everything can be overridden."""
    upload = request.FILES.get("frame")
    if upload is None:
        raise Refusal("Choose a raw file of the body first.")
    form = BodyForm(initial=bodies_.body_values_from(upload))
    return render(request, "desk/body.html", {"form": form, "body": None, "place": "bodies", "from_frame": upload.name})


@require_POST
def body_simulated(request: HttpRequest) -> HttpResponse:
    """The simulated camera in the register, marked as such; on to a plan for it."""
    body = simulated_try_out.body()
    messages.success(
        request, f"{body} is a simulated camera: it shoots by itself. Delete it on its page when you are done."
    )
    return redirect("plan:new")


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
@or_back_to("desk:page")
def try_out(request: HttpRequest) -> HttpResponse:
    """A first test with the simulated camera; to where its frames come in."""
    sitting = simulated_try_out.begin(offered_uses(), DEFAULT_PROFILE)
    return redirect("shoot:page", sitting_id=sitting.pk)


@require_POST
@or_back_to("desk:page")
def delete_sitting(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Delete a sitting; it can be restored from the desk."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    frames = sitting.frames.count()
    gone = deleted_sittings.delete(sitting)
    kept = f" Its {frames} frames stay where they are." if frames else ""
    messages.success(request, f"“{gone.name}” is deleted.{kept} You can restore it below.")
    return redirect("desk:page")


@require_POST
@or_back_to("desk:page")
def restore_sitting(request: HttpRequest, token: str) -> HttpResponse:
    """Bring a deleted sitting back, or delete it for good."""
    if "for_good" in request.POST:
        deleted_sittings.delete_for_good(token)
        messages.success(request, "The sitting is deleted for good. Its frames stay where they are.")
        return redirect("desk:page")
    messages.success(request, f"“{deleted_sittings.restore(token)}” is restored.")
    return redirect("desk:page")


@require_POST
@or_back_to("desk:bodies")
def delete_body(request: HttpRequest, body_id: int) -> HttpResponse:
    """Delete a body that nothing belongs to."""
    body = get_object_or_404(Body, pk=body_id)
    bodies_.delete(body)
    messages.success(request, f"{body} is deleted.")
    return redirect("desk:bodies")


@require_POST
@or_back_to("desk:page")
def adopt(request: HttpRequest) -> HttpResponse:
    """Adopt a folder of this machine, or files sent by the browser: the shortest way from files to a stave."""
    uploads = request.FILES.getlist("frames")
    try:
        if uploads:
            sitting = adopt_.adopt_uploads(uploads, offered_uses(), DEFAULT_PROFILE)
        else:
            sitting = adopt_.adopt_folder(request.POST.get("folder", ""), offered_uses(), DEFAULT_PROFILE)
    except FolderNotAllowed as refusal:
        return asked_to_allow(request, refusal)
    return redirect("desk:adopting", sitting_id=sitting.pk)


@require_POST
@or_back_to("desk:page")
def allow(request: HttpRequest) -> HttpResponse:
    """Allow a folder and go on with what it was wanted for."""
    folder = folders.allow(request)
    sitting = Sitting.objects.filter(pk=identity(request.POST.get("sitting"))).first()
    if sitting is None:
        made = adopt_.adopt_folder(folder, offered_uses(), DEFAULT_PROFILE)
        return redirect("desk:adopting", sitting_id=made.pk)
    carried_out(request, lambda: importing.import_folder(sitting, folder))
    return redirect("shoot:page", sitting_id=sitting.pk)


def adopting_page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """How far adopting is; as soon as there are ladders, their stave."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    job = sitting.jobs.last()
    if sitting.ladders.exists() and (job is None or not job.open):
        if job is not None:
            messages.success(request, f"{job.message}. What was guessed is listed in the log below.")
        return redirect("check:page", sitting_id=sitting.pk)
    return render(
        request,
        "desk/adopting.html",
        {
            "sitting": sitting,
            "job": job,
            "problems": sitting.problems.all(),
            "alone": sitting.frames.defer("report"),
            "place": "desk",
            "found": adopt_.offered_to(sitting),
        },
    )


@require_POST
def take_found(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Make the sittings that were ticked."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    if "leave" in request.POST:
        refusal = refused(lambda: adopt_.leave(sitting))
        return redirect("desk:page") if not refusal else redirect("desk:adopting", sitting_id=sitting.pk)
    wanted = [whole(text) for text in request.POST.getlist("found")]
    refusal = refused(lambda: adopt_.take(sitting, [n for n in wanted if n is not None]))
    if refusal:
        messages.error(request, refusal)
    return redirect("desk:adopting", sitting_id=sitting.pk)


def archive(request: HttpRequest) -> HttpResponse:
    """How all light frames that are in are spread over ISO and exposure time."""
    return render(request, "desk/archive.html", {"spread": usage.of_archive(), "place": "archive"})
