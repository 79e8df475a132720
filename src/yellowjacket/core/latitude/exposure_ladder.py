"""An exposure ladder as readings: true steps, black error, casts under push, bands under push, where patches clip."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.colour.cast import cast_of
from yellowjacket.core.latitude.exposure_steps import RungLevels, StepFit, fit_steps
from yellowjacket.core.latitude.push_pull import PatchChannel, first_to_clip
from yellowjacket.core.metrology.estimate import Quantity, missing, unknown
from yellowjacket.core.metrology.measurands import ALL, Measurand, Reading
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.raw.frame import CHANNEL_NAMES, first_green

# What relating exposures reads: stored anew every time.
EXPOSED = (
    Measurand.STEP_STOPS,
    Measurand.BLACK_ERROR_DN,
    Measurand.LINEARITY,
    Measurand.CAST_DE00,
    Measurand.CAST_CORRECTED_DE00,
    Measurand.ROW_NOISE_SHARE,
    Measurand.CLIPS_AT_STOPS,
)
_STEP = "joint fit of steps and black to all unclipped patches"
# Above this share of the clip point spread of response and noise cut the first pixels.
_CLEAR_SHARE = 0.93
# Patches a cast is read from, by role.
_NEUTRAL = ("grey", "shadow")


@dataclass(frozen=True, slots=True)
class RungNoise:
    """Of a rung, by channel: gain, read noise (DN) and clip point over black (DN); spread of response; row noise (DN)."""

    gain: Mapping[str, Quantity] = field(default_factory=dict)
    read_noise_dn: Mapping[str, Quantity] = field(default_factory=dict)
    clip_dn: Quantity = field(default_factory=lambda: missing(Missing.NO_CLIP_POINT))
    prnu: float = 0.0
    row_noise_dn: Quantity = field(default_factory=lambda: missing(Missing.NO_DARK_PAIR))


@dataclass(frozen=True, slots=True)
class ExposureSignals:
    """A rung of an exposure ladder. ``signals``: above the black that was used, by patch and channel, DN.

    ``black_dn``: the black that was used; ``tag_dn``: the black the file says, by channel.
    """

    key: int
    nominal_stops: float
    signals: Mapping[str, Mapping[str, Quantity]]
    black_dn: Mapping[str, float]
    tag_dn: Mapping[str, float]
    noise: RungNoise


@dataclass(frozen=True, slots=True)
class MeasuredExposure:
    """A rung as it was measured: its place in nominal stops from the correct exposure, its readings, and the black its files
    say, by channel in DN."""

    key: int
    nominal_stops: float
    readings: Sequence[Reading]
    tag_dn: Mapping[str, float]


def signals_of(rungs: Sequence[MeasuredExposure], white_dn: float) -> list[ExposureSignals]:
    """What relating a ladder needs of its readings per pixel. ``white_dn``: where files say that it ends.

    A frame that clips shows where all of the ladder would; black is what was read, else what the file says.
    """
    whole: list[dict[tuple[Measurand, str], Quantity]] = []
    patches: list[dict[str, dict[str, Quantity]]] = []
    for rung in rungs:
        of: dict[tuple[Measurand, str], Quantity] = {}
        levels: dict[str, dict[str, Quantity]] = {}
        for one in rung.readings:
            if one.patch is None and not one.use:
                of[one.quantity, one.channel] = one.result
            elif one.patch is not None and one.quantity is Measurand.SIGNAL_DN:
                levels.setdefault(one.patch, {})[one.channel] = one.result
        whole.append(of)
        patches.append(levels)
    clips = [q for of in whole if (q := of.get((Measurand.CLIP_DN, ALL))) is not None and q.known]
    clip = clips[0] if clips else Quantity(white_dn, white_dn, white_dn, 0, (Note(Remark.FROM_TAG),))
    found = []
    for rung, of, levels in zip(rungs, whole, patches, strict=True):
        gain, read, black = (
            {channel: of[name, channel] for channel in CHANNEL_NAMES if (name, channel) in of}
            for name in (Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_DN, Measurand.BLACK_DN)
        )
        prnu, rows = of.get((Measurand.PRNU, ALL)), of.get((Measurand.ROW_NOISE_DN, ALL))
        noise = RungNoise(
            gain, read, clip, (prnu.value if prnu else None) or 0.0, rows or missing(Missing.NO_DARK_PAIR)
        )
        used = {**rung.tag_dn, **{channel: q.value for channel, q in black.items() if q.value is not None}}
        found.append(ExposureSignals(rung.key, rung.nominal_stops, levels, used, rung.tag_dn or used, noise))
    return found


def relate_exposures(
    rungs: Sequence[ExposureSignals], reference_key: int, roles: Mapping[str, str],
    xyz_to_camera: NDArray[np.float64] | None,
) -> dict[int, tuple[Reading, ...]]:  # fmt: skip
    """Readings by rung key. ``roles``: of the patches by name. Raises KeyError for an unknown reference.

    ``xyz_to_camera``: shape (3, 3).
    """
    rungs = [_below_clip(rung) for rung in rungs]
    by_key = {rung.key: rung for rung in rungs}
    reference = by_key[reference_key]
    levels = [RungLevels(rung.key, rung.nominal_stops, _with_black(rung)) for rung in rungs]
    fit = fit_steps(levels, reference_key, reference.tag_dn)
    found: dict[int, list[Reading]] = {}
    for rung in rungs:
        found[rung.key] = [
            Reading(None, ALL, Measurand.STEP_STOPS, fit.steps[rung.key], f"{_STEP}, {fit.patches} of them"),
            Reading(None, ALL, Measurand.LINEARITY, fit.linearity[rung.key], "bright patches against the fitted line"),
            Reading(
                None, ALL, Measurand.ROW_NOISE_SHARE, _bands(rung, roles), "row noise of the darks over the grey patch"
            ),
            *_casts(rung, reference, roles, fit, xyz_to_camera),
        ]
    found[reference_key] += [
        Reading(None, channel, Measurand.BLACK_ERROR_DN, fit.black_dn[channel].moved(-reference.tag_dn[channel]),
                f"{_STEP}, less the black the file says")
        for channel in fit.black_dn
    ]  # fmt: skip
    found[reference_key] += _clipping(rungs, fit)
    return {key: tuple(readings) for key, readings in found.items()}


def _below_clip(rung: ExposureSignals) -> ExposureSignals:
    """Without what stands so near the clip point that some of its pixels are cut: a well may fill below the top code."""
    clip = rung.noise.clip_dn
    if clip.value is None:
        return rung
    signals = {
        name: {
            channel: missing(Missing.CLIPPED)
            if quantity.value is not None
            and quantity.value > _CLEAR_SHARE * (clip.value - rung.black_dn.get(channel, 0.0))
            else quantity
            for channel, quantity in channels.items()
        }
        for name, channels in rung.signals.items()
    }
    return replace(rung, signals=signals)


def _with_black(rung: ExposureSignals) -> dict[str, dict[str, Quantity]]:
    """Levels as the file has them, black included."""
    return {
        name: {channel: quantity.moved(rung.black_dn.get(channel, 0.0)) for channel, quantity in channels.items()}
        for name, channels in rung.signals.items()
    }


def _bands(rung: ExposureSignals, roles: Mapping[str, str]) -> Quantity:
    """Row noise as a share of the grey patch: a push makes both larger by as much."""
    grey = next((name for name, role in roles.items() if role == "grey"), "")
    signal = first_green(rung.signals.get(grey, {})) or missing(Missing.NO_GREY_PATCH)
    rows = rung.noise.row_noise_dn
    if rows.value is None or not signal.value or signal.value <= 0:
        return unknown(rows, signal, otherwise=Missing.GREY_DARK)
    return rows.scaled(1 / signal.value)


def _casts(
    rung: ExposureSignals, reference: ExposureSignals, roles: Mapping[str, str], fit: StepFit,
    xyz_to_camera: NDArray[np.float64] | None,
) -> Iterator[Reading]:  # fmt: skip
    """Cast of the neutral patches as developed with the file's black, and with the fitted one."""
    levels, base = _with_black(rung), _with_black(reference)
    fitted = {channel: black.value for channel, black in fit.black_dn.items()}
    for name, role in roles.items():
        if role not in _NEUTRAL:
            continue
        blacks: dict[Measurand, Mapping[str, float | None]] = {
            Measurand.CAST_DE00: rung.tag_dn,
            Measurand.CAST_CORRECTED_DE00: fitted,
        }
        for quantity, black in blacks.items():
            if "M" in base.get(name, {}):
                cast, word = missing(Missing.NO_COLOUR_FILTERS), ""
            elif rung.key == reference.key:
                cast, word = Quantity(0.0, 0.0, 0.0, 0, (Note(Remark.REFERENCE_RUNG),)), ""
            elif None in black.values():
                cast, word = unknown(*fit.black_dn.values()), ""
            else:
                parts = [
                    {c: q.moved(-(black.get(c) or 0.0)) for c, q in side.get(name, {}).items()}
                    for side in (levels, base)
                ]
                cast, word = cast_of(parts[0], parts[1], xyz_to_camera)
            black_used = "fitted black" if quantity is Measurand.CAST_CORRECTED_DE00 else "black as the file says"
            how = f"{black_used}, brought to equal brightness"
            if word:
                cast = replace(cast, notes=(*cast.notes, Note(Remark.TOWARDS, (word,))))
            yield Reading(name, ALL, quantity, cast, how)


