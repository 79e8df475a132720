"""Measure: the frame with its patches, and the sheet of findings."""

from __future__ import annotations

from collections.abc import Callable

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.development import grey_signals
from yellowjacket.bench.measure import patches as patches_
from yellowjacket.bench.measure import run, staleness
from yellowjacket.bench.measure.ranges import range_table
from yellowjacket.bench.models import Frame, Ladder, Patch, Reading, Rung
from yellowjacket.bench.models.queries.frames import files_in, one_each
from yellowjacket.bench.models.queries.readings import Spoken
from yellowjacket.bench.record import proposals
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import decimal
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Remark
from yellowjacket.core.raw.frame import GREENS, FrameError, first_green
from yellowjacket.web import pictures
from yellowjacket.web.measure import noise_pictures, sheet
from yellowjacket.web.measure.codes import code_plot
from yellowjacket.web.measure.transfer import transfer_plot
from yellowjacket.web.refusals import carried_out
from yellowjacket.web.shared_views import picture_response
from yellowjacket.web.sheet.grey import grey_place
from yellowjacket.web.sheet.lines import Crops, Readings, crop_line, grade_lines
from yellowjacket.web.sheet.stave import Stave, columns_of
from yellowjacket.web.sitting_page import SittingPage

# What the picture can show: the developed frame, what differs between the pair, what stays in the darks.
SHOWN = ("picture", "difference", "pattern")
# No frame is so wide (px).
_FARTHEST = 1e6
_SHOWN_NAMES = ("the frame", "difference of the pair", "fixed pattern of the darks")
# What the foot tells of a rung.
_TOLD = (Measurand.SIGNAL_DN, Measurand.NOISE_DN, Measurand.SNR, Measurand.GAIN_E_PER_DN, Measurand.HEADROOM_STOPS)
_NUMBERS = (("x", "x"), ("y", "y"), ("w", "Width"), ("h", "Height"))


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The sheet of findings and the frame with its patches; noise against signal and codes follow by themselves."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    readings = _readings(sitting_page)
    sheet_ = _sheet(sitting_page, readings)
    return render(request, "measure/page.html", _panel(sitting_page) | sheet_ | {"foot": _foot(sitting_page, readings)})


