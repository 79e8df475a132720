"""Push and pull: limits of an exposure ladder, and ISO against push, from stored readings."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TypeAlias

from django.db.models import prefetch_related_objects

from yellowjacket.bench.models import Body, Ladder, Patch, Reading, Rung, Use
from yellowjacket.bench.models.queries.readings import LOOKED_AT, Findings, ReadingQuerySet, Said, Spoken, at_use
from yellowjacket.core.latitude.iso_invariance import (
    NOISE_MODEL,
    Invariance,
    IsoNoise,
    Penalty,
    ShadowNoise,
    has_model,
    iso_noise,
)
from yellowjacket.core.latitude.push_pull import ExposedRung, StopLimit, pull_limits, push_limits
from yellowjacket.core.limits.tolerance import LEVELS, Criterion, Profile
from yellowjacket.core.metrology.estimate import Quantity, missing, ratio, weighted
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing, Remark
from yellowjacket.core.readings.raw_modes import AREA, OWN

# The cast of the neutral stands for neutral drift along an exposure ladder.
CAST = "neutral_drift"


@dataclass(frozen=True, slots=True)
class Recovery:
    """Limits of an exposure ladder for one use and profile, by level: push, pull, and push with the black corrected."""

    push: Mapping[str, StopLimit]
    pull: Mapping[str, StopLimit]
    corrected: Mapping[str, StopLimit]


@dataclass(frozen=True, slots=True)
class Exposed:
    """What was read of an exposure ladder's rungs, for a use: the frames themselves, and with the black corrected."""

    plain: Sequence[ExposedRung]
    corrected: Sequence[ExposedRung]
    highlight: Quantity
    highlight_channel: str


def exposed(ladder: Ladder, use: Use) -> Exposed:
    """Readings of an exposure ladder at the size of a use."""
    return exposed_by_use(ladder, [use])[use.pk]


def exposed_by_use(ladder: Ladder, uses: Sequence[Use]) -> dict[int, Exposed]:
    """The same for several uses by their ids."""
    return exposed_of([ladder], uses)[ladder.pk]


def exposed_of(
    ladders: Sequence[Ladder], uses: Sequence[Use], read: Collection[int] | None = None
) -> dict[int, dict[int, Exposed]]:
    """The same of several ladders by their ids, in one query as for one. ``read``: ids of those that something was read of,
    where that is known; of the others nothing is asked."""
    prefetch_related_objects(ladders, "rungs")
    every = [rung for ladder in ladders if read is None or ladder.pk in read for rung in ladder.rungs.all()]
    wanted = (Measurand.STEP_STOPS, Measurand.CAST_DE00, Measurand.CAST_CORRECTED_DE00)
    of_rungs = Reading.objects.filter(rung__in=every)
    said = Reading.objects.in_one({
        "limits": of_rungs.speaking(LOOKED_AT),
        "own": of_rungs.filter(quantity__in=wanted).exclude(patch__role=Patch.Role.SHADOW),
        "clips": of_rungs.filter(quantity=Measurand.CLIPS_AT_STOPS, patch__role=Patch.Role.HIGHLIGHT),
    })  # fmt: skip
    findings, own = Spoken.of(said["limits"]).findings(every), Spoken.of(said["own"]).per_pixel
    clips: dict[int, tuple[Quantity, str]] = {}
    for one in said["clips"]:
        clips.setdefault(one.rung_id, (one.result, one.channel))
    found: dict[int, dict[int, Exposed]] = {}
    for ladder in ladders:
        rungs = list(ladder.rungs.all())
        nothing = (missing(Missing.NO_HIGHLIGHT_PATCH), "")
        highlight, channel = next((clips[rung.pk] for rung in rungs if rung.pk in clips), nothing)
        found[ladder.pk] = {}
        for use in uses:
            plain, corrected = (
                [_exposed_rung(rung, own.get(rung.pk, {}), cast, findings, use) for rung in rungs]
                for cast in (Measurand.CAST_DE00, Measurand.CAST_CORRECTED_DE00)
            )
            found[ladder.pk][use.pk] = Exposed(plain, corrected, highlight, channel)
    return found