def _clipping(rungs: Sequence[ExposureSignals], fit: StepFit) -> Iterator[Reading]:
    """For every patch the stop at which its first channel clips, told from its brightest whole rung."""
    by_light = sorted(
        (rung for rung in rungs if fit.steps[rung.key].value is not None),
        key=lambda rung: -(fit.steps[rung.key].value or 0),
    )
    names = dict.fromkeys(name for rung in rungs for name in rung.signals)
    for name in names:
        parts = {}
        for channel in CHANNEL_NAMES:
            part = next((p for rung in by_light if (p := _whole(rung, name, channel, fit)) is not None), None)
            if part is not None:
                parts[channel] = part
        stops, first = first_to_clip(parts) if parts else (missing(Missing.CLIPS_EVERYWHERE), "")
        yield Reading(
            name, first or ALL, Measurand.CLIPS_AT_STOPS, stops, "0.1 % of its pixels clip, by the noise model"
        )


def _whole(rung: ExposureSignals, name: str, channel: str, fit: StepFit) -> PatchChannel | None:
    """A patch in a channel where it does not clip, or None."""
    signal = rung.signals.get(name, {}).get(channel)
    noise = rung.noise
    gain, read = noise.gain.get(channel), noise.read_noise_dn.get(channel)
    if signal is None or not signal.value or signal.value <= 0 or gain is None or not gain.value:
        return None
    clip = noise.clip_dn.moved(-rung.black_dn.get(channel, 0.0))
    return PatchChannel(
        fit.steps[rung.key], signal, clip, gain, (read.value if read is not None else None) or 0.0, noise.prnu
    )
