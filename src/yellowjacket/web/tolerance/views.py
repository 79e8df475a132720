"""Tolerance: what is accepted, criterion by criterion; own profiles made, given away, taken in and put in force."""

from __future__ import annotations

from dataclasses import dataclass

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.text import capfirst, slugify
from django.views.decorators.http import require_GET, require_POST

from yellowjacket.bench.models import Sitting, ToleranceProfile
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.tolerance import profiles as profiles_
from yellowjacket.bench.typed import decimal, identity
from yellowjacket.core.limits.tolerance import LEVELS, Criterion
from yellowjacket.core.limits.tolerance_file import profile_document
from yellowjacket.web.refusals import carried_out
from yellowjacket.web.templatetags.values import number
from yellowjacket.web.tolerance import seen


@dataclass(frozen=True, slots=True)
class Line:
    """A criterion as the page shows it: three thresholds with the names of their fields, and what was typed there;
    ``seen``: whether a threshold has a picture."""

    criterion: Criterion
    fields: tuple[tuple[str, str], ...]
    seen: bool = False


def page(request: HttpRequest) -> HttpResponse:
    """The profiles, and the thresholds of the one that is looked at, from which another is made."""
    profiles = list(profiles_.known())
    wanted = request.GET.get("profile", "")
    shown = next((one for one in profiles if str(one.pk) == wanted), max(profiles, key=_in_use))
    if request.method == "POST":
        made: list[ToleranceProfile] = []
        if carried_out(request, lambda: made.append(profiles_.add(request.POST.get("name", ""), _typed(request)))):
            messages.success(request, f"“{made[0]}” can be put in force for a sitting now.")
            return redirect(f"{request.path}?profile={made[0].pk}")
    profile = shown.criteria
    groups = (
        ("Pictures", profile.criteria), ("Long exposures", profile.long_exposure), ("Pushes", profile.exposure),
    )  # fmt: skip
    context = {
        "place": "tolerance", "profiles": profiles, "shown": shown, "levels": LEVELS,
        "groups": [(name, [_line(one, request) for one in criteria]) for name, criteria in groups],
        "sittings": Sitting.objects.exclude(profile=shown), "name": request.POST.get("name", ""),
    }  # fmt: skip
    return render(request, "tolerance/page.html", context | seen.context_of(request, profile.criteria))


def _shown(request: HttpRequest) -> ToleranceProfile:
    named = ToleranceProfile.objects.filter(pk=identity(request.GET.get("profile"))).first()
    return named or profiles_.known()[0]


@require_GET
def as_seen(request: HttpRequest) -> HttpResponse:
    """What a threshold looks like: the panel."""
    shown = _shown(request)
    context = {"shown": shown, **seen.context_of(request, shown.criteria.criteria)}
    return render(request, "tolerance/_seen.html", context)


@require_GET
def places(request: HttpRequest) -> JsonResponse:
    """Everything that the slider of the panel can show, so that while it moves only pictures are asked for."""
    found = seen.places_of(request, _shown(request).criteria.criteria)
    return JsonResponse({"places": [_place(one) for one in found]})


def _place(one: seen.Seen) -> dict[str, object]:
    """A threshold as it looks, with its words."""
    return {
        "typed": f"{one.value:g}", "value": number(one.value), "iso": number(one.iso), "url": one.crop.url,
        "size": [one.crop.width, one.crop.height], "refusal": capfirst(one.crop.refusal),
    }  # fmt: skip


def _in_use(profile: ToleranceProfile) -> int:
    return int(getattr(profile, "in_use", 0))


def _line(one: Criterion, request: HttpRequest) -> Line:
    names = [f"{one.key}-{level}" for level in LEVELS]
    typed = [request.POST.get(name, f"{one.threshold(level):g}") for name, level in zip(names, LEVELS, strict=True)]
    return Line(one, tuple(zip(names, typed, strict=True)), seen.picture_criterion(one.key, [one]) is not None)


def _typed(request: HttpRequest) -> dict[str, list[float]]:
    """Thresholds as typed. Refuses what is not a number, naming it."""
    found: dict[str, list[float]] = {}
    for name, text in request.POST.dict().items():
        key, dash, level = name.rpartition("-")
        if dash and level in LEVELS:
            value = decimal(text)
            if value is None:
                raise Refusal(f"{key.replace('_', ' ')}, {level}: {str(text)[:20]!r} is not a number.")
            found.setdefault(key, []).append(value)
    return found


@require_POST
def take_in(request: HttpRequest) -> HttpResponse:
    """A profile from a file."""
    upload = request.FILES.get("profile")

    def action() -> None:
        if upload is None:
            raise Refusal("Choose the file of a profile first.")
        made = profiles_.take_in(upload.read(profiles_.LARGEST_BYTES + 1), upload.name or "the file")
        messages.success(request, f"“{made}” is here.")

    carried_out(request, action)
    return redirect("tolerance:page")


@require_GET
def as_json(request: HttpRequest, profile_id: int) -> JsonResponse:
    """A profile as a file."""
    profile = get_object_or_404(ToleranceProfile, pk=profile_id)
    document = profile_document(profile.criteria)
    response = JsonResponse(document, json_dumps_params={"indent": 1, "ensure_ascii": False})
    response["Content-Disposition"] = f'attachment; filename="{slugify(profile.name) or "tolerance"}.json"'
    return response


@require_POST
def put_in_force(request: HttpRequest, profile_id: int) -> HttpResponse:
    """The limits of a sitting follow this profile from now on."""
    profile = get_object_or_404(ToleranceProfile, pk=profile_id)
    sitting = get_object_or_404(Sitting.objects.select_related("profile"), pk=identity(request.POST.get("sitting")))
    profiles_.put_in_force(sitting, profile)
    messages.success(request, f"{sitting} follows “{profile}” now; what was signed keeps its own.")
    return redirect(f"{reverse('tolerance:page')}?profile={profile.pk}")
