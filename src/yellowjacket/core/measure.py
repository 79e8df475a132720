"""From the files of a rung to readings: a pure function of (files, patches), run in worker processes."""

from __future__ import annotations

import math
import zlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.characterise import characterise_frames
from yellowjacket.core.codes import CodeUse, DigitalIso, digital_verdict
from yellowjacket.core.colour import ChannelMeans, neutral_drift
from yellowjacket.core.cooked import Cooked
from yellowjacket.core.frames import CHANNELS, FrameError, RawFrame, read_frame
from yellowjacket.core.noise import PairNoise, clipped_share, pair_noise
from yellowjacket.core.patches import SHADOW_STOPS_UNDER_GREY, Rect
from yellowjacket.core.quantity import Z95, Quantity, missing, rms, weighted, with_error, with_relative_error
from yellowjacket.core.second_base import NoiseAt, second_base_of
from yellowjacket.core.transfer import TransferFit, TransferPoint, fit_transfer, snr_at

# Darks are read in a central window of at most this side: 260 000 pixels a channel give σ to 0.14 %.
_DARK_WINDOW_PX = 1024
GREEN = "G"
ALL = "all"

# Quantity name → unit; the vocabulary of readings, exports and pages.
QUANTITIES: Mapping[str, str] = {
    "signal_dn": "DN above black",
    "noise_dn": "DN",
    "snr": "ratio",
    "clipped_share": "share 0–1",
    "black_dn": "DN",
    "read_noise_dn": "DN",
    "read_noise_e": "e⁻",
    "gain_e_per_dn": "e⁻/DN",
    "shadow_snr": "ratio",
    "exposure_error_stops": "stops",
    "neutral_drift_de00": "ΔE00",
    "clip_dn": "DN",
    "saturation_e": "e⁻",
    "prnu": "share 0–1",
    "range_snr1": "stops",
    "range_engineering": "stops",
    "row_noise_dn": "DN",
    "column_noise_dn": "DN",
    "neighbour_correlation": "−1 to 1",
    "flags": "count",
    "codes_empty": "share 0–1",
    "codes_empty_low": "share 0–1",
    "codes_empty_high": "share 0–1",
    "codes_doubled": "share 0–1",
}
SMOOTHED = "the raw is smoothed: noise and range read too good"
NO_PAIR = "one frame only: shoot a second frame of this rung, or import it, to measure noise"
# Code of the problem that a rung has one frame only.
SINGLE = "single"
NO_LIGHT = "no frame of this rung yet"


@dataclass(frozen=True, slots=True)
class PatchSpec:
    """A patch to measure: its name, role (grey, shadow, black, field) and place."""

    name: str
    role: str
    rect: Rect


@dataclass(frozen=True, slots=True)
class RungTask:
    """Everything a worker needs: file paths and patches. ``key`` comes back with the result."""

    key: int
    light: tuple[str, ...]
    dark: tuple[str, ...]
    patches: tuple[PatchSpec, ...]


@dataclass(frozen=True, slots=True)
class Reading:
    """One measured quantity of a rung; ``patch`` is None for what belongs to the rung as a whole.

    ``method`` says how it was made, in words for the provenance line.
    """

    patch: str | None
    channel: str
    quantity: str
    result: Quantity
    method: str = ""
    excluded: int = 0


@dataclass(frozen=True, slots=True)
class RungResult:
    """Readings of one rung and the files that failed on the way."""

    key: int
    readings: tuple[Reading, ...]
    problems: tuple[FrameError, ...] = ()


def measure_rung(task: RungTask) -> RungResult:
    """Measure one rung from its files. Bad files become problems, missing pairs become reasons."""
    problems: list[FrameError] = []
    light = _read_all(task.light, problems)
    dark = _read_all(task.dark, problems)
    if not light:
        return RungResult(task.key, (Reading(None, ALL, "snr", missing(NO_LIGHT)),), tuple(problems))
    if len(light) == 1:
        problems.append(_single(Path(task.light[0])))
    black, black_source = _black_levels(light[0], dark)
    readings = [Reading(None, channel, "black_dn", black[channel], f"mean of {black_source}") for channel in CHANNELS]
    noise = {
        (patch.name, channel): _patch_noise(light, patch, channel, black[channel])
        for patch in task.patches
        for channel in CHANNELS
    }
    for patch in task.patches:
        readings += _patch_readings(light, patch, noise, black)
    readings += _rung_readings(task.patches, noise, light[0], dark, black)
    readings += _habits(light, dark, task.patches, noise)
    return RungResult(task.key, tuple(readings), tuple(problems))


