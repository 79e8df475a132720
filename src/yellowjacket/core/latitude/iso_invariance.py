"""ISO against push: what it costs to shoot at a low ISO and brighten afterwards, in stops of shadow noise.

Same light, same shutter, same aperture: the electrons are the same, only the read noise differs. Penalty of shooting at
ISO a what is wanted at b, at shadow level ℓ in electrons: ½·log2((R_a² + ℓ)/(R_b² + ℓ)); measured where both were shot,
log2(σ_a/σ_b) in electrons.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from statistics import median

from yellowjacket.core.exposure.iso12232 import MID_GREY_SHARE
from yellowjacket.core.metrology.estimate import Quantity, missing, unknown, with_error
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing

# The shadow judged lies so many stops under mid-grey of the wanted ISO.
SHADOW_STOPS = 4.0
# A rung is invariant when every push from it costs less than this, in stops (common practice, no source).
ALLOWED_STOPS = 0.25
# Frames whose bright patches differ by more electrons than this, in stops, did not get the same light, whatever their shutters
# say: the aperture, a filter or the lamp was another.
_SAME_LIGHT_STOPS = 0.1
# Patches this near the level tell the penalty there, moved along the noise model.
_NEAR_STOPS = 0.75
MEASURED, PREDICTED = "measured", "predicted"


@dataclass(frozen=True, slots=True)
class ShadowNoise:
    """A uniform patch in one channel: signal above black and temporal noise, DN."""

    signal_dn: Quantity
    noise_dn: Quantity


@dataclass(frozen=True, slots=True)
class IsoNoise:
    """The noise model of one ISO, and patches by (name, channel) where this ISO was shot in the common light."""

    iso: int
    read_noise_e: Quantity
    saturation_e: Quantity
    gain: Quantity
    patches: Mapping[tuple[str, str], ShadowNoise]


@dataclass(frozen=True, slots=True)
class Penalty:
    """Cost in stops of shooting at ``shot_iso`` what is wanted at ``wanted_iso``; ``level_e``: shadow in electrons."""

    shot_iso: int
    wanted_iso: int
    level_e: float
    stops: Quantity
    kind: str

    @property
    def costs_nothing(self) -> bool:
        """Whether no cost can be measured: the value is nothing or less, which the interval does not exclude."""
        return self.stops.value is not None and self.stops.value <= 0


# What a rung must have been measured for.
NOISE_MODEL = (Measurand.READ_NOISE_E, Measurand.SATURATION_E, Measurand.GAIN_E_PER_DN)


def has_model(readings: Mapping[Measurand, Quantity]) -> bool:
    """Whether a rung has read noise, saturation and gain, the first two known."""
    read, saturation = readings.get(Measurand.READ_NOISE_E), readings.get(Measurand.SATURATION_E)
    if read is None or saturation is None or Measurand.GAIN_E_PER_DN not in readings:
        return False
    return read.value is not None and saturation.value is not None


def iso_noise(
    models: Mapping[int, Mapping[Measurand, Quantity]], patches: Mapping[int, Mapping[tuple[str, str], ShadowNoise]]
) -> list[IsoNoise]:
    """The noise of each ISO that has a model, from low to high. ``patches``: by ISO, where they hold the common light."""
    return [
        IsoNoise(
            iso, readings[Measurand.READ_NOISE_E], readings[Measurand.SATURATION_E],
            readings[Measurand.GAIN_E_PER_DN], patches.get(iso, {}),
        )
        for iso, readings in sorted(models.items())
        if has_model(readings)
    ]  # fmt: skip


def penalties(rungs: Sequence[IsoNoise]) -> tuple[Penalty, ...]:
    """Every pair of a lower and a higher ISO, measured where both hold the same light, else predicted."""
    found = []
    ordered = sorted(rungs, key=lambda rung: rung.iso)
    for n, shot in enumerate(ordered):
        for wanted in ordered[n + 1 :]:
            level = _shadow_level(wanted)
            if level is None:
                continue
            predicted = _predicted(shot, wanted, level)
            measured = _measured(shot, wanted, level)
            if measured is not None:
                found.append(Penalty(shot.iso, wanted.iso, level, measured, MEASURED))
            elif predicted.known:
                found.append(Penalty(shot.iso, wanted.iso, level, predicted, PREDICTED))
    return tuple(found)


def _shadow_level(wanted: IsoNoise) -> float | None:
    full = wanted.saturation_e.value
    return MID_GREY_SHARE * full / 2.0**SHADOW_STOPS if full else None


def _predicted(shot: IsoNoise, wanted: IsoNoise, level: float) -> Quantity:
    one, other = shot.read_noise_e, wanted.read_noise_e
    if one.value is None or other.value is None:
        return unknown(one, other, otherwise=Missing.READ_NOISE_UNKNOWN)
    value = 0.5 * math.log2((one.value**2 + level) / (other.value**2 + level))
    errors = [q.value * q.se / (q.value**2 + level) / math.log(2) for q in (one, other) if q.value is not None]
    return with_error(value, math.hypot(*errors), min(one.n, other.n))


def _measured(shot: IsoNoise, wanted: IsoNoise, level: float) -> Quantity | None:
    """From patches near the level that both frames hold, each moved to it along the noise model; None without any, or where
    the light was not the same."""
    parts: list[tuple[float, float]] = []
    if not same_light(shot, wanted):
        return None
    for name, own in wanted.patches.items():
        other = shot.patches.get(name)
        gain = wanted.gain.value
        if other is None or gain is None or not own.signal_dn.value or own.signal_dn.value <= 0:
            continue
        electrons = own.signal_dn.value * gain
        if abs(math.log2(electrons / level)) > _NEAR_STOPS:
            continue
        part = _ratio(other, shot.gain, own, wanted.gain)
        if part is not None:
            moved = _model(shot, wanted, level) - _model(shot, wanted, electrons)
            parts.append((part[0] + moved, part[1]))
    if not parts:
        return None
    weights = [1 / error**2 for _, error in parts]
    value = sum(w * stops for w, (stops, _) in zip(weights, parts, strict=True)) / sum(weights)
    n = sum(own.noise_dn.n for name, own in wanted.patches.items() if name in shot.patches)
    return with_error(value, 1 / math.sqrt(sum(weights)), n)


def same_light(one: IsoNoise, other: IsoNoise) -> bool:
    """Whether the patches that both hold have as many electrons. The brighter half is asked: an error of black hides there."""
    gains = one.gain.value, other.gain.value
    if not gains[0] or not gains[1]:
        return False
    electrons = []
    for name, own in one.patches.items():
        there = other.patches.get(name)
        signals = own.signal_dn.value, there.signal_dn.value if there is not None else None
        if signals[0] and signals[1] and min(signals[0], signals[1]) > 0:
            electrons.append((signals[0] * gains[0], signals[1] * gains[1]))
    if not electrons:
        return False
    bright = sorted(electrons)[len(electrons) // 2 :]
    return abs(median(math.log2(a / b) for a, b in bright)) <= _SAME_LIGHT_STOPS


def _ratio(
    shot: ShadowNoise, shot_gain: Quantity, wanted: ShadowNoise, wanted_gain: Quantity
) -> tuple[float, float] | None:
    """log2 of the noise in electrons, and its error, in stops. Rounded noise is no measurement.

    The light is the same, so equal electrons are equal signal; the signals themselves would bring in any error of black.
    """
    value, square = 0.0, 0.0
    for sign, one, gain in ((1, shot, shot_gain), (-1, wanted, wanted_gain)):
        noise = one.noise_dn
        if not one.signal_dn.known or not noise.value or noise.low is None or noise.low <= 0 or not gain.value:
            return None
        value += sign * math.log2(noise.value * gain.value)
        square += (noise.se / noise.value) ** 2 + (gain.se / gain.value) ** 2
    return value, max(math.sqrt(square), 1e-6) / math.log(2)


def _model(shot: IsoNoise, wanted: IsoNoise, level: float) -> float:
    one, other = shot.read_noise_e.value or 0.0, wanted.read_noise_e.value or 0.0
    return 0.5 * math.log2((one**2 + level) / (other**2 + level))


@dataclass(frozen=True, slots=True)
class Invariance:
    """From which ISO on pushing costs less than allowed, and what it keeps of the highlights.

    ``from_iso``: the lowest of which it is certain, its interval from the lowest that it may be; None when no rung does or it
    cannot be told; ``undecided``: an interval straddles the bar there.
    ``worst``: the largest penalty from it. ``highlight_stops``: headroom kept against the highest ISO.
    """

    from_iso: Quantity
    undecided: bool
    worst: Quantity
    highlight_stops: Quantity


def invariant_from(
    rungs: Sequence[IsoNoise], found: Sequence[Penalty], allowed_stops: float = ALLOWED_STOPS
) -> Invariance:
    """The lowest ISO from which every higher rung costs less than ``allowed_stops``, interval included."""
    if len(rungs) < 2:
        few = missing(Missing.FEW_SETTINGS_WITH_MODEL)
        return Invariance(few, False, few, few)
    ordered = sorted(rungs, key=lambda rung: rung.iso)
    nothing = missing(Missing.EVERY_PUSH_COSTS)
    perhaps: int | None = None
    for shot in ordered[:-1]:
        own = [one for one in found if one.shot_iso == shot.iso and one.stops.value is not None]
        if len(own) < len([rung for rung in ordered if rung.iso > shot.iso]):
            nothing = missing(Missing.RUNG_WITHOUT_MODEL)
            continue
        worst = max(own, key=lambda one: one.stops.value or 0.0)
        if all((one.stops.high or one.stops.value or 0.0) < allowed_stops for one in own):
            iso = float(shot.iso)
            found_iso = Quantity(iso, float(perhaps or shot.iso), iso, len(own))
            return Invariance(found_iso, False, worst.stops, highlight_gained(shot, ordered[-1]))
        if perhaps is None and all((one.stops.low or one.stops.value or 0.0) < allowed_stops for one in own):
            perhaps = shot.iso
            nothing = missing(Missing.COST_UNDECIDED, shot.iso)
    return Invariance(nothing, perhaps is not None, unknown(nothing), unknown(nothing))


def highlight_gained(shot: IsoNoise, wanted: IsoNoise) -> Quantity:
    """Stops of highlights kept by shooting at the lower ISO."""
    one, other = shot.saturation_e, wanted.saturation_e
    if not one.value or not other.value:
        return unknown(one, other, otherwise=Missing.SATURATION_UNKNOWN)
    error = math.hypot(one.se / one.value, other.se / other.value) / math.log(2)
    return with_error(math.log2(one.value / other.value), error, min(one.n, other.n))