def _exposed_rung(
    rung: Rung, own: Mapping[Measurand, Quantity], cast: Measurand,
    findings: Findings, use: Use,
) -> ExposedRung:  # fmt: skip
    found = at_use(findings, use, rung)
    found.pop(CAST, None)
    if cast in own:
        found[CAST] = own[cast]
    step = own.get(Measurand.STEP_STOPS, missing(Missing.NOT_MEASURED_YET))
    return ExposedRung(step, rung.label, found)


def recovery(found: Exposed, profile: Profile) -> Recovery:
    """Limits by a profile: cheap, so that a threshold can be moved and its effect seen at once."""
    return Recovery(
        push_limits(found.plain, profile),
        pull_limits(found.highlight, found.highlight_channel, found.plain, profile),
        push_limits(found.corrected, profile),
    )


def turning(found: Exposed, profile: Profile) -> tuple[str, str, str] | None:
    """From which push on an exposure ladder's frames turn more than the profile lets a usable picture: stops, their interval,
    and towards which colour. None where nothing turns so far, or it was not measured."""
    limit = _alone(found, tuple(one for one in profile.criteria if one.key == CAST), profile)
    if limit is None or limit.stops is None:
        return None
    past = [one for one in found.plain if one.stops.value is not None and -one.stops.value >= limit.stops]
    nearest = max(past, key=lambda one: one.stops.value or 0.0, default=None)
    colour = direction_of(nearest.findings[CAST]) if nearest is not None and CAST in nearest.findings else ""
    return *_with_interval(limit), f"towards {colour or 'another colour'}"


def banding(found: Exposed, profile: Profile) -> tuple[str, str, str] | None:
    """From which push on bands show more than the profile lets a usable picture: stops, their interval, and in what. None
    where they show nowhere, or darks are missing that would tell."""
    limit = _alone(found, profile.exposure, profile)
    return None if limit is None else (*_with_interval(limit), limit.criterion)


def direction_of(cast: Quantity) -> str:
    """Towards which colour a cast goes, in a word; empty where it has no direction."""
    return next((str(note.details[0]) for note in cast.notes if note.kind is Remark.TOWARDS), "")


def _alone(found: Exposed, criteria: tuple[Criterion, ...], profile: Profile) -> StopLimit | None:
    """The usable push limit by these criteria and no others; None where they hold on every frame, or were not read."""
    if not criteria:
        return None
    limit = push_limits(found.plain, replace(profile, criteria=criteria, exposure=()))["usable"]
    return None if limit.stops is None or limit.at_least else limit


def _with_interval(limit: StopLimit) -> tuple[str, str]:
    spread = f"{limit.low:.1f} … {limit.high:.1f}" if limit.low is not None and limit.high is not None else ""
    return f"{limit.stops:.1f} stops", spread


def turns(ladders: Sequence[Ladder], use: Use) -> str:
    """The same of a body by its exposure ladders, in a sentence; empty where none of them tells."""
    found = exposed_of(ladders, [use]) if ladders else {}
    for ladder in ladders:
        told = turning(found[ladder.pk][use.pk], ladder.sitting.profile.criteria.seen_in(monochrome=use.monochrome))
        if told is not None:
            stops, spread, colour = told
            return f"pushed by more than {stops}{f' ({spread})' if spread else ''} this body turns {colour}"
    return ""


def profile_with(profile: Profile, thresholds: Mapping[str, float], level: str) -> Profile:
    """The profile with thresholds of one level moved, the rest as it is. Thresholds that are not positive are left."""

    def moved(criterion: Criterion) -> Criterion:
        value = thresholds.get(criterion.key)
        if value is None or value <= 0:
            return criterion
        own = list(criterion.thresholds)
        own[LEVELS.index(level)] = value
        return replace(criterion, thresholds=(own[0], own[1], own[2]))

    return replace(profile, criteria=tuple(moved(criterion) for criterion in profile.criteria))


@dataclass(frozen=True, slots=True)
class IsoAgainstPush:
    """The matrix of a body: its ISO marks, penalties by (shot, wanted), highlights kept by each mark against the top,
    and from where on it is invariant."""

    isos: Sequence[int]
    penalties: Mapping[tuple[int, int], Penalty]
    highlights: Mapping[int, Quantity]
    invariance: Invariance
    measured: bool


# Signal and noise of uniform patches by rung id, (patch, channel).
SameLight: TypeAlias = Mapping[int, Mapping[tuple[str, str], ShadowNoise]]


