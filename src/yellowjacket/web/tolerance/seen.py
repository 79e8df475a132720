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

# The reach and steps of the slider, as factors, and how many of its steps a threshold lies from its neighbours.
_REACH, _STEPS, _APART = 8.0, 60, 4
_CROP_PX = (168, 126)
_LEAST, _MOST = 1e-3, 1e5


@dataclass(frozen=True, slots=True)
class Asked:
    """The threshold that is looked at: of which criterion and level, where its slider began, and where that stands."""

    criterion: Criterion
    level: str
    base: float
    step: int = _STEPS // 2

    @classmethod
    def of(cls, asked: Mapping[str, str], criteria: Sequence[Criterion]) -> Asked:
        """As an address names it: by criterion and level, or by the field of the table that was clicked."""
        key, _, of_field = asked.get("field", "").partition("-")
        one = picture_criterion(asked.get("criterion", "") or key, criteria) or criteria[0]
        level = asked.get("level", "") or of_field
        level = level if level in LEVELS else LEVELS[0]
        typed = asked.get("base") or asked.get(f"{one.key}-{level}")
        base = decimal(typed, _LEAST, _MOST) or max(one.threshold(level), _LEAST)
        step = decimal(asked.get("step"), 0, _STEPS)
        return cls(one, level, base) if step is None else cls(one, level, base, round(step))

    @property
    def field(self) -> str:
        """Its field of the table."""
        return f"{self.criterion.key}-{self.level}"

    @property
    def value(self) -> float:
        """The threshold where the slider stands."""
        return threshold_at(self.base, self.step)

    @property
    def last_step(self) -> int:
        """The slider's last place; the first is 0."""
        return _STEPS

    @property
    def ends(self) -> tuple[str, str]:
        """What the slider's two ends are."""
        return ("laxer", "stricter") if self.criterion.at_least else ("stricter", "laxer")

    @property
    def side_by_side(self) -> tuple[tuple[str, int], ...]:
        """The pictures that are shown, by how many steps each lies from the slider's place."""
        way = _APART if self.criterion.at_least else -_APART
        return (("stricter", way), ("the threshold", 0), ("laxer", -way))


@dataclass(frozen=True, slots=True)
class Seen:
    """A threshold as it looks: its value, the ISO at which the body comes to it, and the picture there."""

    value: float
    iso: float | None
    crop: PredictedCrop


@dataclass(frozen=True, slots=True)
class Scene:
    """What thresholds are seen on: a measured ladder at a use's size, and the bodies and uses that could stand in its place."""

    bodies: Sequence[Body]
    ladder: Ladder
    uses: Sequence[Use]
    use: Use

    @classmethod
    def of(cls, asked: Mapping[str, str]) -> Scene | None:
        """The body and use that an address names, else what shows most; None where no body was measured."""
        bodies = exposure.bodies_with_findings()
        ladder = _ladder_shown(bodies, identity(asked.get("body")))
        uses = list(ladder.sitting.uses.all()) if ladder else []
        if ladder is None or not uses:
            return None
        return cls(bodies, ladder, uses, next((one for one in uses if str(one.pk) == asked.get("use")), uses[0]))

    def at(self, criterion: Criterion, values: Sequence[float]) -> list[Seen]:
        """Thresholds of a criterion as they look here, in their order."""
        rungs = list(self.ladder.rungs.all())
        told = (criterion.quantity, Measurand.EXPOSURE_ERROR_STOPS)
        findings = Reading.objects.filter(quantity__in=told).findings_by_use(rungs)
        known = [rung_findings(self.ladder, rung, at_use(findings, self.use, rung)) for rung in rungs]
        factor, _ = use_noise_factor(self.ladder.body.pixels, self.use.whole_frame_pixels)
        crops = PredictedCrops.of(self.ladder, _CROP_PX, factor, monochrome=self.use.monochrome, rungs=rungs)
        found = []
        for value in values:
            iso, refusal = iso_of(known, criterion, value)
            found.append(Seen(value, iso, crops.at(Wanted(iso)) if iso else PredictedCrop(refusal=refusal)))
        return found


def picture_criterion(key: str, criteria: Sequence[Criterion]) -> Criterion | None:
    """One of those whose threshold has a picture."""
    known = {one.key for one in DEFAULT_CRITERIA}
    return next((one for one in criteria if one.key == key and one.key in known), None)


def threshold_at(base: float, step: int) -> float:
    """The threshold of a slider's place, three digits: in the middle ``base`` itself, equal factors apart."""
    if step == _STEPS // 2:
        return base
    value = base * _REACH ** (2 * step / _STEPS - 1)
    digits = 2 - math.floor(math.log10(value))
    return round(value, digits)


def context_of(request: HttpRequest, criteria: Sequence[Criterion]) -> dict[str, object]:
    """What the panel shows."""
    asked = Asked.of(request.GET, criteria)
    context: dict[str, object] = {"criterion": asked.criterion, "asked": asked}
    scene = Scene.of(request.GET)
    if scene is None:
        return context
    places = asked.side_by_side
    pictures = scene.at(asked.criterion, [threshold_at(asked.base, asked.step + apart) for _, apart in places])
    return context | {"scene": scene, "pictures": [(*place, one) for place, one in zip(places, pictures, strict=True)]}


def places_of(request: HttpRequest, criteria: Sequence[Criterion]) -> list[Seen]:
    """What the slider shows at each of its places and what stands beside its ends: the first lies ``_APART`` steps before it."""
    asked, scene = Asked.of(request.GET, criteria), Scene.of(request.GET)
    if scene is None:
        return []
    steps = range(-_APART, _STEPS + _APART + 1)
    return scene.at(asked.criterion, [threshold_at(asked.base, step) for step in steps])


def _ladder_shown(bodies: Sequence[Body], wanted: int | None) -> Ladder | None:
    """The measured ladder of the body that is wanted, else of the one with the fullest ladder: it shows the most thresholds."""
    by_id = {body.pk: body for body in bodies}
    if wanted not in by_id:
        rungs = Rung.objects.filter(ladder__kind=Ladder.Kind.ISO, ladder__body__in=bodies).exclude(measured_inputs="")
        told = rungs.order_by().values_list("ladder__body", "ladder").annotate(rungs=Count("pk"))
        wanted = next((body for body, *_ in told.order_by("-rungs", "ladder")), None)
    body = by_id.get(wanted or 0)
    return exposure.ladder_of(body) if body else None


def iso_of(rungs: Sequence[RungFindings], criterion: Criterion, value: float) -> tuple[float | None, str]:
    """The ISO at which a body comes to a threshold, or why none does."""
    alone = Profile("threshold", (replace(criterion, thresholds=(value, value, value)),))
    limit = measured_limits(rungs, alone)[LEVELS[0]]
    if limit.crossing:
        return limit.crossing, ""
    if limit.mark is None:
        return None, limit.reason or f"every ISO of this body is past a {criterion.label} of {value:.3g}"
    return None, f"no ISO of this body comes to a {criterion.label} of {value:.3g}"
