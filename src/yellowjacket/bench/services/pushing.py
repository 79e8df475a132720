"""Push and pull: limits of an exposure ladder, and ISO against push, from stored readings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from yellowjacket.bench.models import Body, Ladder, Patch, Reading, Rung, Sitting, Use
from yellowjacket.bench.services.recording import findings_by_use
from yellowjacket.core.iso_push import (
    Invariance,
    IsoNoise,
    Penalty,
    ShadowNoise,
    highlight_gained,
    invariant_from,
    penalties,
)
from yellowjacket.core.quantity import Quantity, missing
from yellowjacket.core.recovery import ExposedRung, StopLimit, pull_limits, push_limits
from yellowjacket.core.tolerance import LEVELS, Criterion, Profile

# The cast of the neutral stands for neutral drift along an exposure ladder.
_CAST = "neutral_drift"
_NO_HIGHLIGHT = "no highlight patch: draw one on the Measure page, on the brightest part that must keep its shape"


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
    """Readings of an exposure ladder in three queries."""
    rungs = list(ladder.rungs.all())
    findings = findings_by_use(rungs)
    own: dict[int, dict[str, Reading]] = {rung.pk: {} for rung in rungs}
    wanted = ("step_stops", "cast_de00", "cast_corrected_de00")
    rows = Reading.objects.filter(rung__in=rungs, quantity__in=wanted)
    for row in rows.exclude(patch__role=Patch.Role.SHADOW):
        own[row.rung_id][row.quantity] = row
    clips = Reading.objects.filter(rung__in=rungs, quantity="clips_at_stops", patch__role=Patch.Role.HIGHLIGHT).first()
    plain, corrected = (
        [_exposed_rung(rung, own[rung.pk], cast, findings, use) for rung in rungs]
        for cast in ("cast_de00", "cast_corrected_de00")
    )
    return Exposed(plain, corrected, clips.result if clips else missing(_NO_HIGHLIGHT), clips.channel if clips else "")


def _exposed_rung(
    rung: Rung, own: Mapping[str, Reading], cast: str,
    findings: Mapping[int | None, Mapping[int, Mapping[str, Quantity]]], use: Use,
) -> ExposedRung:  # fmt: skip
    found = {**findings.get(None, {}).get(rung.pk, {}), **findings.get(use.pk, {}).get(rung.pk, {})}
    found.pop(_CAST, None)
    if cast in own:
        found[_CAST] = own[cast].result
    step = own["step_stops"].result if "step_stops" in own else missing("not measured yet")
    return ExposedRung(step, rung.label, found)


def recovery(found: Exposed, profile: Profile) -> Recovery:
    """Limits by a profile: cheap, so that a threshold can be moved and its effect seen at once."""
    return Recovery(
        push_limits(found.plain, profile),
        pull_limits(found.highlight, found.highlight_channel, found.plain, profile),
        push_limits(found.corrected, profile),
    )


def profile_with(profile: Profile, thresholds: Mapping[str, float], level: str) -> Profile:
    """The profile with thresholds of one level moved, the rest as it is. Thresholds that are not positive are left."""

    def moved(criterion: Criterion) -> Criterion:
        value = thresholds.get(criterion.key)
        if value is None or value <= 0:
            return criterion
        own = list(criterion.thresholds)
        own[LEVELS.index(level)] = value
        return replace(criterion, thresholds=(own[0], own[1], own[2]))

    return Profile(profile.name, tuple(moved(criterion) for criterion in profile.criteria))


@dataclass(frozen=True, slots=True)
class IsoAgainstPush:
    """The matrix of a body: its ISO marks, penalties by (shot, wanted), highlights kept by each mark against the top,
    and from where on it is invariant."""

    isos: Sequence[int]
    penalties: Mapping[tuple[int, int], Penalty]
    highlights: Mapping[int, Quantity]
    invariance: Invariance
    measured: bool


def iso_against_push(sitting: Sitting, body: Body) -> IsoAgainstPush | None:
    """From the ISO ladders of a body in a sitting; None where fewer than two marks have a noise model."""
    marks = _iso_noise(sitting, body)
    if len(marks) < 2:
        return None
    found = penalties(marks)
    top = marks[-1]
    return IsoAgainstPush(
        [mark.iso for mark in marks], {(one.shot_iso, one.wanted_iso): one for one in found},
        {mark.iso: highlight_gained(mark, top) for mark in marks[:-1]}, invariant_from(marks, found),
        any(one.kind == "measured" for one in found),
    )  # fmt: skip


def _iso_noise(sitting: Sitting, body: Body) -> list[IsoNoise]:
    """Noise models by ISO; a ladder held fixed comes before others, and its patches hold the same light."""
    ladders = sitting.ladders.filter(body=body, kind=Ladder.Kind.ISO)
    fixed = [ladder.pk for ladder in ladders if ladder.method == Ladder.Method.FIXED]
    rungs = {rung.pk: rung for rung in Rung.objects.filter(ladder__in=ladders)}
    whole: dict[int, dict[str, Quantity]] = {pk: {} for pk in rungs}
    patches: dict[int, dict[tuple[str, str], dict[str, Quantity]]] = {pk: {} for pk in rungs}
    model = ("read_noise_e", "saturation_e", "gain_e_per_dn", "flags")
    for row in Reading.objects.filter(rung__in=rungs, patch=None, use=None, channel="all", quantity__in=model):
        whole[row.rung_id][row.quantity] = row.result
    lit = Reading.objects.filter(rung__ladder__in=fixed, use=None, quantity__in=("signal_dn", "noise_dn"))
    uniform = (Patch.Role.GREY, Patch.Role.SHADOW, Patch.Role.BLACK, Patch.Role.FIELD, Patch.Role.WEDGE)
    for row in lit.filter(patch__role__in=uniform).select_related("patch"):
        assert row.patch is not None  # noqa: S101 - the filter asks for patches
        patches[row.rung_id].setdefault((row.patch.name, row.channel), {})[row.quantity] = row.result
    found: dict[int, IsoNoise] = {}
    for pk, rung in sorted(rungs.items(), key=lambda item: item[1].ladder_id not in fixed):
        parts = whole[pk]
        if rung.iso in found or not {"read_noise_e", "saturation_e", "gain_e_per_dn"} <= parts.keys():
            continue
        if parts["read_noise_e"].value is None or parts["saturation_e"].value is None:
            continue
        pairs = {
            key: ShadowNoise(both["signal_dn"], both["noise_dn"])
            for key, both in patches[pk].items()
            if {"signal_dn", "noise_dn"} <= both.keys()
        }
        found[rung.iso] = IsoNoise(
            rung.iso, parts["read_noise_e"], parts["saturation_e"], parts["gain_e_per_dn"], pairs
        )
    return [found[iso] for iso in sorted(found)]
