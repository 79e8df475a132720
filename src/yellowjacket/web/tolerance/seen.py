"""What a threshold looks like: the scene of a measured ladder with just so much noise, between a stricter and a laxer one."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from django.db.models import Count
from django.http import HttpRequest

from yellowjacket.bench.advise import exposure
from yellowjacket.bench.models import Body, Ladder, Reading, Rung, Use
from yellowjacket.bench.models.queries.readings import at_use
from yellowjacket.bench.prediction.clean_frame import Wanted
from yellowjacket.bench.record.proposals import rung_findings
from yellowjacket.bench.typed import decimal, identity
from yellowjacket.core.limits.iso_limits import RungFindings, measured_limits
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA, LEVELS, Criterion, Profile
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.web.predicted import PredictedCrop, PredictedCrops

# From a threshold to its neighbours, and the reach and steps of the slider, as factors.
_NEXT, _REACH, _STEPS = 1.3, 8.0, 60
_CROP_PX = (168, 126)
_LEAST, _MOST = 1e-3, 1e5


@dataclass(frozen=True, slots=True)
class Seen:
    """A threshold as it looks: its value, the ISO at which the body comes to it, and the picture there."""

    words: str
    value: float
    iso: float | None
    crop: PredictedCrop


@dataclass(frozen=True, slots=True)
class Slider:
    """A threshold that is moved: its place among the steps, and how many there are."""

    at: int
    steps: int = _STEPS


def picture_criterion(key: str, criteria: Sequence[Criterion]) -> Criterion | None:
    """One of those whose threshold has a picture."""
    known = {one.key for one in DEFAULT_CRITERIA}
    return next((one for one in criteria if one.key == key and one.key in known), None)


def threshold_at(base: float, step: int) -> float:
    """The threshold of a slider's place, three digits: in the middle ``base``, equal factors apart."""
    value = base * _REACH ** (2 * step / _STEPS - 1)
    digits = 2 - math.floor(math.log10(value))
    return round(value, digits)


def context_of(request: HttpRequest, criteria: Sequence[Criterion]) -> dict[str, object]:
    """What the panel shows. Its address names criterion and level, the threshold it began with, and where the slider stands."""
    asked = request.GET
    key, _, of_field = asked.get("field", "").partition("-")
    one = picture_criterion(asked.get("criterion", "") or key, criteria) or criteria[0]
    level = asked.get("level", "") or of_field
    level = level if level in LEVELS else LEVELS[0]
    typed = asked.get("base") or asked.get(f"{one.key}-{level}")
    base = decimal(typed, _LEAST, _MOST) or max(one.threshold(level), _LEAST)
    middle = _STEPS // 2
    step = round(decimal(asked.get("step"), 0, _STEPS) or 0) if "step" in asked else middle
    value = base if step == middle else threshold_at(base, step)
    context: dict[str, object] = {
        "criterion": one, "level": level, "base": base, "value": value, "typed": f"{value:.3g}", "slider": Slider(step),
        "field": f"{one.key}-{level}", "moved": "step" in asked,
        "ends": ("laxer", "stricter") if one.at_least else ("stricter", "laxer"),
    }  # fmt: skip
    moving = _named(asked) if "step" in asked else None
    if moving is not None:
        ladder, use = moving
    else:
        bodies = exposure.bodies_with_findings()
        found = _ladder_shown(bodies, identity(asked.get("body")))
        uses = list(found.sitting.uses.all()) if found else []
        if found is None or not uses:
            return context
        ladder, use = found, next((one for one in uses if str(one.pk) == asked.get("use")), uses[0])
        context |= {"bodies": bodies, "uses": uses}
    pictures = _pictures(ladder, use, one, value)
    return context | {"pictures": pictures, "use": use, "ladder": ladder, "moving": moving is not None}


def _ladder_shown(bodies: Sequence[Body], wanted: int | None) -> Ladder | None:
    """The measured ladder of the body that is wanted, else of the one with the fullest ladder: it shows the most thresholds."""
    by_id = {body.pk: body for body in bodies}
    if wanted not in by_id:
        rungs = Rung.objects.filter(ladder__kind=Ladder.Kind.ISO, ladder__body__in=bodies).exclude(measured_inputs="")
        told = rungs.order_by().values_list("ladder__body", "ladder").annotate(rungs=Count("pk"))
        wanted = next((body for body, *_ in told.order_by("-rungs", "ladder")), None)
    body = by_id.get(wanted or 0)
    return exposure.ladder_of(body) if body else None


def _named(asked: Mapping[str, str]) -> tuple[Ladder, Use] | None:
    """What the panel shows already, in two queries: a slider that moves cannot wait for more. None where another body is
    wanted."""
    ladder_id, use_id, body_id = (identity(asked.get(name, "")) for name in ("ladder", "use", "body"))
    ladder = Ladder.objects.filter(pk=ladder_id, body=body_id).select_related("sitting", "body").first()
    use = Use.objects.filter(pk=use_id, sitting=ladder.sitting_id).first() if ladder else None
    return (ladder, use) if ladder and use else None


def _pictures(ladder: Ladder, use: Use, criterion: Criterion, value: float) -> list[Seen]:
    rungs = list(ladder.rungs.all())
    told = (criterion.quantity, Measurand.EXPOSURE_ERROR_STOPS)
    findings = Reading.objects.filter(quantity__in=told).findings_by_use(rungs)
    known = [rung_findings(ladder, rung, at_use(findings, use, rung)) for rung in rungs]
    factor, _ = use_noise_factor(ladder.body.pixels, use.whole_frame_pixels)
    crops = PredictedCrops.of(ladder, _CROP_PX, factor, monochrome=use.monochrome, rungs=rungs)
    way = _NEXT if criterion.at_least else 1 / _NEXT
    places = (("stricter", value * way), ("the threshold", value), ("laxer", value / way))
    found = []
    for words, at in places:
        iso, refusal = iso_of(known, criterion, at)
        crop = crops.at(Wanted(iso)) if iso else PredictedCrop(refusal=refusal)
        found.append(Seen(words, at, iso, crop))
    return found


def iso_of(rungs: Sequence[RungFindings], criterion: Criterion, value: float) -> tuple[float | None, str]:
    """The ISO at which a body comes to a threshold, or why none does."""
    alone = Profile("threshold", (replace(criterion, thresholds=(value, value, value)),))
    limit = measured_limits(rungs, alone)[LEVELS[0]]
    if limit.crossing:
        return limit.crossing, ""
    if limit.mark is None:
        return None, limit.reason or f"every ISO of this body is past a {criterion.label} of {value:.3g}"
    return None, f"no ISO of this body comes to a {criterion.label} of {value:.3g}"
