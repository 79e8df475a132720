"""Readings of single patches: signal, temporal noise, SNR, clipping."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from yellowjacket.core.metrology.estimate import Quantity, first_notes, missing, with_error, with_relative_error
from yellowjacket.core.metrology.measurands import GREEN, Measurand, Reading
from yellowjacket.core.metrology.notes import Missing, Note
from yellowjacket.core.noise.of_area import area_clipped, area_noise
from yellowjacket.core.noise.two_frame import PairNoise, unmeasured
from yellowjacket.core.raw.clipping import clipped_share
from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.raw.rect import Rect

# Roles whose areas are uniform and join the noise fit: they make the rung's own readings. The others stand alone.
UNIFORM = ("grey", "shadow", "black", "highlight", "field")
# Areas of which only signal and noise are kept: there are many of them.
_QUIET = ("field", "colour", "wedge")
_CLEAR_SIGMAS, _CLEAR_SHARE = 5.0, 0.01

_OF_A_PAIR = "mean of two frames less black", "two-frame variance, plane removed", "signal ÷ noise"
_OF_ONE = "mean of the frame less black", "differences of neighbours in one frame", "signal ÷ noise"
# Noise by (patch, channel), or the sentence that says why there is none.
Noise = Mapping[tuple[str, str], PairNoise | Note]


@dataclass(frozen=True, slots=True)
class PatchSpec:
    """A patch to measure: its name, role and place. ``step_stops``: density step, of a wedge's patches.

    Roles: grey, shadow, black, highlight; field (uniform areas for the noise fit), colour, wedge; texture, colour_texture; other.
    """

    name: str
    role: str
    rect: Rect
    step_stops: float = 1.0


def _patch_noise(light: Sequence[RawFrame], patch: PatchSpec, channel: str, black_dn: float) -> PairNoise | Note:
    """Noise of a patch, of one frame alone an upper bound that says so, or why there is none."""
    width, height = light[0].size
    if not patch.rect.fits(width, height):
        return Note(Missing.PATCH_OUTSIDE_FRAME, (patch.name, width, height))
    return area_noise(light, patch.rect, channel, black_dn)


def noise_of(
    light: Sequence[RawFrame], patches: Sequence[PatchSpec], black_dn: Mapping[str, float]
) -> dict[tuple[str, str], PairNoise | Note]:
    """Pair noise of every patch and channel, black taken off, or why there is none."""
    return {
        (patch.name, channel): _patch_noise(light, patch, channel, black_dn[channel])
        for patch in patches
        for channel in light[0].channels
    }


def without_full(
    noise: Noise, black_dn: Mapping[str, float], clip_dn: Mapping[str, float]
) -> dict[tuple[str, str], PairNoise | Note]:
    """The same with patches called clipped that stand within five σ of where their channel was seen to stop.

    Wells may be full below the top code: signal and noise of such a patch are those of the wells.
    """
    found: dict[tuple[str, str], PairNoise | Note] = {}
    for key, outcome in noise.items():
        full = False
        if isinstance(outcome, PairNoise) and outcome.signal.value is not None and outcome.noise.value is not None:
            # In a full well the noise is gone: a share of the range stands for it.
            room = max(_CLEAR_SIGMAS * outcome.noise.value, _CLEAR_SHARE * (clip_dn[key[1]] - black_dn[key[1]]))
            full = outcome.signal.value + black_dn[key[1]] + room >= clip_dn[key[1]]
        found[key] = (
            unmeasured(Note(Missing.CLIPPED), outcome.n) if full and isinstance(outcome, PairNoise) else outcome
        )
    return found


def patch_readings(
    light: Sequence[RawFrame],
    patch: PatchSpec,
    noise: Noise,
    black_dn: Mapping[str, float],
    clip_dn: Mapping[str, float],
) -> list[Reading]:
    """Signal, noise, SNR and clipping of one patch by channel. ``clip_dn``: where the channels stop, black included."""
    readings = []
    for channel in light[0].channels:
        outcome = noise[patch.name, channel]
        if isinstance(outcome, Note):
            signal = _single_signal(light[0], patch, channel, black_dn[channel])
            nothing = Quantity(None, notes=(outcome,))
            found = (signal, nothing, nothing)
            excluded = 0
        else:
            found = (outcome.signal, outcome.noise, outcome.snr)
            excluded = outcome.excluded
        method = _OF_A_PAIR if len(light) > 1 else _OF_ONE
        for name, quantity, how in zip(
            (Measurand.SIGNAL_DN, Measurand.NOISE_DN, Measurand.SNR), found, method, strict=True
        ):
            if patch.role not in _QUIET or name != Measurand.SNR:
                readings.append(Reading(patch.name, channel, name, quantity, how, excluded))
        if patch.role not in _QUIET:
            readings.append(_clipped_reading(light, patch, channel, black_dn[channel], clip_dn[channel]))
    # A layout with one green has read it already.
    if patch.role not in _QUIET and GREEN not in light[0].channels:
        readings.append(
            Reading(
                patch.name, GREEN, Measurand.SNR, green_snr(patch, noise, light[0].layout.greens), "mean of both greens"
            )
        )
    return readings


def _clipped_reading(
    light: Sequence[RawFrame], patch: PatchSpec, channel: str, black_dn: float, clip_dn: float
) -> Reading:
    width, height = light[0].size
    if not patch.rect.fits(width, height):
        return Reading(patch.name, channel, Measurand.CLIPPED_SHARE, missing(Missing.PATCH_OUTSIDE))
    share = area_clipped(light[:2], patch.rect, channel, black_dn, clip_dn)
    return Reading(patch.name, channel, Measurand.CLIPPED_SHARE, share, "pixels above 99 % of where the channel stops")


def _single_signal(frame: RawFrame, patch: PatchSpec, channel: str, black_dn: float) -> Quantity:
    """Mean of one frame: good enough for exposure, its scatter an upper bound of the noise."""
    width, height = frame.size
    if not patch.rect.fits(width, height):
        return missing(Missing.PATCH_OUTSIDE)
    parts = patch.rect.parts(frame, channel)
    part = parts[0] if len(parts) == 1 else np.stack(parts)
    if clipped_share(part, black_dn, frame.white_dn) > 0:
        return missing(Missing.CLIPPED)
    return with_error(
        float(part.mean(dtype=np.float64)) - black_dn,
        float(part.std(dtype=np.float64)) / math.sqrt(part.size),
        part.size,
    )


def green_snr(patch: PatchSpec, noise: Noise, greens: Sequence[str]) -> Quantity:
    """SNR of the channels that carry luminance, both greens where there are two: their mean, errors independent."""
    parts = []
    for channel in greens:
        outcome = noise[patch.name, channel]
        if isinstance(outcome, Note):
            return Quantity(None, notes=(outcome,))
        if not outcome.snr.known:
            return outcome.snr
        parts.append(outcome.snr)
    value = sum(part.value or 0.0 for part in parts) / len(parts)
    relative = math.hypot(*(part.se for part in parts)) / len(parts) / value
    return with_relative_error(value, relative, sum(part.n for part in parts), *first_notes(parts))


def known_noise(outcome: PairNoise | Note) -> PairNoise | None:
    """The noise of a patch where it could be measured."""
    return outcome if isinstance(outcome, PairNoise) and outcome.noise.known else None


def patch_of_role(patches: Sequence[PatchSpec], role: str) -> PatchSpec | None:
    """The first patch of a role, or None."""
    return next((patch for patch in patches if patch.role == role), None)
