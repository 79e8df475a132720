"""Lanes: corrections and frames to export, finished pictures to import, and what was done to them."""

from __future__ import annotations

import tempfile
import zipfile
from pathlib import Path

from django.contrib import messages
from django.db.models import QuerySet
from django.http import FileResponse, HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.intake import originals
from yellowjacket.bench.look import renditions
from yellowjacket.bench.models import Lane, LanePicture, Problem, Rung
from yellowjacket.bench.typed import identity
from yellowjacket.web.refusals import carried_out
from yellowjacket.web.sitting_page import SittingPage

_ONE_EACH = "one"


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The lanes of the current ladder with their pictures."""
    sitting_page = SittingPage(request, sitting_id, "look")
    found = []
    for lane in sitting_page.ladder.lanes.prefetch_related("pictures__rung", "pictures__frame"):
        found.append((lane, [(picture, renditions.effect_of(picture)) for picture in lane.pictures.all()]))
    problems = _complaints(sitting_page)
    return render(
        request, "lanes/page.html",
        sitting_page.context(
            lanes=found, kinds=Lane.Kind.choices, caution=renditions.EVEN_OUT, problems=problems,
            with_light=sum(bool(sitting_page.light(rung)) for rung in sitting_page.rungs),
        ),
    )  # fmt: skip


def _complaints(page: SittingPage) -> QuerySet[Problem]:
    return page.sitting.problems.filter(path__contains="/lane-")


@require_POST
def clear(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Clear the list of pictures that were not placed."""
    page_ = SittingPage(request, sitting_id, "look")
    _complaints(page_).delete()
    return _back(page_)


def _back(page: SittingPage) -> HttpResponse:
    return redirect(f"{page.url('lanes')}")


@require_POST
def new(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """A new lane, and the pictures dropped with it."""
    sitting_page = SittingPage(request, sitting_id, "look")

    def make() -> None:
        said = request.POST
        lane = renditions.create_lane(
            sitting_page.ladder,
            said.get("kind", ""),
            said.get("name", ""),
            said.get("settings", ""),
            sitting_page.person,
        )
        if request.FILES.getlist("files"):
            renditions.add_pictures(lane, request.FILES.getlist("files"))
        else:
            messages.success(request, f"“{lane}” is there; drop its pictures on it.")

    carried_out(request, make)
    return _back(sitting_page)


def _lane(page: SittingPage, lane_id: int) -> Lane:
    return get_object_or_404(Lane.objects.select_related("ladder__sitting"), ladder=page.ladder, pk=lane_id)


@require_POST
def add(request: HttpRequest, sitting_id: int, lane_id: int) -> HttpResponse:
    """More pictures for a lane."""
    sitting_page = SittingPage(request, sitting_id, "look")
    lane = _lane(sitting_page, lane_id)
    carried_out(request, lambda: renditions.add_pictures(lane, request.FILES.getlist("files")))
    return _back(sitting_page)


@require_POST
def assign(request: HttpRequest, sitting_id: int, lane_id: int) -> HttpResponse:
    """A picture to another rung, by hand."""
    sitting_page = SittingPage(request, sitting_id, "look")
    picture = get_object_or_404(
        LanePicture.objects.select_related("lane"),
        lane=_lane(sitting_page, lane_id),
        pk=identity(request.POST.get("picture")),
    )
    rung = get_object_or_404(Rung, ladder=sitting_page.ladder, pk=identity(request.POST.get("to")))
    carried_out(request, lambda: renditions.assign(picture, rung))
    return _back(sitting_page)


@require_POST
def remove(request: HttpRequest, sitting_id: int, lane_id: int) -> HttpResponse:
    """Take a lane away; refused while grades rest on it."""
    sitting_page = SittingPage(request, sitting_id, "look")
    lane = _lane(sitting_page, lane_id)
    carried_out(request, lambda: renditions.remove(lane))
    return _back(sitting_page)


@require_GET
def corrections(request: HttpRequest, sitting_id: int) -> StreamingHttpResponse:
    """The corrections of every frame as CSV."""
    page_ = SittingPage(request, sitting_id, "look")
    response = StreamingHttpResponse(renditions.corrections_csv(page_.ladder), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="{_name(page_)}-corrections.csv"'
    return response


@require_GET
def frames(request: HttpRequest, sitting_id: int) -> HttpResponse | FileResponse:
    """The frames of the ladder with a side-car each and the table, as a zip; the first of every rung, or all."""
    page_ = SittingPage(request, sitting_id, "look")
    one_each = request.GET.get("which") == _ONE_EACH
    file = tempfile.TemporaryFile(prefix="yellowjacket-")  # noqa: SIM115 - the response closes it
    missing = []
    seen: set[int] = set()
    with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as archive:
        for one in renditions.corrections(page_.ladder):
            if one_each and one.rung.pk in seen:
                continue
            seen.add(one.rung.pk)
            trouble = originals.complaint(one.frame)
            if trouble is not None:
                missing.append(str(trouble))
                continue
            path = Path(one.frame.path)
            archive.write(path, path.name)
            archive.writestr(f"{path.stem}.xmp", renditions.sidecar(one))
        archive.writestr("corrections.csv", "".join(renditions.corrections_csv(page_.ladder)))
        if missing:
            archive.writestr("missing.txt", "Left out:\n" + "\n".join(missing) + "\n")
    file.seek(0)
    return FileResponse(file, as_attachment=True, filename=f"{_name(page_)}-frames.zip", content_type="application/zip")


def _name(page: SittingPage) -> str:
    return slugify(f"{page.sitting.name} {page.ladder.body.model}") or "ladder"
