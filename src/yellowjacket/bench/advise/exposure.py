"""What a body's own records say of pictures that are still to be taken."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from django.db.models import Count, Exists, OuterRef, Subquery, prefetch_related_objects
from django.db.models.functions import Least
from numpy.typing import NDArray

from yellowjacket.bench.darks import masters, measure
from yellowjacket.bench.darks.measure import MeasuredDarks
from yellowjacket.bench.models import Body, Frame, Ladder, MasterDark, Reading, Rung, Use
from yellowjacket.bench.models.queries.readings import at_use
from yellowjacket.bench.push import latitude
from yellowjacket.bench.record.proposals import measured_of
from yellowjacket.core.darks.lenr import LenrVerdict, lenr_verdict
from yellowjacket.core.darks.matching import Fit, Setting
from yellowjacket.core.darks.usable_exposure import Longest
from yellowjacket.core.exposure import dial
from yellowjacket.core.exposure.dial import exact_exposure_s
from yellowjacket.core.limits.exposure_advice import BodyFindings, MarkFindings
from yellowjacket.core.limits.iso_limits import Limit
from yellowjacket.core.limits.tolerance import Profile
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing, Remark
from yellowjacket.core.photon_transfer.iso_marks import against

# A ladder of so many marks says as much as any.
_MARKS_ENOUGH = 8
_MODEL = (Measurand.READ_NOISE_E, Measurand.SATURATION_E, Measurand.FLAGS)


@dataclass(frozen=True, slots=True)
class Known:
    """What advice on a body rests on: the ladder, the use as that ladder's sitting has it, the sitting's profile as the use
    sees it, the limits of the record, and all of it in words."""

    ladder: Ladder
    use: Use
    profile: Profile
    findings: BodyFindings
    limits: Mapping[str, Limit]
    words: str
    # By how much faster dark signal gathers than where the darks were taken.
    warmed: float = 1.0
    darks: MeasuredDarks | None = None


def ladder_of(body: Body, known: Sequence[Ladder] = ()) -> Ladder | None:
    """The ISO ladder that speaks for a body, with its rungs: of those measured the fullest, of equals the newest; None without
    one. ``known``: ladders that need not be fetched again."""
    modelled = Rung.objects.filter(ladder__body=body, ladder__kind=Ladder.Kind.ISO)
    for quantity in (Measurand.READ_NOISE_E, Measurand.SATURATION_E):
        readings = Reading.objects.speaking([quantity]).filter(rung=OuterRef("pk"), use=None, value__gt=0)
        modelled = modelled.filter(Exists(readings))
    marks = modelled.order_by().values("ladder").annotate(marks=Least(Count("pk"), _MARKS_ENOUGH))
    fullest = marks.order_by("-marks", "-ladder__sitting__held_on", "-ladder").values("ladder")[:1]
    found = Ladder.objects.select_related("sitting__profile", "body").filter(pk=Subquery(fullest)).first()
    own = next((ladder for ladder in known if ladder == found), None)
    if found is not None and own is None:
        prefetch_related_objects([found], "rungs")
    return own or found


def known_of(ladder: Ladder, use: Use, celsius: float | None = None) -> Known:
    """What a measured ladder says of its body for one of its uses, with the dark signal at a temperature."""
    rungs = list(ladder.rungs.all())
    findings = Reading.objects.findings_by_use(rungs)
    models = Reading.objects.speaking(_MODEL).filter(rung__in=rungs, use=None).by_rung()
    nothing = missing(Missing.NOT_MEASURED)
    marks = []
    for rung in sorted(rungs, key=lambda rung: rung.iso):
        parts = models.get(rung.pk, {})
        if not all(one in parts and parts[one].value for one in (Measurand.READ_NOISE_E, Measurand.SATURATION_E)):
            continue
        flags = parts.get(Measurand.FLAGS, nothing)
        marks.append(
            MarkFindings(
                rung.iso,
                dial.exact_iso(rung.iso),
                parts.get(Measurand.READ_NOISE_E, nothing),
                parts.get(Measurand.SATURATION_E, nothing),
                flags.has(Remark.SMOOTHED_HERE),
                at_use(findings, use, rung),
                against(flags.notes),
            )
        )
    darks = measure.of_body(ladder.body)
    dark, warmed, words = _dark(darks, celsius)
    sitting = ladder.sitting
    said = f"from {sitting}, {sitting.held_on:%-d %B %Y}, {len(marks)} ISO marks{words}"
    limits = measured_of(ladder, use, rungs, findings)
    profile = sitting.profile.criteria.seen_in(monochrome=use.monochrome)
    return Known(ladder, use, profile, BodyFindings(marks, dark), limits, said, warmed, darks)


def _dark(found: MeasuredDarks | None, celsius: float | None) -> tuple[float | None, float, str]:
    """Mean dark signal, e⁻/s, at a temperature, how much faster it gathers than where it was measured, and how that is known."""
    if found is None or found.whole.shadow is None or found.whole.shadow.current.value is None:
        return None, 1.0, ""
    current, reference = found.whole.shadow.current, found.whole.reference_c
    if celsius is None or reference is None:
        return max(current.value or 0.0, 0.0), 1.0, ", dark signal as measured"
    warmed = 2.0 ** ((celsius - reference) / found.whole.doubling_c)
    return (
        max((current.value or 0.0) * warmed, 0.0),
        warmed,
        f", dark signal of {reference:.0f} °C taken to {celsius:.0f} °C",
    )


@dataclass(frozen=True, slots=True)
class Cast:
    """The cast that a push brings out, as measured on an exposure ladder: ΔE00, and where it is from."""

    de00: Quantity
    words: str


@dataclass(frozen=True, slots=True)
class Casts:
    """Casts along the exposure ladders of a body, newest first: (stops of push, ΔE00), and where they are from."""

    ladders: Sequence[tuple[Sequence[tuple[float, Quantity]], str]]

    def at(self, push_stops: float) -> Cast | None:
        """Between the rungs of the newest ladder that reaches so far; None beyond all.

        An error of the black level is what pushes bring out; it stands in DN, so that other ISO marks may differ.
        """
        for rows, words in self.ladders:
            for (low, one), (high, other) in pairwise(rows):
                if low <= push_stops <= high and high > low:
                    return Cast(_mixed(one, other, (push_stops - low) / (high - low)), words)
        return None

    def of_push(self, push_stops: float) -> Quantity | None:
        """The colour difference alone."""
        cast = self.at(push_stops)
        return cast.de00 if cast else None


def casts_of(body: Body, use: Use) -> Casts:
    """What the measured exposure ladders of a body say of casts at a use."""
    ladders = Ladder.objects.filter(body=body, kind=Ladder.Kind.EXPOSURE).select_related("sitting__profile", "body")
    found = []
    for ladder in ladders.order_by("-sitting__held_on", "-pk"):
        rows = [
            (-rung.stops.value, rung.findings[latitude.CAST])
            for rung in latitude.exposed(ladder, use).plain
            if rung.stops.value is not None and rung.findings.get(latitude.CAST, missing(Missing.NOT_MEASURED)).known
        ]
        rows.sort(key=lambda row: row[0])
        found.append((rows, f"measured at ISO {ladder.metered_iso} in {ladder.sitting}"))
    return Casts(found)


def _mixed(one: Quantity, other: Quantity, share: float) -> Quantity:
    """Straight between two rungs, with the wider of what their intervals say."""

    def at(a: float | None, b: float | None) -> float | None:
        return None if a is None or b is None else (1 - share) * a + share * b

    return Quantity(at(one.value, other.value), at(one.low, other.low), at(one.high, other.high), min(one.n, other.n))


def matrix_of(ladder: Ladder) -> NDArray[np.float64] | None:
    """The colour matrix of a ladder's files, XYZ to camera, None where they name none."""
    frame = Frame.objects.filter(shot__rung__ladder=ladder).defer("report").first()
    return frame.xyz_to_camera if frame else None


