"""A blind round: one crop after the other, nothing around it that says which; the results at the end."""

from __future__ import annotations

from collections.abc import Callable

from django.conf import settings
from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.core.exceptions import PermissionDenied
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.look import blind_pictures, blind_results, blind_rounds, blind_stimuli
from yellowjacket.bench.models import BlindRound, BlindTrial
from yellowjacket.bench.people import accounts
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.tolerance import profiles
from yellowjacket.bench.typed import decimal
from yellowjacket.core.prediction.sensor_at import NoPicture
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.web import pictures
from yellowjacket.web.people.doors import role_of
from yellowjacket.web.refusals import carried_out, refused
from yellowjacket.web.shared_views import picture_response
from yellowjacket.web.sitting_page import SittingPage

_PRECISIONS = (1.0, 0.5, 0.3)
_SCORES = (
    (2, "left, clearly"), (1, "left, slightly"), (0, "equal"), (-1, "right, slightly"), (-2, "right, clearly")
)  # fmt: skip


def begin(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """What a round will be; on POST it begins, or a link for a guest is made."""
    page = SittingPage(request, sitting_id, "look")
    if request.method == "POST":
        guest = "guest" in request.POST
        page.person = request.POST.get("person", "") or page.person
        try:
            made = blind_rounds.begin(
                page.sitting, page.use, "" if guest else page.person, _number(request.POST.get("wanted", "")),
                request.POST.get("kind") or BlindRound.Kind.LINE,
                guest_days=round(_number(request.POST.get("days", "7"))) if guest else 0,
                between=request.POST.get("between", blind_stimuli.BODIES),
            )  # fmt: skip
            if not guest:
                return redirect("rounds:page", token=made.token)
            messages.success(
                request, "The link is in the list below. It works without an account and shows nothing but the round."
            )
            return redirect(f"{request.path}?use={page.use.pk}")
        except Refusal as refusal:
            messages.error(request, str(refusal))
    context = {
        "stimuli": blind_stimuli.stimuli_of(page.sitting, page.use), "precisions": _PRECISIONS,
        "comparisons": blind_stimuli.comparisons(page.sitting),
        "rounds": BlindRound.objects.filter(sitting=page.sitting).exclude(kind__in=blind_rounds.PRACTICE).select_related("use"),
    }  # fmt: skip
    return render(request, "rounds/begin.html", page.context(**context))


def _number(text: str) -> float:
    found = decimal(text)
    if found is None:
        raise Refusal("Choose a number: how precisely your limit is to be known, or for how many days.")
    return found


def _round(request: HttpRequest, token: str) -> BlindRound:
    """The round of an address. A guest's address is all a guest needs; a tester's own round is for testers to answer, and for
    those who are signed in to look at."""
    found = get_object_or_404(BlindRound.objects.select_related("sitting__profile", "use"), token=token)
    _require_role(request, found)
    return found


def _require_role(request: HttpRequest, round_: BlindRound) -> None:
    role = role_of(request)
    if not settings.SIGN_IN or round_.open_until is not None or role == accounts.TESTER:
        return
    if role != accounts.READER or request.method == "POST":
        raise PermissionDenied("This round is a tester's own: only testers answer it.")


def _context(round_: BlindRound, *, guest: bool | None = None) -> dict[str, object]:
    guest = round_.open_until is not None if guest is None else guest
    trial = blind_rounds.next_trial(round_)
    context: dict[str, object] = {
        "round": round_, "trial": trial, "answered": round_.trials.filter(answered_at__isnull=False).count(),
        "planned": round_.trials.count(), "crop": blind_pictures.CROP_PX, "scores": _SCORES, "guest": guest,
        "practised_kinds": blind_rounds.PRACTICE,
        "finished": round_.kind == BlindRound.Kind.PAIRS and round_.trials.exclude(lane=None, other_lane=None).exists(),
    }  # fmt: skip
    if round_.kind == BlindRound.Kind.GUESS and trial is not None:
        context["marks"] = blind_rounds.marks_of(blind_stimuli.rungs_with_light(round_.sitting))
        context["told"] = round_.trials.filter(answered_at__isnull=False).select_related("rung").last()
    if trial is None and not guest:
        if round_.kind == BlindRound.Kind.LINE:
            context["result"] = blind_results.result_of(round_)
        elif round_.kind == BlindRound.Kind.PAIRS:
            context["verdicts"] = blind_results.verdicts_of(round_)
        elif round_.kind == BlindRound.Kind.GUESS:
            context["guessed"] = blind_results.guessed(round_)
        else:
            context["practised"] = blind_results.practised(round_)
    return context


@login_not_required
def page(request: HttpRequest, token: str) -> HttpResponse:
    """The next picture, or the results; a guest says their name first, and comes too late after the last day."""
    round_ = _round(request, token)
    try:
        blind_rounds.must_be_open(round_)
        if request.method == "POST":
            blind_rounds.introduce(round_, request.POST.get("person", ""))
            return redirect("rounds:page", token=token)
    except Refusal as refusal:
        if request.method == "POST" or round_.open_until is not None:
            context = _context(round_) | {"refusal": str(refusal), "closed": request.method != "POST"}
            return render(request, "rounds/page.html", context, status=200 if request.method == "POST" else 410)
    return render(request, "rounds/page.html", _context(round_))


@require_GET
def result(request: HttpRequest, sitting_id: int, round_id: int) -> HttpResponse:
    """The results of a round, a guest's too, for whoever gave the link away."""
    return render(request, "rounds/page.html", _context(_of_sitting(sitting_id, round_id), guest=False))


def _of_sitting(sitting_id: int, round_id: int) -> BlindRound:
    rows = BlindRound.objects.select_related("sitting__profile", "use")
    return get_object_or_404(rows, sitting=sitting_id, pk=round_id, finished_at__isnull=False)


def _answered(request: HttpRequest, token: str, action: Callable[[BlindRound], object]) -> HttpResponse:
    round_ = _round(request, token)
    refusal = refused(lambda: action(round_))
    return render(request, "rounds/_trial.html", _context(round_) | {"refusal": refusal})


@login_not_required
@require_POST
def answer(request: HttpRequest, token: str) -> HttpResponse:
    """Keep an answer and show the next picture."""
    said = request.POST.get("accepted", "")
    return _answered(request, token, lambda round_: blind_rounds.answer(round_, request.POST.get("trial", ""), said))


@login_not_required
@require_POST
def back(request: HttpRequest, token: str) -> HttpResponse:
    """Take the last answer back."""
    return _answered(request, token, blind_rounds.take_back)


@require_POST
def profile(request: HttpRequest, sitting_id: int, round_id: int) -> HttpResponse:
    """Make the threshold a tolerance profile, and take it for the sitting where that was asked."""
    round_ = _of_sitting(sitting_id, round_id)

    def make() -> None:
        made = blind_results.profile_from_round(round_, request.POST.get("name", ""))
        if "use_it" in request.POST:
            profiles.put_in_force(round_.sitting, made)
            messages.success(request, f"“{made}” is now the tolerance of {round_.sitting}: its limits follow.")
        else:
            messages.success(request, f"“{made}” can now be chosen as the tolerance of a sitting.")

    carried_out(request, make)
    return redirect("rounds:result", sitting_id=sitting_id, round_id=round_id)


@login_not_required
@require_GET
def picture(request: HttpRequest, token: str, trial: str, side: str = "left") -> HttpResponse:
    """The crop of a trial: equal brightness, neutral development, bytes that hold nothing but the picture."""
    found = get_object_or_404(
        BlindTrial.objects.select_related("rung__ladder__body", "other__ladder__body", "round__use"),
        token=trial, round__token=token,
    )  # fmt: skip
    _require_role(request, found.round)
    try:
        blind_rounds.must_be_open(found.round)
    except Refusal as refusal:
        raise Http404(str(refusal)) from refusal
    try:
        shown = blind_pictures.shown_of(found, side)
        data = pictures.blind_png(shown) if shown else None
    except (FrameError, NoPicture) as error:
        raise Http404("What this picture is made of is gone.") from error
    if data is None:
        raise Http404
    return picture_response(data, "image/png")
