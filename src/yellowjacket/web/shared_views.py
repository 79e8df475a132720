"""What several pages use: progress of long work, pictures, where a value comes from, who is judging."""

from __future__ import annotations

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.urls import path
from django.views.decorators.http import require_GET, require_POST
from django_htmx.http import HttpResponseClientRefresh

from yellowjacket.bench.jobs import queue
from yellowjacket.bench.models import Frame, Job, LanePicture, Reading
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import decimal
from yellowjacket.core.prediction.sensor_at import NoPicture
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.rect import Rect
from yellowjacket.web import pictures, predicted
from yellowjacket.web.glossary import LINES, TERMS

_YEAR_S = 31_536_000
_LARGEST_CROP_PX, _LARGEST_FACTOR = 1600, 64.0


@require_GET
def glossary(request: HttpRequest) -> HttpResponse:
    """What the lines and the product's own words mean."""
    return render(request, "glossary.html", {"terms": TERMS, "lines": LINES.items()})


@require_GET
def job_progress(request: HttpRequest, job_id: int) -> HttpResponse:
    """The progress bar; when the work has ended the page is told to reload itself once."""
    return _progress(request, get_object_or_404(Job, pk=job_id))


def _progress(request: HttpRequest, job: Job) -> HttpResponse:
    return render(request, "stave/_job.html", {"job": job}) if job.open else HttpResponseClientRefresh()


@require_POST
def job_stop(request: HttpRequest, job_id: int) -> HttpResponse:
    """Ask long work to stop; where it had not begun it has ended now."""
    job = get_object_or_404(Job, pk=job_id)
    queue.stop(job)
    job.refresh_from_db()
    return _progress(request, job)


@require_POST
def job_dismiss(request: HttpRequest, job_id: int) -> HttpResponse:
    """What a job had to tell was read."""
    queue.dismiss(get_object_or_404(Job, pk=job_id))
    return HttpResponse()


def _frame(frame_id: int) -> Frame:
    return get_object_or_404(Frame.objects.defer("report"), pk=frame_id)


def picture_response(data: bytes, kind: str) -> HttpResponse:
    """A picture that browsers may keep for good."""
    response = HttpResponse(data, content_type=kind)
    # The URL names the content; another development has another URL.
    response["Cache-Control"] = f"private, max-age={_YEAR_S}, immutable"
    return response


@require_GET
def crop(request: HttpRequest, frame_id: int, x: int, y: int, w: int, h: int) -> HttpResponse:
    """A crop of a frame as PNG, developed as the address says."""
    frame = _frame(frame_id)
    try:
        how, factor = pictures.asked_for(frame, request.GET.dict())
        if max(w, h) > _LARGEST_CROP_PX * factor or not Rect(x, y, w, h).fits(frame.width, frame.height):
            raise Http404
        treated = pictures.Treated.asked_for(request.GET.dict(), frame)
        return picture_response(pictures.crop_png(frame, Rect(x, y, w, h), how, factor, treated), "image/png")
    except (ValueError, FrameError, Refusal) as error:
        raise Http404(str(error)) from error


@require_GET
def lane_crop(request: HttpRequest, picture_id: int, x: int, y: int, w: int, h: int) -> HttpResponse:
    """A crop of a lane's picture as PNG."""
    picture = get_object_or_404(LanePicture, pk=picture_id)
    try:
        factor = decimal(request.GET.get("f", "1"), 1, _LARGEST_FACTOR)
        if factor is None or max(w, h) > _LARGEST_CROP_PX * factor:
            raise Http404
        if not Rect(x, y, w, h).fits(picture.width, picture.height):
            raise Http404
        data = pictures.lane_crop_png(picture, Rect(x, y, w, h), factor, monochrome="m" in request.GET)
        return picture_response(data, "image/png")
    except (ValueError, FrameError) as error:
        raise Http404(str(error)) from error


@require_GET
def predicted_crop(request: HttpRequest, ladder_id: int, x: int, y: int, w: int, h: int) -> HttpResponse:
    """A crop of a ladder's clean frame as it would look at another setting, as PNG."""
    try:
        factor = decimal(request.GET.get("f", "1"), 1, _LARGEST_FACTOR)
        if factor is None or max(w, h) > _LARGEST_CROP_PX * factor:
            raise Http404
        data = predicted.predicted_png(ladder_id, Rect(x, y, w, h), request.GET.dict())
        return picture_response(data, "image/png")
    except (ValueError, NoPicture, FrameError) as error:
        raise Http404(str(error)) from error


@require_GET
def overview(request: HttpRequest, frame_id: int) -> HttpResponse:
    """The whole frame, reduced."""
    frame = _frame(frame_id)
    try:
        how, _ = pictures.asked_for(frame, request.GET.dict())
        return picture_response(pictures.overview_jpeg(frame, how), "image/jpeg")
    except (ValueError, FrameError) as error:
        raise Http404(str(error)) from error


@require_GET
def provenance(request: HttpRequest, reading_id: int) -> HttpResponse:
    """Where a value comes from: frames, patch, formula, n, interval, pixels left out."""
    reading = get_object_or_404(Reading.objects.select_related("rung__ladder", "patch"), pk=reading_id)
    files = Frame.objects.files_of([reading.rung])[reading.rung.pk]
    return render(
        request, "stave/_provenance.html",
        {"reading": reading, "described": reading.measurand.described, "files": files},
    )  # fmt: skip


urlpatterns = [
    path("glossary/", glossary, name="glossary"),
    path("jobs/<id:job_id>/", job_progress, name="job"),
    path("jobs/<id:job_id>/stop/", job_stop, name="job-stop"),
    path("jobs/<id:job_id>/dismiss/", job_dismiss, name="job-dismiss"),
    path("frames/<id:frame_id>/crop/<id:x>,<id:y>,<id:w>,<id:h>.png", crop, name="crop"),
    path("ladders/<id:ladder_id>/predicted/<id:x>,<id:y>,<id:w>,<id:h>.png", predicted_crop, name="predicted-crop"),
    path("lanes/pictures/<id:picture_id>/crop/<id:x>,<id:y>,<id:w>,<id:h>.png", lane_crop, name="lane-crop"),
    path("frames/<id:frame_id>/overview.jpg", overview, name="overview"),
    path("readings/<id:reading_id>/", provenance, name="provenance"),
]