def _read_all(paths: Iterable[str], problems: list[FrameError]) -> list[RawFrame]:
    """The frames that could be read and share the first one's size."""
    frames: list[RawFrame] = []
    for name in paths:
        try:
            frame = read_frame(Path(name))
        except FrameError as error:
            problems.append(error)
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
            if patch.role != "field" or name != "snr":
                readings.append(Reading(patch.name, channel, name, quantity, how, excluded))
        if patch.role != "field":
            readings.append(_clipped_reading(light, patch, channel, black[channel]))
    if patch.role != "field":
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
        points = [_point(outcome) for patch in patches if (outcome := _usable(noise[patch.name, channel])) is not None]
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


def _habits(
    light: Sequence[RawFrame], dark: Sequence[RawFrame], patches: Sequence[PatchSpec],
    noise: Mapping[tuple[str, str], PairNoise | str],
) -> list[Reading]:  # fmt: skip
    """Clip point, saturation, range, spread of response, bands, and what neighbours and codes give away."""
    # Only the first pair: it stands for the rung in every other reading too.
    areas = [
        (patch.rect, {c: known for c in CHANNELS if (known := _usable(noise[patch.name, c])) is not None})
        for patch in patches
    ]
    found = characterise_frames(light[:2], dark[:2], areas).every
    if found is None:
        return []
    names = {
        "clip_dn": "top code of the light frames, or where their noise vanishes", "saturation_e": "clip point less black × gain",
        "prnu": "covariance of the pair in small tiles",
    }  # fmt: skip
    readings = [Reading(None, ALL, name, found.quantities[name], how) for name, how in names.items()]
    ranges = "from saturation down to that SNR, by the noise model"
    readings += [Reading(None, ALL, f"range_{name}", found.ranges[name], ranges) for name in ("snr1", "engineering")]
    lines = "line means of the dark pair less what pixels explain"
    readings += [
        Reading(None, ALL, "row_noise_dn", found.banding.row_dn, lines),
        Reading(None, ALL, "column_noise_dn", found.banding.column_dn, lines),
        Reading(None, ALL, "neighbour_correlation", _smoothing(found.cooked), "of the noise of patches and darks"),
    ]
    return readings + [
        Reading(None, ALL, name, value, "histograms of all frames") for name, value in _codes(found.code_use)
    ]


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


@dataclass(frozen=True, slots=True)
class RungHabits:
    """What the habits of a ladder are judged from: the stored readings of a rung, by quantity."""

    key: int
    iso: int
    readings: Mapping[str, Quantity]


def relate_habits(rungs: Sequence[RungHabits]) -> dict[int, tuple[Reading, ...]]:
    """What the settings of one body say about each other: digital marks and a second base ISO, by rung key.

    ``rungs``: of one ladder, from low to high ISO. A reading "flags" says in words what is to be minded; its value
    is how many things that are, 0 for none.
    """
    uses = [_code_use(rung) for rung in rungs]
    digital = [
        digital_verdict(use, uses[0] if n else None) if use is not None else DigitalIso(None, None, None)
        for n, use in enumerate(uses)
    ]
    cooked = [rung.readings.get("neighbour_correlation", missing("")).reason == SMOOTHED for rung in rungs]
    usable = [
        NoiseAt(rung.iso, rung.readings["gain_e_per_dn"], rung.readings["read_noise_dn"], rung.readings["read_noise_e"])
        for rung, one, smoothed in zip(rungs, digital, cooked, strict=True)
        if not one.flag and not smoothed and {"gain_e_per_dn", "read_noise_dn", "read_noise_e"} <= rung.readings.keys()
    ]
    base = second_base_of(usable)
    related: dict[int, tuple[Reading, ...]] = {}
    for rung, one, smoothed in zip(rungs, digital, cooked, strict=True):
        words = [text for text, there in (("smoothed", smoothed), ("digital", one.flag)) if there]
        if base.value is not None and rung.iso == base.value:
            words.append("second base")
        flags = Quantity(float(len(words)), n=len(rungs), reason=", ".join(words))
        related[rung.key] = (Reading(None, ALL, "flags", flags, "neighbours, codes and read noise along the ladder"),)
    return related