def iso_noise_of(
    rungs: Sequence[Rung], whole: Mapping[int, Mapping[Measurand, Quantity]], patches: SameLight
) -> list[IsoNoise]:
    """Noise models by ISO from all ISO ladders of a body in a sitting together. ``rungs`` know their ladders; ``whole``: what was
    measured of each, by its id; ``patches``: of ladders held fixed, which hold the same light."""
    fixed = held_fixed(rungs)
    models: dict[int, list[Mapping[Measurand, Quantity]]] = {}
    lit: dict[int, Mapping[tuple[str, str], ShadowNoise]] = {}
    for rung in sorted(rungs, key=lambda one: one.ladder_id not in fixed):
        if has_model(whole.get(rung.pk, {})):
            models.setdefault(rung.iso, []).append(whole[rung.pk])
            lit.setdefault(rung.iso, patches.get(rung.pk, {}))
    together = {iso: rows[0] if len(rows) == 1 else _together(rows) for iso, rows in models.items()}
    return iso_noise(together, lit)


def _together(rows: Sequence[Mapping[Measurand, Quantity]]) -> dict[Measurand, Quantity]:
    return {one: weighted([row[one] for row in rows]) for one in NOISE_MODEL}


def held_fixed(rungs: Iterable[Rung]) -> set[int]:
    """Ids of the ladders of rungs that were held fixed: they hold the same light at every ISO."""
    return {rung.ladder_id for rung in rungs if rung.ladder.method == Ladder.Method.FIXED}


def of_same_light(rungs: Sequence[Rung]) -> ReadingQuerySet:
    """Signal and noise of the uniform patches of ladders that were held fixed."""
    uniform = (Patch.Role.GREY, Patch.Role.SHADOW, Patch.Role.BLACK, Patch.Role.FIELD, Patch.Role.WEDGE)
    fixed = held_fixed(rungs)
    return Reading.objects.filter(
        rung__in=[rung.pk for rung in rungs if rung.ladder_id in fixed],
        use=None,
        quantity__in=(Measurand.SIGNAL_DN, Measurand.NOISE_DN),
        patch__role__in=uniform,
    )


def same_light(readings: Iterable[Said]) -> SameLight:
    """The same, as it was fetched, by rung id, (patch, channel)."""
    found: dict[int, dict[tuple[str, str], dict[str, Quantity]]] = {}
    for one in readings:
        of_rung = found.setdefault(one.rung_id, {})
        of_rung.setdefault((str(one.patch), one.channel), {})[one.quantity] = one.result
    return {
        pk: {
            key: ShadowNoise(both[Measurand.SIGNAL_DN], both[Measurand.NOISE_DN])
            for key, both in parts.items() if len(both) == 2
        }
        for pk, parts in found.items()
    }  # fmt: skip


@dataclass(frozen=True, slots=True)
class SettingEffect:
    """What a value of a setting ladder does, against the first one: noise of the grey patch as a ratio, correlation of
    neighbours, detail as a share, range in stops, and how much of that is smoothing."""

    rung: Rung
    noise_ratio: Quantity
    correlation: Quantity
    detail: Quantity
    range_stops: Quantity
    hidden_stops: Quantity
    megabytes: float | None


@dataclass(frozen=True, slots=True)
class SamePixels:
    """A reduced raw mode beside the full one scaled to its pixels: quantity → picture (own, area, lanc) → value."""

    rung: Rung
    rows: Mapping[str, Mapping[str, Quantity]]
    saved_share: float | None

    @property
    def differences(self) -> Mapping[str, Quantity]:
        """The mode against the full frame averaged down, in per cent."""
        found = {}
        for name, pictures in self.rows.items():
            own, area = (pictures.get(one, missing(Missing.NOT_MEASURED)) for one in (OWN, AREA))
            # Detail that ends where the pixels end tells no difference.
            share = missing(Missing.BOUNDS_ONLY) if own.bound or area.bound else ratio(own, area)
            value, low, high = (None if q is None else 100 * (q - 1) for q in (share.value, share.low, share.high))
            found[name] = Quantity(value, low, high, share.n, share.notes)
        return found


@dataclass(frozen=True, slots=True)
class Equalised:
    """Two bodies at one ISO: the difference of their ranges in stops, and how much of it is smoothing."""

    iso: int
    one: Body
    other: Body
    difference: Quantity
    processing: Quantity
