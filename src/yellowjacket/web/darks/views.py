"""Darks: masters that were made, those that can be, the one that fits, and a frame before and after."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
from django.conf import settings
from django.contrib import messages
from django.db.models import Exists, OuterRef
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.darks import masters
from yellowjacket.bench.development import Developing, Switches
from yellowjacket.bench.models import Body, Frame, MasterDark, Shot, Sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import decimal, identity, whole
from yellowjacket.core.darks.matching import Setting
from yellowjacket.core.exposure.dial import exact_exposure_s
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.rect import clamped
from yellowjacket.web import pictures
from yellowjacket.web.refusals import carried_out
from yellowjacket.web.shared_views import picture_response

_CROP_PX = 120
# Light frames shorter than this have no need of a dark.
_LONG_S = 1.0
_MOST_FRAMES = 40
# Older ones are led to from their own pages.
_MOST_SITTINGS = 100


def page(request: HttpRequest) -> HttpResponse:
    """The library, what a sitting's darks would make, and what fits."""
    # By way of the shots: frames are fat.
    darks = Shot.objects.filter(rung__ladder__sitting=OuterRef("pk"), kind=Shot.Kind.DARK, frame__isnull=False)
    with_darks = Sitting.objects.filter(Exists(darks))
    chosen = with_darks.filter(pk=identity(request.GET.get("sitting"))).first()
    job = chosen.jobs.last() if chosen else None
    listed = list(with_darks.only("name", "held_on")[: _MOST_SITTINGS + 1])
    if chosen is not None and chosen not in listed[:_MOST_SITTINGS]:
        listed.insert(0, chosen)
    lights = (
        Frame.objects.filter(shot__kind=Shot.Kind.LIGHT, exposure_s__gte=_LONG_S)
        .defer("report")
        .select_related("sitting", "shot__rung__ladder__body")
        .order_by("-sitting__held_on", "pk")[:_MOST_FRAMES]
    )
    batches = masters.batches_of(chosen) if chosen else []
    context = {
        "place": "darks", "masters": MasterDark.objects.select_related("body"), "sittings": listed[:_MOST_SITTINGS],
        "older": len(listed) > _MOST_SITTINGS, "chosen": chosen, "batches": batches,
        "hindrance": masters.hindrance_of(batches) if chosen else "", "job": job, "bodies": Body.objects.all(), "lights": lights,
    }  # fmt: skip
    return render(request, "darks/page.html", context)