def _code_use(rung: RungHabits) -> CodeUse | None:
    shares = [
        rung.readings.get(name) for name in ("codes_empty", "codes_empty_low", "codes_empty_high", "codes_doubled")
    ]
    if any(share is None or share.value is None for share in shares):
        return None
    values = [share.value or 0.0 for share in shares if share is not None]
    return CodeUse(rung.readings["codes_empty"].n, *values)


@dataclass(frozen=True, slots=True)
class RungSignals:
    """What relating rungs needs of one rung: grey-patch signal by channel, and the light it was given.

    ``expected_stops``: light and gain the settings ask for, in stops over any common zero.
    """

    key: int
    grey_dn: Mapping[str, Quantity]
    expected_stops: float


def relate_rungs(
    rungs: Sequence[RungSignals], reference_key: int, xyz_to_camera: NDArray[np.float64] | None
) -> dict[int, tuple[Reading, ...]]:
    """Exposure error and neutral drift of every rung against the reference rung, by rung key.

    Raises KeyError when the reference is not among the rungs.
    """
    by_key = {rung.key: rung for rung in rungs}
    reference = by_key[reference_key]
    related: dict[int, tuple[Reading, ...]] = {}
    for rung in rungs:
        how = "grey patch against the reference rung"
        related[rung.key] = (
            Reading(None, ALL, "exposure_error_stops", _exposure_error(rung, reference), how),
            Reading(
                None, ALL, "neutral_drift_de00", _drift(rung, reference, xyz_to_camera), how + ", white-balanced there"
            ),
        )
    return related


def _exposure_error(rung: RungSignals, reference: RungSignals) -> Quantity:
    """log2 of measured over expected signal, channels weighted by 1/SE²."""
    errors, weights, n = [], [], 0
    for channel in CHANNELS:
        one, other = rung.grey_dn.get(channel), reference.grey_dn.get(channel)
        if one is None or other is None or not one.value or not other.value or min(one.value, other.value) <= 0:
            continue
        errors.append(math.log2(one.value / other.value))
        weights.append(1 / max(math.hypot(one.se / one.value, other.se / other.value), 1e-9) ** 2)
        n += one.n
    if not errors:
        return missing(_first_reason(rung, reference))
    value = float(np.average(errors, weights=weights)) - (rung.expected_stops - reference.expected_stops)
    if rung.key == reference.key:
        return Quantity(0.0, 0.0, 0.0, n, "the reference rung")
    return with_error(value, 1 / math.sqrt(sum(weights)) / math.log(2), n)


def _drift(rung: RungSignals, reference: RungSignals, xyz_to_camera: NDArray[np.float64] | None) -> Quantity:
    if rung.key == reference.key:
        return Quantity(0.0, 0.0, 0.0, 0, "the reference rung")
    means = [_channel_means(rung), _channel_means(reference)]
    if means[0] is None or means[1] is None:
        return missing(_first_reason(rung, reference))
    # The same readings give the same interval, whoever asks and in whatever order.
    rng = np.random.default_rng(zlib.crc32(repr(means).encode()))
    return neutral_drift(means[0], means[1], xyz_to_camera, rng)


def _channel_means(rung: RungSignals) -> ChannelMeans | None:
    found = [rung.grey_dn.get(channel) for channel in CHANNELS]
    if any(q is None or q.value is None for q in found):
        return None
    values = tuple(q.value for q in found if q is not None and q.value is not None)
    errors = tuple(q.se for q in found if q is not None)
    return ChannelMeans(values, errors, sum(q.n for q in found if q is not None))  # type: ignore[arg-type]


def _first_reason(*rungs: RungSignals) -> str:
    for rung in rungs:
        for quantity in rung.grey_dn.values():
            if quantity.reason and not quantity.known:
                return quantity.reason
    return "no grey patch reading on this rung or the reference rung"
