"""Advice: "I need this aperture and this shutter in this light", how long, LENR or not, which dark fits, how much faster."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from yellowjacket.bench.advise import exposure
from yellowjacket.bench.models import Body, Use
from yellowjacket.core.colour.colorimetry import neutral_under
from yellowjacket.core.exposure import dial
from yellowjacket.core.limits.exposure_advice import (
    NOT_USABLE,
    ChannelInLight,
    Option,
    faster_by,
    in_light,
    option_at,
    options,
)
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.limits.tolerance import LEVELS, Profile
from yellowjacket.web.advice.forms import AdviceForm

# Grades on the speckle mark, by level.
_SPECKLE = {"clean": 1, "usable": 3, "emergency": 4}
_LOST = 5
_ORDER = (*LEVELS, NOT_USABLE)


@dataclass(frozen=True, slots=True)
class Row:
    """An option with the grade its speckle shows."""

    option: Option
    speckle: int
    cast: exposure.Cast | None


def page(request: HttpRequest) -> HttpResponse:
    """The questions and their answers; the address holds them all."""
    return render(request, "advice/page.html", {"place": "advice", **_context(request)})


@require_GET
def answer(request: HttpRequest) -> HttpResponse:
    """The answers while something is being changed."""
    return render(request, "advice/_answer.html", _context(request))


def _context(request: HttpRequest) -> dict[str, object]:
    wanted = request.GET.get("body", "")
    bodies = exposure.bodies_with_findings()
    body = next((one for one in bodies if str(one.pk) == wanted), bodies[0] if bodies else None)
    if body is None:
        return {"form": None, "body": None}
    asked = "aperture" in request.GET
    form = AdviceForm(request.GET if asked else None, body=body, initial={"body": body.pk})
    form.fields["body"].queryset = Body.objects.filter(pk__in=[one.pk for one in bodies])  # type: ignore[attr-defined]
    if not asked:
        # The first answer is there before anything is asked.
        form = _filled(form, body)
    return {"form": form, "body": body, **_answered(form, body)}


def _filled(form: AdviceForm, body: Body) -> AdviceForm:
    first = form.fields["use"].queryset.first()  # type: ignore[attr-defined]
    data = {name: field.initial for name, field in form.fields.items() if field.initial is not None}
    filled = AdviceForm(data | {"body": body.pk, "use": first.pk if first else ""}, body=body)
    filled.fields["body"].queryset = form.fields["body"].queryset  # type: ignore[attr-defined]
    return filled


def _answered(form: AdviceForm, body: Body) -> dict[str, object]:
    if not form.is_valid():
        return {"refusals": [f"{form[name].label}: {e}" for name, errors in form.errors.items() for e in errors]}
    data = form.cleaned_data
    try:
        wanted = form.wanted_iso
    except ValueError as error:
        return {"refusals": [f"{error}."]}
    use: Use = data["use"]
    known = exposure.known_of(body, data["celsius"])
    if known is None:
        return {
            "refusals": ["This body has no measured ISO ladder yet: its gain and read noise are what advice rests on."]
        }
    profile = use.sitting.profile.criteria.seen_in(monochrome=use.monochrome)
    factor, remark = use_noise_factor(body.pixels, use.whole_frame_pixels)
    casts = exposure.casts_of(body, use)
    found = options(known.findings, wanted, profile, form.exposure_s, factor)
    limit = exposure.limit_of(known.ladder, use, data["level"])
    long = exposure.long_of(body, profile.long_exposure, data["level"], factor, data["celsius"])
    best = found[0] if found else None
    faster = faster_by(wanted, limit.mark) if limit and limit.mark else None
    return {
        "known": known, "wanted": wanted, "use": use, "remark": remark, "profile": profile, "level": data["level"],
        "short": best is not None and _ORDER.index(best.level) > _ORDER.index(data["level"]),
        "rows": [
            Row(one, _SPECKLE.get(one.level, _LOST), casts.at(one.push_stops)) for one in found
        ],
        "asked": _asked(known, form, profile, wanted, factor, casts), "limit": limit,
        "faster": faster, "over": -(faster or 0.0), "long": long,
        "shutter": form.exposure_s, "setting": form.setting, "celsius": data["celsius"],
        "moved": any(data[name] for name in ("aperture_stops", "shutter_stops", "light_stops")),
        "light_stops": data["light_stops"], "coloured": _coloured(known, form, best, wanted, factor),
        "fits": exposure.darks_that_fit(body, best.mark if best else round(wanted), form.exposure_s, data["celsius"]),
    }  # fmt: skip


def _asked(
    known: exposure.Known,
    form: AdviceForm,
    profile: Profile,
    wanted: float,
    factor: float,
    casts: exposure.Casts,
) -> Row | None:
    """What the ISO that was named would give, measured or not."""
    mark = form.cleaned_data["iso"]
    if mark is None:
        return None
    iso = dial.exact_iso(mark)
    option = option_at(known.findings, iso, mark, wanted, profile, form.exposure_s, factor)
    return Row(option, _SPECKLE.get(option.level, _LOST), casts.at(option.push_stops))


@dataclass(frozen=True, slots=True)
class Coloured:
    """What light of another colour does to the channels of the best option, or why that cannot be told."""

    kelvin: float
    channels: Sequence[ChannelInLight]
    weakest: ChannelInLight | None = None
    first_to_clip: ChannelInLight | None = None
    refusal: str = ""


def _coloured(
    known: exposure.Known, form: AdviceForm, best: Option | None, wanted: float, factor: float
) -> Coloured | None:
    kelvin = form.cleaned_data["kelvin"]
    if kelvin is None or best is None:
        return None
    matrix = exposure.matrix_of(known.ladder)
    if matrix is None:
        return Coloured(kelvin, (), refusal="the files of this body name no colour matrix")
    try:
        shares = neutral_under(kelvin, matrix)
    except ValueError as error:
        return Coloured(kelvin, (), refusal=str(error))
    channels = in_light(known.findings, dial.exact_iso(best.mark), wanted, shares, form.exposure_s, factor)
    by_share = sorted(channels, key=lambda one: one.share)
    return Coloured(kelvin, channels, by_share[0], by_share[-1]) if by_share else None