@require_POST
def make(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Average the ticked batches of a sitting."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    carried_out(request, lambda: masters.start_making(sitting, request.POST.getlist("batch")))
    return redirect(f"{reverse('darks:page')}?sitting={sitting.pk}")


@require_GET
def find(request: HttpRequest) -> HttpResponse:
    """Which master fits a body, ISO, time and temperature."""
    context: dict[str, object] = {}
    try:
        body = Body.objects.filter(pk=identity(request.GET.get("body"))).first()
        if body is None:
            raise Refusal("Choose a body.")
        iso, seconds = (
            _positive(request, name, words) for name, words in (("iso", "ISO"), ("seconds", "exposure time, s"))
        )
        celsius = _celsius(request)
        sizes = set(MasterDark.objects.filter(body=body).values_list("width", "height"))
        found = [
            one
            for size in sorted(sizes)
            for one in masters.candidates(Setting(str(body.pk), size, iso, exact_exposure_s(seconds), celsius), body)
        ]
        context = {"candidates": found, "body": body}
    except Refusal as refusal:
        context = {"refusal": str(refusal)}
    return render(request, "darks/_candidates.html", context)


def _positive(request: HttpRequest, name: str, words: str) -> float:
    text = request.GET.get(name, "").strip()
    value = decimal(text)
    if value is None:
        raise Refusal(f"{words}: write a number, not “{text[:40]}”.")
    if not 1e-6 < value < 1e7:
        raise Refusal(f"{words}: {text} cannot be.")
    return value


def _celsius(request: HttpRequest) -> float | None:
    text = request.GET.get("celsius", "").strip()
    if not text:
        return None
    value = decimal(text)
    if value is None:
        raise Refusal(f"Sensor °C: write a number, not “{text[:40]}”.")
    if not -60 <= value <= 100:
        raise Refusal(f"Sensor °C: {value:g} is not a plausible camera temperature.")
    return value


@require_GET
def fitting(request: HttpRequest, frame_id: int) -> HttpResponse:
    """Which masters fit a light frame."""
    frame = _light(frame_id)
    context: dict[str, object] = {"frame": frame}
    try:
        wanted = masters.setting_of(frame)
        context |= {"candidates": masters.candidates(wanted, frame.shot.rung.ladder.body), "wanted": wanted}  # type: ignore[union-attr]
    except Refusal as refusal:
        context["refusal"] = str(refusal)
    return render(request, "darks/_candidates.html", context)


def _light(frame_id: int) -> Frame:
    return get_object_or_404(
        Frame.objects.defer("report").select_related("shot__rung__ladder__body", "sitting"), pk=frame_id,
        shot__isnull=False,
    )  # fmt: skip


@require_POST
def remove(request: HttpRequest, master_id: int) -> HttpResponse:
    """Delete a master; its darks stay."""
    master = get_object_or_404(MasterDark, pk=master_id)
    masters.remove(master)
    messages.success(request, f"{master} was removed from the library. Its darks stay where they are.")
    return redirect("darks:page")


@require_GET
def master_fits(request: HttpRequest, master_id: int) -> FileResponse:
    """The master as it is kept."""
    master = get_object_or_404(MasterDark, pk=master_id)
    path = master.path_in(settings.HOME)
    if not path.is_file():
        raise Http404(f"{master.file_name} is not in the data folder any more: make it again from its darks.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=master.file_name, content_type="application/fits")


# Before and after


def _spot(request: HttpRequest, frame: Frame, master: MasterDark) -> tuple[int, int]:
    """Where to look: as asked for, else around the brightest pixel of the master."""
    parts = [whole(part) for part in request.GET.get("spot", "").split(",")]
    if len(parts) == 2 and parts[0] is not None and parts[1] is not None:
        return min(parts[0], frame.width - 1), min(parts[1], frame.height - 1)
    image = masters.image_of(master)
    # The brightest of a coarse look: the exact one matters little.
    y, x = np.unravel_index(int(np.argmax(image)), image.shape)
    return int(x), int(y)


def compare(request: HttpRequest, master_id: int, frame_id: int) -> HttpResponse:
    """A light frame before and after the master was taken off."""
    frame, master = _light(frame_id), get_object_or_404(MasterDark.objects.select_related("body"), pk=master_id)
    try:
        _, _, match = masters.calibrated(frame, master)
        x, y = _spot(request, frame, master)
    except (Refusal, FrameError) as error:
        messages.error(request, str(error))
        return redirect("darks:page")
    rect = clamped(frame.width, frame.height, (x, y), (_CROP_PX, _CROP_PX))
    return render(
        request, "darks/compare.html",
        {"place": "darks", "frame": frame, "master": master, "match": match, "rect": rect, "spot": (x, y)},
    )  # fmt: skip


@require_GET
def crop(request: HttpRequest, master_id: int, frame_id: int, what: str, x: int, y: int) -> HttpResponse:
    """A crop before or after, neutral development, one image pixel per sensor pixel."""
    frame, master = _light(frame_id), get_object_or_404(MasterDark, pk=master_id)
    rect = clamped(frame.width, frame.height, (x, y), (_CROP_PX, _CROP_PX))
    how = Developing({}, None, {}).of_frame(frame, 0, Switches(equalised=False)).how
    try:
        if what == "before":
            return picture_response(pictures.crop_png(frame, rect, how), "image/png")
        if what == "after":
            return picture_response(pictures.crop_png(frame, rect, how, treated=pictures.Treated(master)), "image/png")
    except (Refusal, FrameError) as error:
        raise Http404(str(error)) from error
    raise Http404


def _attached(request: HttpRequest, make_file: Callable[[], bytes], kind: str, name: str) -> HttpResponse:
    try:
        data = make_file()
    except (Refusal, FrameError) as error:
        messages.error(request, str(error))
        return redirect("darks:page")
    response = HttpResponse(data, content_type=kind)
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response


def _name(frame: Frame, ending: str) -> str:
    return f"{slugify(Path(frame.file_name).stem) or 'frame'}-dark-taken-off.{ending}"


@require_GET
def calibrated_fits(request: HttpRequest, master_id: int, frame_id: int) -> HttpResponse:
    """The calibrated frame as 32-bit FITS."""
    frame, master = _light(frame_id), get_object_or_404(MasterDark, pk=master_id)
    return _attached(request, lambda: masters.calibrated_fits(frame, master), "application/fits", _name(frame, "fits"))


@require_GET
def calibrated_dng(request: HttpRequest, master_id: int, frame_id: int) -> HttpResponse:
    """The calibrated frame as DNG."""
    frame, master = _light(frame_id), get_object_or_404(MasterDark, pk=master_id)

    def written() -> bytes:
        with tempfile.TemporaryDirectory(prefix="yellowjacket-") as folder:
            path = Path(folder) / "calibrated.dng"
            masters.write_calibrated_dng(frame, master, path)
            return path.read_bytes()

    return _attached(request, written, "image/x-adobe-dng", _name(frame, "dng"))
