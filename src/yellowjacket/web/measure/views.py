"""Measure: the frame with its patches, and the sheet of findings."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from yellowjacket.bench.models import Frame, Patch, Reading
from yellowjacket.bench.services import measuring, recording
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.core.tolerance import use_noise_factor
from yellowjacket.web import pictures
from yellowjacket.web.lines import (
    Crops,
    Readings,
    crop_line,
    error_line,
    grade_lines,
    number_line,
    reading_cell,
    snr_chart_line,
)
from yellowjacket.web.measure.transfer import transfer_plot
from yellowjacket.web.sitting_page import SittingPage, carried_out
from yellowjacket.web.stave import Cell, Line, Stave, columns_of
from yellowjacket.web.templatetags import values


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The sheet of findings and the frame with its patches."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    context = sitting_page.context(
        stave=_stave(sitting_page),
        picture=_picture(sitting_page),
        unmeasured=measuring.unmeasured(sitting_page.ladder),
        foot=_foot(sitting_page),
        transfer=transfer_plot(sitting_page.rung),
    )
    return render(request, "measure/page.html", context)


def foot(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The line at the foot for another rung."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    return render(request, "measure/_foot.html", sitting_page.context(foot=_foot(sitting_page)))


def transfer(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Noise against signal for another rung."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    context = {"sitting": sitting_page.sitting, "rung": sitting_page.rung, "transfer": transfer_plot(sitting_page.rung)}
    return render(request, "measure/_transfer.html", context)


def _stave(page: SittingPage) -> Stave:
    columns = columns_of(page.rungs, page.rung)
    empty = Stave(page.ladder, columns)
    readings = Readings(page.rungs)
    lines = [crop_line(page, empty.column_px)]
    if readings:
        lines += _finding_lines(page, readings, empty.column_px)
    return Stave(page.ladder, columns, lines)


def _finding_lines(page: SittingPage, readings: Readings, column_px: int) -> list[Line]:
    grey, shadow, drift = page.sitting.profile.criteria.criteria
    factor, _ = use_noise_factor(page.ladder.body.pixels, page.use.output_pixels)
    shadow_snr = [(readings.criterion(rung, shadow), factor) for rung in page.rungs]
    read_noise = [(readings.get(rung, "read_noise_e"), 1.0) for rung in page.rungs]
    gain = [(readings.get(rung, "gain_e_per_dn"), 1.0) for rung in page.rungs]
    neutral = [(readings.criterion(rung, drift), 1.0) for rung in page.rungs]
    lines = [
        snr_chart_line(page, readings, grey, column_px),
        number_line("shadow", "Shadow SNR", "3 stops under the grey", shadow_snr),
        number_line("read", "Read noise", "e⁻, all channels", read_noise),
        number_line("gain", "Gain", "e⁻/DN", gain),
        number_line("range", "Range", "stops to SNR 1, per pixel", _plain(page, readings, "range_snr1")),
        number_line("saturation", "Saturation", "e⁻, mean of channels", _plain(page, readings, "saturation_e")),
        number_line("rows", "Row noise", "DN, in the darks", _plain(page, readings, "row_noise_dn"), 2),
        _flags_line(page, readings),
        error_line(page, readings),
        number_line("drift", "Neutral drift", "ΔE00 from base", neutral, 2),
        _clipped_line(page, readings),
    ]
    lines += grade_lines(page, recording.proposals(page.ladder))
    return [line for line in lines if line is not None]


def _plain(page: SittingPage, readings: Readings, quantity: str) -> list[tuple[Reading | None, float]]:
    return [(readings.get(rung, quantity), 1.0) for rung in page.rungs]


def _flags_line(page: SittingPage, readings: Readings) -> Line | None:
    """What the raw of a rung gives away: smoothed, digital, a second base ISO. Left out where there is nothing."""
    found = [readings.get(rung, "flags") for rung in page.rungs]
    if not any(reading and reading.value for reading in found):
        return None
    cells = [
        reading_cell(reading, reading.reason, strong=bool(reading.value)) if reading and reading.value else Cell()
        for reading in found
    ]
    return Line("flags", "To mind", "habits of the raw", cells=cells)


def _clipped_line(page: SittingPage, readings: Readings) -> Line:
    cells = []
    for rung in page.rungs:
        reading = readings.worst_share(rung, Patch.Role.GREY)
        cells.append(
            reading_cell(
                reading, values.share(reading.value) if reading else "", strong=bool(reading and reading.value)
            )
        )
    return Line("clipped", "Clipped", "share of the grey patch", cells=cells)


def _picture(page: SittingPage) -> dict[str, object] | None:
    """The current rung's frame, or the nearest one that has any, with its patches."""
    with_light = [rung for rung in page.rungs if page.light(rung)]
    if not with_light:
        return None
    rung = min(with_light, key=lambda rung: abs(rung.position - page.rung.position))
    frame: Frame = page.light(rung)[0]
    crops = Crops.of(page)
    how, _ = pictures.development(frame, crops.grey.get(crops.reference_id), crops.grey.get(rung.pk), equalised=True)
    patches = list(page.ladder.patches.all())
    return {
        "url": reverse("overview", args=[frame.pk]) + f"?v={pictures.version_tag(how)}",
        "frame": frame,
        "patches": [patch for patch in patches if patch.role != Patch.Role.FIELD],
        "fields": [patch for patch in patches if patch.role == Patch.Role.FIELD],
        # Strokes and labels in raw pixels that look alike on every frame size.
        "unit": frame.width / 480,
    }


def _foot(page: SittingPage) -> dict[str, object]:
    readings = Readings([page.rung], every_channel=True)
    grey = page.sitting.profile.criteria.criteria[0]
    factor, remark = use_noise_factor(page.ladder.body.pixels, page.use.output_pixels)
    snr = readings.criterion(page.rung, grey)
    return {
        "snr": snr.result.scaled(factor) if snr else None,
        "snr_reading": snr,
        "size": "per pixel" if factor == 1.0 else f"at {page.use.name.lower()} size",
        "remark": remark,
        "gain": readings.get(page.rung, "gain_e_per_dn"),
        "signal": readings.get(page.rung, "signal_dn", "G1", Patch.Role.GREY),
        "noise": readings.get(page.rung, "noise_dn", "G1", Patch.Role.GREY),
    }


@require_POST
def start(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Measure what is not measured yet."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    carried_out(request, lambda: measuring.start_measuring(sitting_page.sitting))
    return redirect(sitting_page.url("measure"))


@require_POST
def propose(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Propose patches anew."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    carried_out(request, lambda: measuring.propose(sitting_page.ladder))
    return redirect(sitting_page.url("measure"))


@require_POST
def patch(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Place a patch; answers with the panel of the picture."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    message = ""
    try:
        numbers = [float(request.POST[name]) for name in ("x", "y", "w", "h")]
        measuring.place_patch(sitting_page.ladder, request.POST.get("role", ""), *numbers)
    except Refusal as refusal:
        message = str(refusal)
    except (KeyError, ValueError):
        message = "The patch needs four numbers: x, y, width and height in pixels."
    context = sitting_page.context(
        picture=_picture(sitting_page), unmeasured=measuring.unmeasured(sitting_page.ladder), patch_message=message
    )
    return render(request, "measure/_picture.html", context)
