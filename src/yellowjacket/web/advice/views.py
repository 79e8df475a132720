"""Advice: "I need this aperture and this shutter in this light", how long, LENR or not, which dark fits, how much faster."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from yellowjacket.bench.advise import exposure
from yellowjacket.bench.models import Ladder, Use
from yellowjacket.bench.prediction.clean_frame import Wanted
from yellowjacket.core.colour.colorimetry import neutral_under
from yellowjacket.core.exposure import dial
from yellowjacket.core.limits.exposure_advice import (
    NOT_USABLE,
    Asked,
    ChannelInLight,
    Option,
    faster_by,
    gained,
    in_light,
    option_at,
    options,
)
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.web.advice.forms import AdviceForm
from yellowjacket.web.predicted import PredictedCrop, PredictedCrops

# Grades on the speckle mark, by level.
_SPECKLE = {"clean": 1, "usable": 3, "emergency": 4}
_LOST = 5
_ORDER = (*LEVELS, NOT_USABLE)
# The best options are shown large, side by side, the rest as a strip; screen pixels.
# From here on hot pixels begin to matter.
_LONG_S = 1.0
_LARGE, _LARGE_PX, _SMALL_PX = 3, (240, 180), (141, 106)


@dataclass(frozen=True, slots=True)
class Row:
    """An option with the grade its speckle shows, what the profile looks at, and the cast of its push."""

    option: Option
    speckle: int
    grey_snr: Quantity
    shadow_snr: Quantity
    chroma: Quantity
    cast: exposure.Cast | None
    crop: PredictedCrop

    @property
    def seen(self) -> tuple[Quantity, Quantity, Quantity]:
        """In the order of the table."""
        return self.grey_snr, self.shadow_snr, self.chroma


@dataclass(frozen=True, slots=True)
class _Dark:
    """What the sensor adds by itself during the exposure: mean signal, and after how long hot pixels show."""

    signal_e: float
    hot_s: float


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
    ladder = exposure.ladder_of(body) if body else None
    if body is None or ladder is None:
        return {"form": None, "body": None}
    asked = "aperture" in request.GET
    form = AdviceForm(request.GET if asked else None, ladder=ladder, bodies=bodies, initial={"body": body.pk})
    if not asked:
        # The first answer is there before anything is asked.
        data = {name: field.initial for name, field in form.fields.items() if field.initial is not None}
        form = AdviceForm(data | {"body": body.pk}, ladder=ladder, bodies=bodies)
    return {"form": form, "body": body, **_answered(form, ladder)}


def _answered(form: AdviceForm, ladder: Ladder) -> dict[str, object]:
    if not form.is_valid():
        return {"refusals": [f"{form[name].label}: {e}" for name, errors in form.errors.items() for e in errors]}
    data, body = form.cleaned_data, ladder.body
    try:
        wanted = form.wanted_iso
    except ValueError as error:
        return {"refusals": [f"{error}."]}
    use: Use = data["use"]
    known = exposure.known_of(ladder, use, data["celsius"])
    pixels, remark = use_noise_factor(body.pixels, use.whole_frame_pixels)
    factor = gained(known.findings, pixels)
    casts = exposure.casts_of(body, use)
    asked = Asked(known.profile, known.limits, form.exposure_s, factor, casts.of_push)
    found = options(known.findings, wanted, asked)
    crops = PredictedCrops.of(ladder, _LARGE_PX, pixels, monochrome=use.monochrome)
    dark_e = (known.findings.dark_e_per_s or 0.0) * form.exposure_s
    hot_s = form.exposure_s * known.warmed if form.exposure_s >= _LONG_S else 0.0
    if hot_s:
        crops = crops.with_hot_pixels()
    small = crops.sized(*_SMALL_PX)
    dark = _Dark(dark_e, hot_s)
    limit = known.limits.get(data["level"])
    best = found[0] if found else None
    faster = faster_by(wanted, limit.mark) if limit and limit.mark else None
    return {
        "known": known, "wanted": wanted, "use": use, "remark": remark, "profile": known.profile, "level": data["level"],
        "short": best is not None and _ORDER.index(best.level) > _ORDER.index(data["level"]),
        "lost": best is not None and best.level == NOT_USABLE,
        "rows": [_row(one, casts, crops if n < _LARGE else small, dark) for n, one in enumerate(found)], "large": f":{_LARGE}",
        "small": f"{_LARGE}:", "asked": _named(known, form, wanted, asked, casts, crops, dark), "limit": limit,
        "faster": faster, "over": -(faster or 0.0),
        "long": exposure.long_of(known.darks, data["level"], pixels, data["celsius"]),
        "shutter": form.exposure_s, "setting": form.setting, "celsius": data["celsius"],
        "moved": any(data[name] for name in ("aperture_stops", "shutter_stops", "light_stops")),
        "light_stops": data["light_stops"], "coloured": _coloured(known, form, best, wanted, factor),
        "fits": exposure.darks_that_fit(body, best.mark if best else round(wanted), form.exposure_s, data["celsius"]),
    }  # fmt: skip


def _named(
    known: exposure.Known, form: AdviceForm, wanted: float, asked: Asked, casts: exposure.Casts, crops: PredictedCrops,
    dark: _Dark,
) -> Row | None:  # fmt: skip
    """What the ISO that was named would give, measured or not."""
    mark = form.cleaned_data["iso"]
    if mark is None:
        return None
    return _row(option_at(known.findings, dial.exact_iso(mark), mark, wanted, asked), casts, crops, dark)


def _row(option: Option, casts: exposure.Casts, crops: PredictedCrops, dark: _Dark) -> Row:
    nothing = missing(Missing.NOT_MEASURED)
    grey, shadow, chroma = (option.seen.get(key, nothing) for key in ("grey_snr", "shadow_snr", "chroma_noise"))
    crop = crops.at(Wanted(dial.exact_iso(option.mark), option.push_stops, dark_e=dark.signal_e, hot_s=dark.hot_s))
    return Row(option, _SPECKLE.get(option.level, _LOST), grey, shadow, chroma, casts.at(option.push_stops), crop)


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
