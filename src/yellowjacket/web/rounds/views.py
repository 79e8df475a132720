"""A blind round: one crop after the other, nothing around it that says which; the results at the end."""

from __future__ import annotations

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.models import BlindRound, BlindTrial, Frame, Shot
from yellowjacket.bench.services import rounds
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.bench.services.patching import reference_rung
from yellowjacket.core.frames import FrameError
from yellowjacket.core.tolerance import use_noise_factor
from yellowjacket.web import pictures
from yellowjacket.web.shared_views import picture_response
from yellowjacket.web.sitting_page import SittingPage, carried_out

# Pixels of the picture at the use's size that are shown, one to a device pixel.
_CROP_PX = (512, 480)
_PRECISIONS = (1.0, 0.5, 0.3)


def begin(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """What a round will be; on POST it begins."""
    page = SittingPage(request, sitting_id, "look")
    if request.method == "POST":
        page.person = request.POST.get("person", "") or page.person
        try:
            made = rounds.begin(page.sitting, page.use, page.person, _precision(request))
            return redirect("rounds:page", token=made.token)
        except Refusal as refusal:
            messages.error(request, str(refusal))
    stimuli = rounds.stimuli_of(page.sitting, page.use)
    done = BlindRound.objects.filter(sitting=page.sitting).select_related("use")
    return render(request, "rounds/begin.html", page.context(stimuli=stimuli, rounds=done, precisions=_PRECISIONS))


def _precision(request: HttpRequest) -> float:
    try:
        return float(request.POST.get("wanted", "").replace(",", "."))
    except ValueError as error:
        raise Refusal("Choose how precisely the line is to be known.") from error


def _round(token: str) -> BlindRound:
    return get_object_or_404(BlindRound.objects.select_related("sitting__profile", "use"), token=token)


def _context(round_: BlindRound) -> dict[str, object]:
    trial = rounds.next_trial(round_)
    answered = round_.trials.filter(accepted__isnull=False).count()
    context: dict[str, object] = {
        "round": round_, "trial": trial, "answered": answered, "planned": round_.trials.count(), "crop": _CROP_PX,
    }  # fmt: skip
    if trial is None:
        context["result"] = rounds.result_of(round_)
    return context


def page(request: HttpRequest, token: str) -> HttpResponse:
    """The next picture, or the results."""
    return render(request, "rounds/page.html", _context(_round(token)))


@require_POST
def answer(request: HttpRequest, token: str) -> HttpResponse:
    """Keep an answer and show the next picture."""
    round_ = _round(token)
    word = request.POST.get("accepted")
    refusal = ""
    try:
        if word not in ("yes", "no"):
            raise Refusal("Say yes or no.")
        rounds.answer(round_, request.POST.get("trial", ""), word == "yes")
    except Refusal as refused:
        refusal = str(refused)
    return render(request, "rounds/_trial.html", _context(round_) | {"refusal": refusal})


@require_POST
def back(request: HttpRequest, token: str) -> HttpResponse:
    """Take the last answer back."""
    round_ = _round(token)
    refusal = ""
    try:
        rounds.take_back(round_)
    except Refusal as refused:
        refusal = str(refused)
    return render(request, "rounds/_trial.html", _context(round_) | {"refusal": refusal})


@require_POST
def profile(request: HttpRequest, token: str) -> HttpResponse:
    """Make the threshold a tolerance profile."""
    round_ = _round(token)

    def make() -> None:
        made = rounds.profile_from_round(round_, request.POST.get("name", ""))
        messages.success(request, f"“{made}” can be chosen as the tolerance of a sitting now.")

    carried_out(request, make)
    return redirect("rounds:page", token=token)


@require_GET
def picture(request: HttpRequest, token: str, trial: str) -> HttpResponse:
    """The crop of a trial: equal brightness, neutral development, bytes that hold nothing but the picture."""
    found = get_object_or_404(
        BlindTrial.objects.select_related("rung__ladder__body", "round__use"), token=trial, round__token=token
    )
    frame = (
        Frame.objects.filter(shot__rung=found.rung_id, shot__kind=Shot.Kind.LIGHT)
        .defer("report")
        .order_by("shot__repeat")
        .first()
    )
    if frame is None:
        raise Http404
    ladder = found.rung.ladder
    grey = pictures.grey_signals(ladder)
    reference = reference_rung(ladder, list(ladder.rungs.all()))
    how, _ = pictures.development(frame, grey.get(reference.pk), grey.get(found.rung_id), equalised=True)
    factor, _ = use_noise_factor(ladder.body.pixels, found.round.use.output_pixels)
    cut = (round(_CROP_PX[0] * factor), round(_CROP_PX[1] * factor))
    rect = pictures.clamped(frame.width, frame.height, (found.x, found.y), cut)
    try:
        return picture_response(pictures.crop_at_use_png(frame, rect, how, factor), "image/png")
    except FrameError as error:
        raise Http404("The original of this picture is gone.") from error
