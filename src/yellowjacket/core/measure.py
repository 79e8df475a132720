"""From the files of a rung to readings: a pure function of (files, patches), run in worker processes."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from yellowjacket.core.at_use import (
    Size,
    UseSize,
    appearances,
    detail_of,
    detail_readings,
    ranges_at_uses,
    ratios_at_uses,
    rendering_of,
    sizes_of,
)
from yellowjacket.core.characterise import ChannelFindings, IsoFindings, characterise_frames
from yellowjacket.core.codes import CodeUse
from yellowjacket.core.cooked import Cooked, LagSums, pooled
from yellowjacket.core.frames import CHANNELS, FrameError, RawFrame, read_frame
from yellowjacket.core.noise import PairNoise, clipped_share, joint_noise, pair_noise
from yellowjacket.core.patches import SHADOW_STOPS_UNDER_GREY, Rect
from yellowjacket.core.quantity import Z95, Quantity, missing, rms, weighted, with_error, with_relative_error
from yellowjacket.core.readings import ALL, GREEN, SMOOTHED, Reading
from yellowjacket.core.transfer import TransferFit, TransferPoint, fit_transfer, snr_at
from yellowjacket.core.wedge import wedge_range

# Roles whose areas are uniform and join the noise fit; those shown in the developed picture; textures.
_UNIFORM = ("grey", "shadow", "black", "field")
_SEEN = ("grey", "shadow", "other")
_TEXTURES = ("texture", "colour_texture")
# Areas of which only signal and noise are kept: there are many of them.
_QUIET = ("field", "colour", "wedge")
# Quantities that averaging to a use's size improves.
_AVERAGED = ("snr", "shadow_snr")
# Darks are read in a central window of at most this side: 260 000 pixels a channel give σ to 0.14 %.
_DARK_WINDOW_PX = 1024
NO_PAIR = "one frame only: shoot a second frame of this rung, or import it, to measure noise"
# Code of the problem that a rung has one frame only.
SINGLE = "single"
NO_LIGHT = "no frame of this rung yet"


@dataclass(frozen=True, slots=True)
class PatchSpec:
    """A patch to measure: its name, role and place. ``step_stops``: density step, of a wedge's patches.

    Roles: grey, shadow, black; field (uniform areas for the noise fit), colour, wedge; texture, colour_texture; other.
    """

    name: str
    role: str
    rect: Rect
    step_stops: float = 1.0


@dataclass(frozen=True, slots=True)
class RungTask:
    """Everything a worker needs: file paths and patches. ``key`` comes back with the result.

    ``uses``: sizes to read at. ``picture``: width and height of the body's full picture, of which the frames may be a
    window; the frames' own when None. ``threads``: files decoded at once, no input of the result.
    """

    key: int
    light: tuple[str, ...]
    dark: tuple[str, ...]
    patches: tuple[PatchSpec, ...]
    uses: tuple[UseSize, ...] = ()
    picture: tuple[int, int] | None = None
    threads: int = 1


@dataclass(frozen=True, slots=True)
class RungResult:
    """Readings of one rung and the files that failed on the way."""

    key: int
    readings: tuple[Reading, ...]
    problems: tuple[FrameError, ...] = ()


def measure_rung(task: RungTask) -> RungResult:
    """Measure one rung from its files. Bad files become problems, missing pairs become reasons."""
    problems: list[FrameError] = []
    light = _read_all(task.light, problems, task.threads)
    dark = _read_all(task.dark, problems, task.threads)
    if not light:
        return RungResult(task.key, (Reading(None, ALL, "snr", missing(NO_LIGHT)),), tuple(problems))
    if len(light) == 1:
        problems.append(_single(Path(task.light[0])))
    return RungResult(task.key, measure_frames(light, dark, task), tuple(problems))


def measure_frames(light: Sequence[RawFrame], dark: Sequence[RawFrame], task: RungTask) -> tuple[Reading, ...]:
    """The same from frames that are read already: one or more light frames, none or more darks, all of one size."""
    black, black_source = _black_levels(light[0], dark)
    readings = [Reading(None, channel, "black_dn", black[channel], f"mean of {black_source}") for channel in CHANNELS]
    noise = {
        (patch.name, channel): _patch_noise(light, patch, channel, black[channel])
        for patch in task.patches
        for channel in CHANNELS
    }
    for patch in task.patches:
        readings += _patch_readings(light, patch, noise, black)
    width, height = task.picture or light[0].size
    sizes = sizes_of(width * height, task.uses)
    found = _characterised(light, dark, task.patches, noise)
    smoothed = _lags(noise) if found is not None and found.every is not None and found.every.cooked.flag else None
    readings += _rung_readings(task.patches, noise, light[0], dark, black)
    readings = [
        sized
        for one in readings
        for sized in (
            ratios_at_uses(one, sizes, smoothed) if one.quantity in _AVERAGED and one.channel == GREEN else (one,)
        )
    ]
    if found is not None and found.every is not None:
        readings += _habits(found.every, sizes)
        readings.append(_headroom(found, task.patches, noise))
    readings += _scene_readings(light, task.patches, noise, black, found, sizes, height)
    return tuple(readings)


def _read(name: str) -> RawFrame | FrameError:
    try:
        return read_frame(Path(name))
    except FrameError as error:
        return error


def _read_all(paths: Sequence[str], problems: list[FrameError], threads: int) -> list[RawFrame]:
    """The frames that could be read and share the first one's size."""
    frames: list[RawFrame] = []
    # LibRaw decodes without holding the interpreter, so two threads take half the time of one.
    with ThreadPoolExecutor(threads) as pool:
        read = list(pool.map(_read, paths)) if threads > 1 else map(_read, paths)
    for name, frame in zip(paths, read, strict=True):
        if isinstance(frame, FrameError):
            problems.append(frame)
            continue
        if frames and frame.mosaic.shape != frames[0].mosaic.shape:
            problems.append(
                FrameError(Path(name), "size", "differs in size from its pair.", "Shoot the rung again in one mode.")
            )
            continue
        frames.append(frame)
    return frames


