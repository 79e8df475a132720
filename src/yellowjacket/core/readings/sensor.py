"""Readings of a rung as a whole: gain, read noise, range, headroom, and the habits of its raw."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

from yellowjacket.core.exposure.iso12232 import SHADOW_STOPS_UNDER_GREY
from yellowjacket.core.metrology.estimate import Quantity, missing, unknown, with_error
from yellowjacket.core.metrology.measurands import ALL, GREEN, Measurand, Reading
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.noise.smoothing import Cooked
from yellowjacket.core.noise.two_frame import PairNoise
from yellowjacket.core.photon_transfer.characterise import ChannelFindings, IsoFindings
from yellowjacket.core.photon_transfer.dynamic_range import SNR_LEVELS
from yellowjacket.core.photon_transfer.fit import snr_at
from yellowjacket.core.raw.codes import CodeUse
from yellowjacket.core.readings.output_size import Size, ranges_at_uses
from yellowjacket.core.readings.patch import Noise, PatchSpec, green_snr, known_noise, patch_of_role


def rung_readings(patches: Sequence[PatchSpec], noise: Noise, found: IsoFindings) -> list[Reading]:
    """Gain and read noise by channel and over all."""
    source = found.read_noise_source or "nothing"
    how = {
        Measurand.GAIN_E_PER_DN: f"fit of noise against signal over {found.patches} patches"
        + (" and the dark pair" if source == "darks" else ""),
        Measurand.READ_NOISE_DN: f"from {source}", Measurand.READ_NOISE_E: f"noise from {source} × gain",
    }  # fmt: skip
    readings = [
        Reading(None, channel, name, found.channels[channel].quantities[name], words)
        for channel in found.channels
        for name, words in how.items()
    ]
    if found.every is not None:
        joined = {
            Measurand.GAIN_E_PER_DN: "channels weighted by 1/SE²", Measurand.READ_NOISE_E: "root mean square of channels",
            Measurand.READ_NOISE_DN: "root mean square of channels",
        }  # fmt: skip
        readings += [Reading(None, ALL, name, found.every.quantities[name], words) for name, words in joined.items()]
    return readings


_MOVED = "moved to three stops under grey by the fit"


def shadow_readings(
    patches: Sequence[PatchSpec], noise: Noise, found: IsoFindings, seen: Sequence[Reading]
) -> list[Reading]:
    """SNR three stops under the grey patch: the shadow patch, moved that little way along the noise model. Of raw green
    pixels, and as developed at every size that was ``seen``."""
    grey, shadow = patch_of_role(patches, "grey"), patch_of_role(patches, "shadow")
    if grey is None or shadow is None:
        nothing = missing(Missing.NO_SHADOW_PATCH)
        return [Reading(None, channel, Measurand.SHADOW_SNR, nothing) for channel in (GREEN, ALL)]
    greens = [name for name in found.channels if name[0] in "GM"]
    raw = Reading(shadow.name, GREEN, Measurand.SNR, green_snr(shadow, noise, greens), "SNR")
    own = [one for one in seen if one.patch == shadow.name and one.quantity is Measurand.SNR]
    move = _move(grey, shadow, greens, noise, found)
    readings = []
    for one in (raw, *own):
        value = one.result
        if value.value is not None:
            value = move if move.value is None else value.scaled(move.value)
        how = f"patch “{shadow.name}”: {one.method}, {_MOVED}"
        readings.append(Reading(None, one.channel, Measurand.SHADOW_SNR, value, how, use=one.use))
    return readings


def gained_at_uses(patches: Sequence[PatchSpec], noise: Noise, seen: Sequence[Reading]) -> dict[str, Quantity]:
    """By use, how many times the SNR of a raw green pixel a developed one has there, on the shadow patch, else on the grey."""
    dark = patch_of_role(patches, "shadow") or patch_of_role(patches, "grey")
    if dark is None:
        return {}
    raw = green_snr(dark, noise, sorted({channel for _, channel in noise if channel[0] in "GM"}))
    if not raw.value:
        return {}
    own = (one for one in seen if one.patch == dark.name and one.quantity is Measurand.SNR)
    return {one.use: one.result.scaled(1 / raw.value) for one in own if one.result.value}


def _move(
    grey: PatchSpec, shadow: PatchSpec, greens: Sequence[str], noise: Noise, found: IsoFindings
) -> Quantity:  # fmt: skip
    """By how much the SNR of the shadow patch changes on its way to three stops under the grey."""
    factors = []
    for channel in greens:
        grey_noise, shadow_noise = known_noise(noise[grey.name, channel]), known_noise(noise[shadow.name, channel])
        gain, read = (
            found.channels[channel].quantities[name] for name in (Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_DN)
        )
        if grey_noise is None or shadow_noise is None:
            return missing(Missing.GREY_NOT_MEASURED)
        wanted = (grey_noise.signal.value or 0.0) / 2**SHADOW_STOPS_UNDER_GREY
        single = shadow_noise.noise.has(Remark.SINGLE_FRAME)
        known = (gain.value, read.value) if gain.value is not None and read.value is not None else None
        model = _by_two(grey_noise, shadow_noise) if single else known
        if model is None:
            return missing(Missing.NO_NOISE_MODEL, unknown(gain, read).reason)
        if wanted <= 0 or not shadow_noise.signal.value or shadow_noise.signal.value <= 0:
            return missing(Missing.SHADOW_DARK)
        factors.append(snr_at(wanted, *model) / snr_at(shadow_noise.signal.value, *model))
    return Quantity(sum(factors) / len(factors))


def _by_two(grey: PairNoise, shadow: PairNoise) -> tuple[float, float] | None:
    """Gain and read noise, DN, of the line through two patches: of single frames no more is known. None where it falls."""
    apart = (grey.signal.value or 0.0) - (shadow.signal.value or 0.0)
    more = grey.variance_dn2 - shadow.variance_dn2
    if apart <= 0 or more <= 0:
        return None
    floor = shadow.variance_dn2 - more / apart * (shadow.signal.value or 0.0)
    return apart / more, math.sqrt(max(floor, 0.0))


def habits(found: ChannelFindings, sizes: Sequence[Size], gained: Mapping[str, Quantity]) -> list[Reading]:
    """Clip point, saturation, range, spread of response, bands, and what neighbours and codes give away."""
    names = {
        Measurand.CLIP_DN: "top code of the light frames, or where their noise vanishes",
        Measurand.SATURATION_E: "clip point less black × gain",
        Measurand.PRNU: "covariance of the pair in small tiles",
    }
    readings = [Reading(None, ALL, name, found.quantities[name], how) for name, how in names.items()]
    readings += ranges_at_uses(found, sizes, gained)
    readings += [
        Reading(
            None, ALL, Measurand(f"range_snr{level}"), found.ranges[f"snr{level}"],
            f"from saturation down to SNR {level}, by the noise model, per pixel",
        )
        for level in SNR_LEVELS[1:]
    ]  # fmt: skip
    engineering = "from saturation down to the read noise"
    readings.append(Reading(None, ALL, Measurand.RANGE_ENGINEERING, found.ranges["engineering"], engineering))
    lines = "line means of the dark pair less what pixels explain"
    readings += [
        Reading(None, ALL, Measurand.ROW_NOISE_DN, found.banding.row_dn, lines),
        Reading(None, ALL, Measurand.COLUMN_NOISE_DN, found.banding.column_dn, lines),
        Reading(
            None, ALL, Measurand.NEIGHBOUR_CORRELATION, _smoothing(found.cooked), "of the noise of patches and darks"
        ),
    ]
    return readings + [
        Reading(None, ALL, name, value, "histograms of all frames") for name, value in _codes(found.code_use)
    ]


def headroom(found: IsoFindings, patches: Sequence[PatchSpec], noise: Noise) -> Reading:
    """Stops from the grey patch up to where the first channel clips."""
    grey = patch_of_role(patches, "grey")
    how = "clip point over the grey patch, the first channel to clip"
    parts = []
    for channel in found.channels if grey else ():
        outcome = known_noise(noise[grey.name, channel]) if grey else None
        top = found.channels[channel].quantities[Measurand.SATURATION_DN]
        if outcome is None or not top.value or not outcome.signal.value or min(top.value, outcome.signal.value) <= 0:
            return Reading(None, ALL, Measurand.HEADROOM_STOPS, missing(Missing.GREY_NOT_READ), how)
        relative = math.hypot(top.se / top.value, outcome.signal.se / outcome.signal.value) / math.log(2)
        parts.append(with_error(math.log2(top.value / outcome.signal.value), relative, outcome.n, *top.notes))
    if not parts:
        return Reading(None, ALL, Measurand.HEADROOM_STOPS, missing(Missing.GREY_PATCH_TO_DRAW), how)
    return Reading(None, ALL, Measurand.HEADROOM_STOPS, min(parts, key=lambda part: part.value or math.inf), how)


def _smoothing(cooked: Cooked) -> Quantity:
    """Correlation of neighbours; the remark SMOOTHED is the verdict."""
    return replace(cooked.lag1, notes=(Note(Remark.SMOOTHED),)) if cooked.flag else cooked.lag1


def _codes(use: CodeUse | None) -> list[tuple[Measurand, Quantity]]:
    if use is None:
        return []
    shares = {
        Measurand.CODES_EMPTY: use.empty,
        Measurand.CODES_EMPTY_LOW: use.empty_low,
        Measurand.CODES_EMPTY_HIGH: use.empty_high,
        Measurand.CODES_DOUBLED: use.doubled,
    }
    return [(name, Quantity(share, share, share, use.usable)) for name, share in shares.items()]