def foot(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The line at the foot for another rung."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    readings = _readings(sitting_page, sitting_page.rung)
    return render(request, "measure/_foot.html", sitting_page.context(foot=_foot(sitting_page, readings)))


def transfer(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Noise against signal for another rung."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    context = {"sitting": sitting_page.sitting, "rung": sitting_page.rung, "transfer": transfer_plot(sitting_page.rung),
               "ranges": range_table(sitting_page.rung)}  # fmt: skip
    return render(request, "measure/_transfer.html", context)


@require_GET
def codes(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The codes of a rung's first frame, missing ones marked."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    frames = sitting_page.light(sitting_page.rung)
    context: dict[str, object] = {"sitting": sitting_page.sitting, "rung": sitting_page.rung, "codes": None}
    try:
        if frames:
            grey = grey_signals(sitting_page.ladder).get(sitting_page.rung.pk, {})
            context["codes"] = code_plot(frames[0], first_green(grey))
    except FrameError as error:
        context["failed"] = str(error)
    return render(request, "measure/_codes.html", context)


@require_GET
def noise_picture(request: HttpRequest, sitting_id: int, rung_id: int, what: str) -> HttpResponse:
    """What differs between the two frames of a rung, or what stays in its darks, as a picture."""
    rung = get_object_or_404(Rung, pk=rung_id, ladder__sitting=sitting_id)
    try:
        shown = noise_pictures.noise_picture(rung, what)
    except FrameError as error:
        raise Http404(str(error)) from error
    if shown is None:
        raise Http404
    return picture_response(shown.png, "image/png")


@require_GET
def picture(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The panel of the picture for another rung or another thing to show."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    return render(request, "measure/_picture.html", _panel(sitting_page))


@require_POST
def line(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Unfold or fold a line of the sheet; answers with the sheet."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    sheet.set_state(sitting_page, request.POST.get("key", ""), request.POST.get("state", ""))
    return render(request, "measure/_sheet.html", _sheet(sitting_page, _readings(sitting_page)))


def _readings(page: SittingPage, of: Rung | None = None) -> Readings:
    """What sheet and foot show of one rung or of all; the foot tells the current one by channel."""
    return Readings(page, {kind.quantity for kind in sheet.KINDS}.union(_TOLD), of=of, in_full=page.rung)


def _sheet(page: SittingPage, readings: Readings) -> dict[str, object]:
    columns = columns_of(page.rungs, page.rung)
    empty = Stave(page.ladder, columns)
    by_iso = readings and page.ladder.kind == Ladder.Kind.ISO
    said = page.ask({"limits": Reading.objects.of_limits(page.rungs)} if by_iso else {})
    lines = [crop_line(page, empty.column_px)]
    folded: list[sheet.Folded] = []
    if readings:
        found, folded = sheet.finding_lines(page, readings, empty.column_px)
        findings = Spoken.of(said.get("limits", ())).findings(page.rungs)
        limits = proposals.proposals(page.ladder, None, page.grades, findings, page.every_frame)
        lines += found + grade_lines(page, limits)
    return page.context(stave=Stave(page.ladder, columns, lines), folded=folded)


def _panel(page: SittingPage, message: str = "", typed: dict[str, str] | None = None) -> dict[str, object]:
    """Context of the picture's panel; ``typed``: what to leave in its forms."""
    return page.context(
        picture=_picture(page), unmeasured=staleness.unmeasured(page.ladder, files_in(page.rungs, page.frames)),
        patch_message=message, typed=typed or {},
        drawn_roles=[(role.value, role.label) for role in patches_.DRAWN if role not in patches_.SINGLES],
        several_ladders=len(page.ladders) > 1, choices=tuple(zip(SHOWN, _SHOWN_NAMES, strict=True)),
        singles=patches_.SINGLES, one_each=one_each(page.every_frame), numbers=_NUMBERS,
        corners=_corners(page, typed or {}),
    )  # fmt: skip


def _corners(page: SittingPage, typed: dict[str, str]) -> list[tuple[int, str, str]]:
    """The four corners as typed, else those of the middle of the frame."""
    # Of several raw modes the largest is drawn on.
    width, height = max(((frame.width, frame.height) for frame in page.every_frame), default=(0, 0))
    if not width:
        return []
    shares = ((0.3, 0.3), (0.7, 0.3), (0.7, 0.7), (0.3, 0.7))
    return [
        (n, typed.get(f"x{n}", str(round(x * width))), typed.get(f"y{n}", str(round(y * height))))
        for n, (x, y) in enumerate(shares, start=1)
    ]


def _picture(page: SittingPage) -> dict[str, object] | None:
    """The current rung's frame, or the nearest one that has any, with its patches."""
    with_light = [rung for rung in page.rungs if page.light(rung)]
    if not with_light:
        return None
    rung = min(with_light, key=lambda rung: abs(rung.position - page.rung.position))
    frame: Frame = page.light(rung)[0]
    crops = Crops.of(page)
    shown = page.request.GET.get("show") or page.request.POST.get("show")
    shown = shown if shown in SHOWN else SHOWN[0]
    url = pictures.overview_address(frame, crops.developing.of_frame(frame, rung.pk).how)
    said = ""
    if shown != SHOWN[0]:
        seen = noise_pictures.described(rung, shown)
        said = seen.words
        url = (
            reverse("measure:noise-picture", args=[page.sitting.pk, rung.pk, shown]) + f"?v={seen.tag}"
            if seen.tag
            else url
        )
    patches = page.patches
    many = (Patch.Role.FIELD, Patch.Role.COLOUR, Patch.Role.WEDGE)
    return {
        "url": url, "frame": frame, "rung": rung, "shown": shown, "said": said,
        "patches": [patch for patch in patches if patch.role not in many],
        "fields": [patch for patch in patches if patch.role == Patch.Role.FIELD],
        "grids": [
            (role, label, found)
            for role, label in ((Patch.Role.COLOUR, "colour patches"), (Patch.Role.WEDGE, "wedge steps"))
            if (found := [patch for patch in patches if patch.role == role])
        ],
    }  # fmt: skip


def _foot(page: SittingPage, readings: Readings) -> dict[str, object]:
    greens = (name for name in GREENS if readings.get(page.rung, Measurand.SIGNAL_DN, name, Patch.Role.GREY))
    green = next(greens, GREENS[0])
    snr = readings.get(page.rung, Measurand.SNR, "all", Patch.Role.GREY)
    headroom = readings.get(page.rung, Measurand.HEADROOM_STOPS)
    return {
        "snr": snr,
        "of": "one frame," if snr is not None and snr.result.has(Remark.SINGLE_FRAME) else "pair of",
        "size": page.size_words,
        "grey": grey_place(headroom.result if headroom else None),
        "gain": readings.get(page.rung, Measurand.GAIN_E_PER_DN),
        "green": green, "signal": readings.get(page.rung, Measurand.SIGNAL_DN, green, Patch.Role.GREY),
        "noise": readings.get(page.rung, Measurand.NOISE_DN, green, Patch.Role.GREY),
    }  # fmt: skip


@require_POST
def start(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Measure what is not measured yet."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    carried_out(request, lambda: run.start_measuring(sitting_page.sitting))
    return redirect(sitting_page.url("measure"))


@require_POST
def propose(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Propose patches anew."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    carried_out(request, lambda: patches_.propose(sitting_page.ladder))
    return redirect(sitting_page.url("measure"))


@require_POST
def copy(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Put the patches on the other ladders too; answers with the panel."""
    return _changed(request, sitting_id, lambda page: patches_.copy_patches(page.ladder))


@require_POST
def patch(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Place or draw a patch; answers with the panel of the picture."""

    def action(page: SittingPage) -> object:
        numbers = _numbers(
            request, ("x", "y", "w", "h"), "The patch needs four numbers: x, y, width and height in pixels."
        )
        return patches_.place_patch(
            page.ladder, request.POST.get("name", ""), *numbers, role=request.POST.get("role", "")
        )

    return _changed(request, sitting_id, action)


@require_POST
def remove(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Take a patch or a whole grid away; answers with the panel."""
    return _changed(request, sitting_id, lambda page: patches_.remove_patch(page.ladder, request.POST.get("name", "")))


@require_POST
def rename(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Give a patch another name; answers with the panel."""
    return _changed(
        request, sitting_id,
        lambda page: patches_.rename_patch(page.ladder, request.POST.get("name", ""), request.POST.get("new_name", "")),
    )  # fmt: skip


@require_POST
def grid(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Lay a chart's grid between four corners; answers with the panel."""

    def action(page: SittingPage) -> object:
        names = [f"{axis}{n}" for n in range(1, 5) for axis in "xy"]
        at = _numbers(request, names, "A grid needs four corners, x and y of each in pixels.")
        rows, columns, step = _numbers(
            request,
            ("rows", "columns", Measurand.STEP_STOPS),
            "A grid needs its rows, its columns, and for a wedge its step in stops.",
        )
        corners = [(at[n], at[n + 1]) for n in range(0, 8, 2)]
        return patches_.lay_grid(
            page.ladder, request.POST.get("role", ""), corners, int(rows), int(columns), step_stops=step
        )

    return _changed(request, sitting_id, action)


def _numbers(request: HttpRequest, names: tuple[str, ...] | list[str], otherwise: str) -> list[float]:
    found = [decimal(request.POST.get(name), -_FARTHEST, _FARTHEST) for name in names]
    if None in found:
        raise Refusal(otherwise)
    return [number for number in found if number is not None]


def _changed(request: HttpRequest, sitting_id: int, action: Callable[[SittingPage], object]) -> HttpResponse:
    """Do something to the patches and show the panel; a refusal is said there and what was typed stays."""
    sitting_page = SittingPage(request, sitting_id, "measure")
    message = ""
    try:
        action(sitting_page)
    except Refusal as refusal:
        message = str(refusal)
    typed = {key: str(value) for key, value in request.POST.items()} if message else None
    return render(request, "measure/_picture.html", _panel(sitting_page, message, typed))