def bodies_with_findings() -> list[Body]:
    """Bodies that have a rung with a noise model, in one query."""
    # Asked body by body, whose first such reading is enough: readings grow with every sitting, bodies hardly.
    found = Reading.objects.filter(
        rung__ladder__body=OuterRef("pk"), rung__ladder__kind=Ladder.Kind.ISO,
        patch=None, use=None, channel="all", quantity=Measurand.READ_NOISE_E, value__isnull=False,
    )  # fmt: skip
    return list(Body.objects.filter(Exists(found)))


@dataclass(frozen=True, slots=True)
class Long:
    """How long a body may expose, answer by answer, whether LENR pays, and where that was measured, by which profile."""

    answers: Mapping[str, Longest]
    verdict: LenrVerdict | None
    words: str


def long_of(found: MeasuredDarks | None, level: str, factor: float, celsius: float | None) -> Long | None:
    """From the measured darks of a body, by the profile of their sitting; None without."""
    rung = (
        Rung.objects.filter(pk__in=found.by_rung).select_related("ladder__sitting__profile").first() if found else None
    )
    if found is None or rung is None:
        return None
    sitting = rung.ladder.sitting
    criteria = sitting.profile.criteria.long_exposure
    there = celsius if found.whole.reference_c is not None else None
    answers = found.whole.longest(criteria, level, factor, there)
    rows = found.whole.lenr(factor) if found.whole.on else ()
    verdict = lenr_verdict(rows, criteria[0], level) if rows else None
    return Long(answers, verdict, f"from the darks of {sitting}, by the profile “{sitting.profile.criteria.name}”")


def darks_that_fit(body: Body, iso: int, exposure_s: float, celsius: float | None) -> list[masters.Candidate]:
    """Master darks of a body for a picture, the best first; none under a second, where darks do not matter."""
    if exposure_s < 1:
        return []
    sizes = set(MasterDark.objects.filter(body=body).values_list("width", "height"))
    found = [
        one
        for size in sizes
        for one in masters.candidates(Setting(str(body.pk), size, iso, exact_exposure_s(exposure_s), celsius), body)
    ]
    return [one for one in found if one.match.fit != Fit.NONE]