def _single(path: Path) -> FrameError:
    return FrameError(
        path, SINGLE, "is the only usable frame of its rung, and noise needs a pair.",
        "Shoot a second frame of this rung, or import it.",
    )  # fmt: skip


def _dark_window(frame: RawFrame) -> Rect:
    height, width = frame.mosaic.shape
    w, h = (min(side, _DARK_WINDOW_PX) // 2 * 2 for side in (width, height))
    return Rect((width - w) // 4 * 2, (height - h) // 4 * 2, w, h)


def _black_levels(light: RawFrame, dark: Sequence[RawFrame]) -> tuple[dict[str, Quantity], str]:
    """Black by channel from the darks of this ISO, else what the file says."""
    usable = [frame for frame in dark if frame.mosaic.shape == light.mosaic.shape]
    if not usable:
        return {c: Quantity(light.black_dn[c], reason="from the file's tag, no darks") for c in CHANNELS}, "the tag"
    levels = {}
    for channel in CHANNELS:
        patches = [_dark_window(frame).of_plane(frame.plane(channel)) for frame in usable]
        means = [float(patch.mean(dtype=np.float64)) for patch in patches]
        spread = float(np.std(patches[0], dtype=np.float64)) / math.sqrt(sum(p.size for p in patches))
        levels[channel] = with_error(sum(means) / len(means), spread, sum(p.size for p in patches))
    return levels, f"{len(usable)} dark frame{'s' if len(usable) > 1 else ''}"


def _patch_noise(light: Sequence[RawFrame], patch: PatchSpec, channel: str, black: Quantity) -> PairNoise | str:
    """Pair noise of a patch, or the sentence that says why not."""
    height, width = light[0].mosaic.shape
    if not patch.rect.fits(width, height):
        return f"patch “{patch.name}” lies outside this frame of {width} × {height} px: move it"
    if len(light) < 2:
        return NO_PAIR
    first, second = (patch.rect.of_plane(frame.plane(channel)) for frame in light[:2])
    assert black.value is not None  # noqa: S101 - black always has a value, from darks or the tag
    return pair_noise(first, second, black.value, clip_dn=light[0].white_dn)


def _patch_readings(
    light: Sequence[RawFrame], patch: PatchSpec, noise: Mapping[tuple[str, str], PairNoise | str],
    black: Mapping[str, Quantity],
) -> list[Reading]:  # fmt: skip
    readings = []
    for channel in CHANNELS:
        outcome = noise[patch.name, channel]
        if isinstance(outcome, str):
            signal = _single_signal(light[0], patch, channel, black[channel])
            found = (signal, missing(outcome), missing(outcome))
            excluded = 0
        else:
            found = (outcome.signal, outcome.noise, outcome.snr)
            excluded = outcome.excluded
        method = "mean of two frames less black", "two-frame variance, plane removed", "signal ÷ noise"
        for name, quantity, how in zip(("signal_dn", "noise_dn", "snr"), found, method, strict=True):
            if patch.role not in _QUIET or name != "snr":
                readings.append(Reading(patch.name, channel, name, quantity, how, excluded))
        if patch.role not in _QUIET:
            readings.append(_clipped_reading(light, patch, channel, black[channel]))
    if patch.role not in _QUIET:
        readings.append(Reading(patch.name, GREEN, "snr", _green_snr(patch, noise), "mean of both greens"))
    return readings


def _clipped_reading(light: Sequence[RawFrame], patch: PatchSpec, channel: str, black: Quantity) -> Reading:
    height, width = light[0].mosaic.shape
    if not patch.rect.fits(width, height) or black.value is None:
        return Reading(patch.name, channel, "clipped_share", missing("the patch lies outside this frame: move it"))
    parts = [patch.rect.of_plane(frame.plane(channel)) for frame in light[:2]]
    shares = [clipped_share(part, black.value, frame.white_dn) for part, frame in zip(parts, light, strict=False)]
    share, n = sum(shares) / len(shares), sum(part.size for part in parts)
    return Reading(patch.name, channel, "clipped_share", _share(share, n), "pixels above 99 % of the tagged white")


def _share(share: float, n: int) -> Quantity:
    """A proportion with its Wilson 95 % interval."""
    centre = (share + Z95**2 / (2 * n)) / (1 + Z95**2 / n)
    half = Z95 / (1 + Z95**2 / n) * math.sqrt(share * (1 - share) / n + Z95**2 / (4 * n**2))
    return Quantity(share, max(0.0, min(share, centre - half)), min(1.0, max(share, centre + half)), n)


def _single_signal(frame: RawFrame, patch: PatchSpec, channel: str, black: Quantity) -> Quantity:
    """Mean of one frame: good enough for exposure, its scatter an upper bound of the noise."""
    height, width = frame.mosaic.shape
    if not patch.rect.fits(width, height) or black.value is None:
        return missing("the patch lies outside this frame: move it")
    part = patch.rect.of_plane(frame.plane(channel))
    if clipped_share(part, black.value, frame.white_dn) > 0:
        return missing("clipped")
    return with_error(
        float(part.mean(dtype=np.float64)) - black.value,
        float(part.std(dtype=np.float64)) / math.sqrt(part.size),
        part.size,
    )


def _green_snr(patch: PatchSpec, noise: Mapping[tuple[str, str], PairNoise | str]) -> Quantity:
    """SNR of the two greens, the channels that carry luminance: mean of both, their errors independent."""
    parts = []
    for channel in ("G1", "G2"):
        outcome = noise[patch.name, channel]
        if isinstance(outcome, str):
            return missing(outcome)
        if not outcome.snr.known:
            return outcome.snr
        parts.append(outcome.snr)
    value = (parts[0].value + parts[1].value) / 2  # type: ignore[operator]
    relative = math.hypot(parts[0].se, parts[1].se) / 2 / value
    return with_relative_error(value, relative, parts[0].n + parts[1].n, parts[0].reason or parts[1].reason)


def _rung_readings(
    patches: Sequence[PatchSpec], noise: Mapping[tuple[str, str], PairNoise | str], frame: RawFrame,
    dark: Sequence[RawFrame], black: Mapping[str, Quantity],
) -> list[Reading]:  # fmt: skip
    readings: list[Reading] = []
    fits = {}
    for channel in CHANNELS:
        points = [
            _point(outcome)
            for patch in patches
            if patch.role in _UNIFORM and (outcome := _usable(noise[patch.name, channel])) is not None
        ]
        dark_point = _dark_point(dark, channel, black[channel])
        saturation = frame.white_dn - (black[channel].value or 0.0)
        fit = fit_transfer(points, dark_point, saturation)
        fits[channel] = fit
        how = f"fit of noise against signal over {fit.points} patches" + (" and the dark pair" if dark_point else "")
        readings += [
            Reading(None, channel, "gain_e_per_dn", fit.gain_e_per_dn, how),
            Reading(None, channel, "read_noise_dn", fit.read_noise_dn, f"from {fit.read_noise_source or 'nothing'}"),
            Reading(
                None,
                channel,
                "read_noise_e",
                fit.read_noise_e,
                f"noise from {fit.read_noise_source or 'nothing'} × gain",
            ),
        ]
    readings += [
        Reading(
            None,
            ALL,
            "gain_e_per_dn",
            weighted([fits[c].gain_e_per_dn for c in CHANNELS]),
            "channels weighted by 1/SE²",
        ),
        Reading(
            None, ALL, "read_noise_e", rms([fits[c].read_noise_e for c in CHANNELS]), "root mean square of channels"
        ),
        Reading(
            None, ALL, "read_noise_dn", rms([fits[c].read_noise_dn for c in CHANNELS]), "root mean square of channels"
        ),
        Reading(None, GREEN, "shadow_snr", _shadow_snr(patches, noise, fits), _shadow_method(patches)),
    ]
    return readings


def _usable(outcome: PairNoise | str) -> PairNoise | None:
    return outcome if isinstance(outcome, PairNoise) and outcome.noise.known else None


def _point(outcome: PairNoise) -> TransferPoint:
    return TransferPoint(outcome.signal.value or 0.0, outcome.variance_dn2, outcome.variance_se_dn2, outcome.n)


def _dark_point(dark: Sequence[RawFrame], channel: str, black: Quantity) -> TransferPoint | None:
    if len(dark) < 2 or black.value is None:
        return None
    window = _dark_window(dark[0])
    first, second = (window.of_plane(frame.plane(channel)) for frame in dark[:2])
    outcome = pair_noise(first, second, black.value, dark=True)
    if not outcome.noise.known:
        return None
    return TransferPoint(0.0, outcome.variance_dn2, outcome.variance_se_dn2, outcome.n)


def _characterised(
    light: Sequence[RawFrame], dark: Sequence[RawFrame], patches: Sequence[PatchSpec],
    noise: Mapping[tuple[str, str], PairNoise | str],
) -> IsoFindings | None:  # fmt: skip
    """What the first pair says as a whole: it stands for the rung in every other reading too."""
    areas = [
        (patch.rect, {c: known for c in CHANNELS if (known := _usable(noise[patch.name, c])) is not None})
        for patch in patches
        if patch.role in _UNIFORM
    ]
    return characterise_frames(light[:2], dark[:2], areas)


def _lags(noise: Mapping[tuple[str, str], PairNoise | str]) -> LagSums | None:
    return pooled(one.lags for one in noise.values() if isinstance(one, PairNoise) and one.lags is not None)


def _habits(found: ChannelFindings, sizes: Sequence[Size]) -> list[Reading]:
    """Clip point, saturation, range, spread of response, bands, and what neighbours and codes give away."""
    names = {
        "clip_dn": "top code of the light frames, or where their noise vanishes", "saturation_e": "clip point less black × gain",
        "prnu": "covariance of the pair in small tiles",
    }  # fmt: skip
    readings = [Reading(None, ALL, name, found.quantities[name], how) for name, how in names.items()]
    readings += ranges_at_uses(found, sizes)
    engineering = "from saturation down to the read noise"
    readings.append(Reading(None, ALL, "range_engineering", found.ranges["engineering"], engineering))
    lines = "line means of the dark pair less what pixels explain"
    readings += [
        Reading(None, ALL, "row_noise_dn", found.banding.row_dn, lines),
        Reading(None, ALL, "column_noise_dn", found.banding.column_dn, lines),
        Reading(None, ALL, "neighbour_correlation", _smoothing(found.cooked), "of the noise of patches and darks"),
    ]
    return readings + [
        Reading(None, ALL, name, value, "histograms of all frames") for name, value in _codes(found.code_use)
    ]


def _headroom(
    found: IsoFindings, patches: Sequence[PatchSpec], noise: Mapping[tuple[str, str], PairNoise | str]
) -> Reading:
    """Stops from the grey patch up to where the first channel clips."""
    grey = _named(patches, "grey")
    how = "clip point over the grey patch, the first channel to clip"
    parts = []
    for channel in CHANNELS if grey else ():
        outcome = _usable(noise[grey.name, channel]) if grey else None
        top = found.channels[channel].quantities["saturation_dn"]
        if outcome is None or not top.value or not outcome.signal.value or min(top.value, outcome.signal.value) <= 0:
            return Reading(None, ALL, "headroom_stops", missing("the grey patch could not be read on this rung"), how)
        relative = math.hypot(top.se / top.value, outcome.signal.se / outcome.signal.value) / math.log(2)
        parts.append(with_error(math.log2(top.value / outcome.signal.value), relative, outcome.n, top.reason))
    if not parts:
        return Reading(None, ALL, "headroom_stops", missing("no grey patch: draw one"), how)
    return Reading(None, ALL, "headroom_stops", min(parts, key=lambda part: part.value or math.inf), how)


def _scene_readings(
    light: Sequence[RawFrame], patches: Sequence[PatchSpec], noise: Mapping[tuple[str, str], PairNoise | str],
    black: Mapping[str, Quantity], found: IsoFindings | None, sizes: Sequence[Size], height: int,
) -> list[Reading]:  # fmt: skip
    """What needs the scene: noise as it looks, detail of textures, the wedge."""
    levels = {channel: black[channel].value or 0.0 for channel in CHANNELS}
    readings: list[Reading] = []
    grey = _named(patches, "grey")
    signals = {}
    if grey is not None:
        outcomes = {channel: _usable(noise[grey.name, channel]) for channel in CHANNELS}
        signals = {channel: one.signal.value or 0.0 for channel, one in outcomes.items() if one is not None}
    how = rendering_of(light[0], levels, signals)
    spread = found.every.quantities["prnu"].value if found is not None and found.every is not None else None
    for patch in patches:
        reason = next((one for channel in CHANNELS if (one := _why_not(noise[patch.name, channel]))), "")
        if patch.role in _SEEN:
            readings += appearances(light, patch.name, patch.rect, how, sizes, reason)
        elif patch.role in _TEXTURES:
            coloured = patch.role == "colour_texture"
            cycles, words = missing(reason), "coherence of two frames"
            if not reason:
                cycles, words = detail_of(light, patch.rect, levels, spread or 0.0, coloured=coloured)
            readings += detail_readings(patch.name, cycles, words, sizes, height, coloured=coloured)
    return readings + _wedge(patches, noise, found)


def _why_not(outcome: PairNoise | str) -> str:
    """Why a patch has no noise in a channel, empty when it has."""
    if isinstance(outcome, str):
        return outcome
    return "" if outcome.noise.known else outcome.noise.reason


def _wedge(
    patches: Sequence[PatchSpec], noise: Mapping[tuple[str, str], PairNoise | str], found: IsoFindings | None
) -> list[Reading]:
    """Range as the wedge of the scene shows it, beside that of the noise model."""
    steps = [patch for patch in patches if patch.role == "wedge"]
    if not steps:
        return []
    outcomes = [[noise[step.name, channel] for channel in ("G1", "G2")] for step in steps]
    if any(isinstance(one, str) for pair in outcomes for one in pair):
        return []
    read = [joint_noise([one for one in pair if isinstance(one, PairNoise)]) for pair in outcomes]
    seen = wedge_range(read, steps[0].step_stops)
    how = f"{len(steps)} steps of the wedge, green"
    saturation = found.channels["G1"].quantities["saturation_dn"].value if found is not None else None
    first = next((one.signal.value for one in read if one.signal.value), None)
    if saturation and first and first > 0:
        how += f"; its lightest measured step lies {math.log2(saturation / first):.1f} stops under saturation"
    return [
        Reading(None, GREEN, "wedge_snr1", seen.at_snr[1.0], how), Reading(None, GREEN, "wedge_snr4", seen.at_snr[4.0], how),
        Reading(None, GREEN, "wedge_told_apart", seen.told_apart, how), Reading(None, GREEN, "wedge_floor", seen.floor, how),
    ]  # fmt: skip


def _smoothing(cooked: Cooked) -> Quantity:
    """Correlation of neighbours; the remark SMOOTHED is the verdict."""
    return replace(cooked.lag1, reason=SMOOTHED) if cooked.flag else cooked.lag1


def _codes(use: CodeUse | None) -> list[tuple[str, Quantity]]:
    if use is None:
        return []
    shares = {
        "codes_empty": use.empty,
        "codes_empty_low": use.empty_low,
        "codes_empty_high": use.empty_high,
        "codes_doubled": use.doubled,
    }
    return [(name, Quantity(share, share, share, use.usable)) for name, share in shares.items()]


def _named(patches: Sequence[PatchSpec], role: str) -> PatchSpec | None:
    return next((patch for patch in patches if patch.role == role), None)


def _shadow_method(patches: Sequence[PatchSpec]) -> str:
    shadow = _named(patches, "shadow")
    return f"SNR of patch “{shadow.name}”, moved to three stops under grey by the fit" if shadow else ""


def _shadow_snr(
    patches: Sequence[PatchSpec], noise: Mapping[tuple[str, str], PairNoise | str], fits: Mapping[str, TransferFit]
) -> Quantity:
    """SNR three stops under the grey patch: the shadow patch, moved that little way along the noise model."""
    grey, shadow = _named(patches, "grey"), _named(patches, "shadow")
    if grey is None or shadow is None:
        return missing("no shadow patch: draw one about three stops under the grey")
    measured = _green_snr(shadow, noise)
    if measured.value is None:
        return measured
    factors = []
    for channel in ("G1", "G2"):
        grey_noise, shadow_noise = _usable(noise[grey.name, channel]), _usable(noise[shadow.name, channel])
        fit = fits[channel]
        if grey_noise is None or shadow_noise is None:
            return missing("the grey patch could not be measured on this rung")
        if fit.gain_e_per_dn.value is None or fit.read_noise_dn.value is None:
            return missing(f"the noise model is missing: {fit.gain_e_per_dn.reason or fit.read_noise_dn.reason}")
        wanted = (grey_noise.signal.value or 0.0) / 2**SHADOW_STOPS_UNDER_GREY
        model = fit.gain_e_per_dn.value, fit.read_noise_dn.value
        if wanted <= 0 or not shadow_noise.signal.value or shadow_noise.signal.value <= 0:
            return missing("no signal above black in the shadow patch")
        factors.append(snr_at(wanted, *model) / snr_at(shadow_noise.signal.value, *model))
    return measured.scaled(sum(factors) / len(factors))
