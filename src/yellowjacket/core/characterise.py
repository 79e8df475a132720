"""A body at one ISO setting, from its own frames alone: gain, read noise, saturation, range, and what its raw hides.

Needs no plan and no patches: uniform areas are found in every pair of light frames. A pure function of files, run in
worker processes. Sources: Janesick, *Photon Transfer*; EMVA 1288 (both from memory); docs/methods.md.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.banding import Banding, banding_of
from yellowjacket.core.codes import CodeUse, clip_code, code_use, noise_of_cut_black
from yellowjacket.core.cooked import Cooked, LagSums, pooled, verdict, white_variance
from yellowjacket.core.counting import CODES, add_histogram, tile_means_and_noise, tile_sums
from yellowjacket.core.fixed_pattern import FixedPattern, fixed_pattern, prnu
from yellowjacket.core.frames import FrameError, RawFrame, read_frame
from yellowjacket.core.noise import ROUNDING_LIMITED_DN, PairNoise, joint_noise, pair_noise
from yellowjacket.core.patches import Rect, uniform_patches
from yellowjacket.core.quantity import Quantity, mean, missing, rms, weighted, with_error, with_relative_error
from yellowjacket.core.ranges import SNR_LEVELS, dynamic_range_stops, engineering_range_stops
from yellowjacket.core.transfer import TransferFit, TransferPoint, fit_transfer

# Uniform areas taken from one pair; more add nothing but time.
_MOST_PATCHES = 240
# Side of the central part of a dark that is read, in raw pixels.
_DARK_SIDE_PX = 2048
# Masked borders narrower than this say little.
_MASKED_LEAST_PX = 8
# A dark smaller than this says nothing.
_LEAST_SIDE_PX = 32
# Tiles above this share of the range whose noise lies below half the photon-transfer line have filled their wells.
_FULL_FROM_SHARE, _FULL_NOISE, _FULL_SURE = 0.2, 0.5, 0.05
_FULL_FEWEST_TILES, _FULL_TILE_PX = 6, 8
_ENOUGH_PX = 1_500_000
_TOP_SHARE = 1e-5
# Full wells respond to nothing: areas above this share of the clip point say nothing of response.
_RESPONDING = 0.9
_FROM_TAG = "from the tag: no frame clips"
# A channel counts as below its clip point when mean + 5 σ stays under it.
_CLEAR_SIGMAS = 5.0


@dataclass(frozen=True, slots=True)
class Exposures:
    """Files of one exposure time, in the order of the clock."""

    exposure_s: float
    paths: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class IsoTask:
    """All frames of a body at one ISO setting, light and dark."""

    iso: int
    light: tuple[Exposures, ...]
    dark: tuple[Exposures, ...]


@dataclass(frozen=True, slots=True)
class ChannelFindings:
    """One channel, or all of them, at one ISO. Quantities by name, as in docs/characterisation.schema.json."""

    quantities: Mapping[str, Quantity]
    ranges: Mapping[str, Quantity]
    cooked: Cooked
    corrected: Mapping[str, Quantity]
    banding: Banding
    code_use: CodeUse | None


@dataclass(frozen=True, slots=True)
class IsoFindings:
    """What one ISO setting gave. ``read_noise_source``: darks, masked pixels or intercept; ``reduced_chi2`` the worst."""

    iso: int
    channels: Mapping[str, ChannelFindings]
    every: ChannelFindings | None
    read_noise_source: str
    reduced_chi2: float | None
    patches: int
    black_source: str
    size: tuple[int, int] | None
    layout: str
    problems: tuple[FrameError, ...] = ()


@dataclass(slots=True)
class _Channel:
    """What is gathered for one channel while the files go by."""

    black: Quantity = field(default_factory=lambda: missing("no frame"))
    light: list[PairNoise] = field(default_factory=list)
    patterns: list[tuple[float, FixedPattern]] = field(default_factory=list)
    dark: list[PairNoise] = field(default_factory=list)
    dark_pattern: FixedPattern | None = None
    dark_counts: NDArray[np.int64] = field(default_factory=lambda: np.zeros(CODES, np.int64))
    light_counts: NDArray[np.int64] = field(default_factory=lambda: np.zeros(CODES, np.int64))
    tiles: list[tuple[NDArray[np.float64], NDArray[np.float64]]] = field(default_factory=list)
    banding: list[Banding] = field(default_factory=list)


@dataclass(slots=True)
class _Gathered:
    channels: dict[str, _Channel] = field(default_factory=dict)
    white_dn: float = 0.0
    size: tuple[int, int] | None = None
    layout: str = ""
    black_source: str = "the file's tag"
    noise_source: str = ""
    patches: int = 0
    problems: list[FrameError] = field(default_factory=list)


def characterise_iso(task: IsoTask) -> IsoFindings:
    """Everything the frames of one ISO say. Bad files become problems, what cannot be measured a reason."""
    gathered = _Gathered()
    _gather_darks(task, gathered)
    _gather_light(task, gathered)
    return _conclude(task.iso, gathered)


def characterise_frames(
    light: Sequence[RawFrame], dark: Sequence[RawFrame], areas: Sequence[tuple[Rect, Mapping[str, PairNoise]]]
) -> IsoFindings:
    """The same from frames that are read already, all of one setting and size, over areas measured already.

    ``light``: one or two frames. ``areas``: uniform areas with the noise of the pair by channel, where it is known.
    """
    gathered = _Gathered(size=light[0].size, layout=light[0].layout, white_dn=light[0].white_dn)
    gathered.channels = {name: _Channel() for name in light[0].channels}
    _take_darks([frame for frame in dark if frame.size == gathered.size], gathered)
    for frame in (*light, *dark):
        _count(frame, gathered, light=any(frame is one for one in light))
    _black_without_darks(light, gathered)
    for first, second in _pairs(light):
        for rect, noise in areas:
            for name, found in noise.items():
                _keep(gathered.channels[name], found, rect.parts(first, name), rect.parts(second, name))
        gathered.patches += len(areas)
        _keep_tiles(first, second, gathered)
    return _conclude(0, gathered)


def _conclude(iso: int, gathered: _Gathered) -> IsoFindings:
    found: dict[str, ChannelFindings] = {}
    fits: dict[str, TransferFit] = {}
    for name, channel in gathered.channels.items():
        fits[name], found[name] = _findings(channel, gathered.white_dn)
    source = gathered.noise_source or next(
        (fit.read_noise_source for fit in fits.values() if fit.read_noise_source), ""
    )
    chi2 = [fit.reduced_chi2 for fit in fits.values() if fit.reduced_chi2 is not None]
    every = _over_channels(found, gathered) if found else None
    return IsoFindings(
        iso, found, every, source, max(chi2, default=None), gathered.patches, gathered.black_source, gathered.size,
        gathered.layout, tuple(gathered.problems),
    )  # fmt: skip


# Files.


def _frames(paths: Iterable[str], gathered: _Gathered) -> list[RawFrame]:
    """The frames that could be read and share the size of the first of this ISO; equal mosaics count once."""
    frames: list[RawFrame] = []
    for name in paths:
        try:
            frame = read_frame(Path(name), any_layout=True)
        except FrameError as error:
            gathered.problems.append(error)
            continue
        if gathered.size is None:
            gathered.size, gathered.layout, gathered.white_dn = frame.size, frame.layout, frame.white_dn
        if frame.size != gathered.size or frame.layout != gathered.layout:
            reason = f"is {frame.size[0]} × {frame.size[1]} px, the others {gathered.size[0]} × {gathered.size[1]}."
            gathered.problems.append(FrameError(Path(name), "size", reason, "Measure one raw mode at a time."))
            continue
        if any(np.array_equal(frame.mosaic, other.mosaic) for other in frames):
            reason = "holds the same numbers as another file."
            gathered.problems.append(FrameError(Path(name), "duplicate", reason, "Leave the copy out."))
            continue
        frames.append(frame)
        for channel in frame.channels:
            gathered.channels.setdefault(channel, _Channel())
    return frames


def _pairs(frames: Sequence[RawFrame]) -> list[tuple[RawFrame, RawFrame]]:
    """Frames two by two, each in one pair, so that pairs are independent."""
    return [(frames[n], frames[n + 1]) for n in range(0, len(frames) - 1, 2)]


def _centre(frame: RawFrame) -> Rect:
    """The central part of a dark, clear of masked borders, on whole tiles of the layout."""
    width, height = frame.size
    top, left = frame.margins
    unit = 2 * frame.step
    w, h = (min(side, _DARK_SIDE_PX) // unit * unit for side in (width - left, height - top))
    x = left + (width - left - w) // 2 // unit * unit
    y = top + (height - top - h) // 2 // unit * unit
    return Rect(x, y, w, h)


def _gather_darks(task: IsoTask, gathered: _Gathered) -> None:
    """Black, read noise, neighbours and bands from the darks of the shortest time that has a pair."""
    groups = sorted(task.dark, key=lambda group: (len(group.paths) < 2, group.exposure_s))
    for n, group in enumerate(groups):
        frames = _frames(group.paths, gathered)
        for frame in frames:
            _count(frame, gathered, light=False)
        if n == 0:
            _take_darks(frames, gathered)


def _take_darks(frames: Sequence[RawFrame], gathered: _Gathered) -> None:
    if not frames or min(_centre(frames[0]).w, _centre(frames[0]).h) < _LEAST_SIDE_PX:
        return
    gathered.black_source = f"{len(frames)} dark frame{'s' if len(frames) > 1 else ''}"
    rect = _centre(frames[0])
    for name in frames[0].channels:
        channel = gathered.channels[name]
        channel.black = _level(frames, rect, name)
        for first, second in _pairs(frames):
            _dark_pair(channel, rect.parts(first, name), rect.parts(second, name))
    if any(channel.dark for channel in gathered.channels.values()):
        gathered.noise_source = "darks"


def _level(frames: Sequence[RawFrame], rect: Rect, name: str) -> Quantity:
    parts = [part for frame in frames for part in rect.parts(frame, name)]
    n = sum(part.size for part in parts)
    mean = sum(float(part.sum(dtype=np.float64)) for part in parts) / n
    return with_error(mean, float(np.std(parts[0], dtype=np.float64)) / math.sqrt(n), n)


def _dark_pair(channel: _Channel, first: Sequence[NDArray[np.uint16]], second: Sequence[NDArray[np.uint16]]) -> None:
    black = channel.black.value or 0.0
    found = joint_noise([pair_noise(a, b, black, dark=True) for a, b in zip(first, second, strict=True)])
    if not found.noise.known:
        return
    channel.dark.append(found)
    channel.dark_pattern = fixed_pattern(first[0], second[0])
    channel.banding.append(banding_of(first[0], second[0]))


def _count(frame: RawFrame, gathered: _Gathered, *, light: bool) -> None:
    for name in frame.channels:
        channel = gathered.channels[name]
        for plane in frame.planes(name):
            # Millions of pixels tell gaps and piles as well as tens of millions.
            rows = plane[:: _every(plane.size)]
            add_histogram(rows, channel.light_counts if light else channel.dark_counts)


def _gather_light(task: IsoTask, gathered: _Gathered) -> None:
    for group in task.light:
        frames = _frames(group.paths, gathered)
        for frame in frames:
            _count(frame, gathered, light=True)
        if frames:
            _black_without_darks(frames, gathered)
        if len(frames) == 1:
            gathered.problems.append(
                FrameError(
                    Path(group.paths[0]), "single", f"is the only frame at ISO {task.iso} and its exposure time.",
                    "Noise needs a pair: shoot another.",
                )
            )  # fmt: skip
        for first, second in _pairs(frames):
            _light_pair(first, second, gathered, uniform_patches(first, second, _MOST_PATCHES))


def _black_without_darks(frames: Sequence[RawFrame], gathered: _Gathered) -> None:
    """Masked pixels where there are no darks, else what the file says; both only once."""
    frame = frames[0]
    masked = _masked(frame)
    for name in frame.channels:
        channel = gathered.channels[name]
        if channel.black.known:
            continue
        if masked is None:
            channel.black = Quantity(frame.black_dn[name], reason="from the file's tag: no darks, no masked pixels")
            continue
        gathered.black_source = "masked pixels"
        channel.black = _level(frames, masked, name)
        for first, second in _pairs(frames):
            _dark_pair(channel, masked.parts(first, name), masked.parts(second, name))
    read = any(channel.dark for channel in gathered.channels.values())
    if masked is not None and not gathered.noise_source and read:
        gathered.noise_source = "masked pixels"


def _masked(frame: RawFrame) -> Rect | None:
    """The wider of the masked borders, or None when there is none to speak of."""
    top, left = frame.margins
    width, height = frame.size
    unit = 2 * frame.step
    if left >= max(_MASKED_LEAST_PX, unit) and left * (height - top) >= top * width:
        return Rect(0, math.ceil(top / unit) * unit, left // unit * unit, (height - top) // unit * unit - unit)
    if top >= max(_MASKED_LEAST_PX, unit):
        return Rect(0, 0, width // unit * unit, top // unit * unit)
    return None


def _light_pair(first: RawFrame, second: RawFrame, gathered: _Gathered, rects: Sequence[Rect]) -> None:
    gathered.patches += len(rects)
    for name in first.channels:
        channel = gathered.channels[name]
        black = channel.black.value or 0.0
        for rect in rects:
            one, other = rect.parts(first, name), rect.parts(second, name)
            pairs = zip(one, other, strict=True)
            _keep(channel, joint_noise([pair_noise(a, b, black, clip_dn=first.white_dn) for a, b in pairs]), one, other)
    _keep_tiles(first, second, gathered)


def _keep(
    channel: _Channel, noise: PairNoise, one: Sequence[NDArray[np.uint16]], other: Sequence[NDArray[np.uint16]]
) -> None:
    if not noise.noise.known:
        return
    channel.light.append(noise)
    if len(one) == 1:
        channel.patterns.append((noise.signal.value or 0.0, fixed_pattern(one[0], other[0])))


def _keep_tiles(first: RawFrame, second: RawFrame, gathered: _Gathered) -> None:
    for name in first.channels:
        for a, b in zip(first.planes(name), second.planes(name), strict=True):
            step = _every(a.size)
            bands = [_band_of(plane, step) for plane in (a, b)]
            sums = tile_sums(bands[0], bands[1], _FULL_TILE_PX)
            gathered.channels[name].tiles.append(tile_means_and_noise(sums, _FULL_TILE_PX))


def _every(pixels: int) -> int:
    """Which part of a plane is enough for whole-frame counts: one in so many lines."""
    return max(1, pixels // _ENOUGH_PX)


def _band_of(plane: NDArray[np.uint16], step: int) -> NDArray[np.uint16]:
    """Whole rows of tiles, every so many of them, as a view where all are wanted."""
    if step == 1:
        return plane
    rows = plane.shape[0] // (_FULL_TILE_PX * step) * _FULL_TILE_PX * step
    parts = plane[:rows].reshape(-1, step, _FULL_TILE_PX, plane.shape[1])[:, 0]
    return parts.reshape(-1, plane.shape[1])


# From what was gathered to findings.


def _findings(channel: _Channel, white_dn: float) -> tuple[TransferFit, ChannelFindings]:
    black = channel.black.value or 0.0
    dark = _dark_point(channel.dark)
    # A dark that rounding rules lacks the rounding noise that every light patch has: it must not hold the line.
    rounded = dark is not None and dark.variance_dn2 < ROUNDING_LIMITED_DN**2
    dark = None if rounded else dark
    tagged = white_dn - black
    points = [_point(noise) for noise in channel.light]
    fit = fit_transfer([p for p in points if p.signal_dn < 0.7 * tagged], dark, tagged)
    clip = _clip(channel, fit, white_dn)
    # What stands too near the clip point has lost part of its noise; it must not bend the line.
    limit = clip.value or white_dn
    clear = [p for p in points if p.signal_dn + black + _CLEAR_SIGMAS * math.sqrt(p.variance_dn2) < limit]
    fit = fit_transfer(clear, dark, limit - black)
    saturation_dn = _saturation(channel, clip, white_dn)
    lags = _lags(channel)
    cooked = verdict(lags)
    if not cooked.flag and channel.dark:
        alone = verdict(pooled(part.lags for part in channel.dark if part.lags is not None))
        cooked = replace(cooked, flag=True, reason="told by the darks alone") if alone.flag else cooked
    gain, noise_dn, noise_e = fit.gain_e_per_dn, fit.read_noise_dn, fit.read_noise_e
    silent = not noise_dn.known and not channel.dark and bool(channel.dark_counts.any())
    cut = noise_of_cut_black(channel.dark_counts) if silent else None
    if rounded or (cut is not None and cut.known):
        noise_dn = channel.dark[0].noise if cut is None else cut
        noise_e = _bounded_product(noise_dn, gain)
    responding = [one for one in channel.patterns if one[0] < _RESPONDING * (limit - black)]
    quantities = {
        "gain_e_per_dn": gain, "read_noise_e": noise_e, "read_noise_dn": noise_dn,
        "saturation_e": _product(saturation_dn, gain), "clip_dn": clip, "black_dn": channel.black,
        "prnu": prnu(responding, channel.dark_pattern), "saturation_dn": saturation_dn,
    }  # fmt: skip
    corrected = _corrected(channel, limit - black, black, limit) if cooked.flag else {}
    use = code_use(channel.light_counts + channel.dark_counts, None if clip.value is None else round(clip.value))
    findings = ChannelFindings(
        quantities, _ranges(saturation_dn, gain, noise_dn), cooked, corrected, _band(channel.banding), use
    )
    return fit, findings


def _point(noise: PairNoise) -> TransferPoint:
    return TransferPoint(noise.signal.value or 0.0, noise.variance_dn2, noise.variance_se_dn2, noise.n)


def _dark_point(darks: Sequence[PairNoise]) -> TransferPoint | None:
    if not darks:
        return None
    n = sum(part.n for part in darks)
    variance = sum(part.n * part.variance_dn2 for part in darks) / n
    se = math.sqrt(sum((part.n * part.variance_se_dn2) ** 2 for part in darks)) / n
    return TransferPoint(0.0, variance, se, n)


def _clip(channel: _Channel, fit: TransferFit, white_dn: float) -> Quantity:
    """Where this channel stops: a pile of pixels at the top code, else the level at which noise vanishes."""
    n = int(channel.light_counts.sum())
    code = clip_code(channel.light_counts)
    if code is not None:
        return Quantity(float(code), float(code), float(code), n)
    return _full_well(channel, fit, white_dn)


def _full_well(channel: _Channel, fit: TransferFit, white_dn: float) -> Quantity:
    nothing = missing("no light frame reaches it: expose one until it clips")
    if fit.gain_e_per_dn.value is None or not channel.tiles:
        return nothing
    black = channel.black.value or 0.0
    floor = (fit.read_noise_dn.value or 0.0) ** 2
    levels = np.concatenate([mean.ravel() for mean, _ in channel.tiles])
    noise = np.concatenate([variance.ravel() for _, variance in channel.tiles])
    line = np.maximum(levels - black, 0) / fit.gain_e_per_dn.value + floor
    bright = levels - black > _FULL_FROM_SHARE * (white_dn - black)
    full = bright & (noise < _FULL_NOISE * line)
    sure = full & (noise - floor < _FULL_SURE * (line - floor))
    if sure.sum() < _FULL_FEWEST_TILES:
        return nothing
    found = levels[sure]
    level = float(np.median(found))
    spread = float(np.quantile(found, 0.84) - np.quantile(found, 0.16)) / 2
    return with_error(level, 1.2533 * spread / math.sqrt(found.size), int(found.size), "where the noise vanishes")


def _saturation(channel: _Channel, clip: Quantity, white_dn: float) -> Quantity:
    """Clip point less black in DN; the tag's, at least what was seen, where no frame clips."""
    black = channel.black
    if clip.value is not None and black.value is not None:
        return with_error(clip.value - black.value, math.hypot(clip.se, black.se), clip.n, clip.reason)
    present = np.flatnonzero(channel.light_counts)
    if black.value is None or present.size == 0:
        return missing("no light frame")
    # A handful of pixels may stand above the well by their noise alone.
    above = np.cumsum(channel.light_counts[::-1])[::-1]
    seen = float(np.flatnonzero(above > _TOP_SHARE * above[0])[-1]) - black.value
    tagged = white_dn - black.value
    return Quantity(tagged, min(seen, tagged), tagged, int(channel.light_counts.sum()), _FROM_TAG)


def _product(saturation_dn: Quantity, gain: Quantity) -> Quantity:
    if saturation_dn.value is None or gain.value is None:
        return missing(saturation_dn.reason or gain.reason)
    value = saturation_dn.value * gain.value
    if saturation_dn.reason == _FROM_TAG:
        low, high = (saturation_dn.low or 0.0) * (gain.low or 0.0), (saturation_dn.high or 0.0) * (gain.high or 0.0)
        return Quantity(value, low, high, gain.n, saturation_dn.reason)
    relative = math.hypot(saturation_dn.se / saturation_dn.value, gain.se / gain.value)
    return with_relative_error(value, relative, min(saturation_dn.n, gain.n), saturation_dn.reason)


def _bounded_product(noise_dn: Quantity, gain: Quantity) -> Quantity:
    """Read noise in electrons where rounding leaves only a bound of it in DN."""
    if noise_dn.value is None or gain.value is None:
        return missing(noise_dn.reason or gain.reason)
    low, high = (noise_dn.low or 0.0) * (gain.low or 0.0), (noise_dn.high or 0.0) * (gain.high or 0.0)
    return Quantity(noise_dn.value * gain.value, low, high, noise_dn.n, noise_dn.reason)


def _lags(channel: _Channel) -> LagSums | None:
    return pooled(part.lags for part in (*channel.light, *channel.dark) if part.lags is not None)


def _corrected(channel: _Channel, saturation: float, black: float, limit: float) -> dict[str, Quantity]:
    """Gain and read noise from the noise before the smoothing, beside the flagged ones."""
    clear = [p for p in channel.light if (p.signal.value or 0) + black + _CLEAR_SIGMAS * p.variance_dn2**0.5 < limit]
    fit = fit_transfer(
        [point for part in clear if (point := _before_smoothing(part)) is not None],
        _dark_point_before([part for part in channel.dark if part.lags is not None]),
        saturation,
    )
    return {
        "gain_e_per_dn": fit.gain_e_per_dn, "read_noise_e": fit.read_noise_e, "read_noise_dn": fit.read_noise_dn,
    }  # fmt: skip


def _before_smoothing(part: PairNoise) -> TransferPoint | None:
    if part.lags is None:
        return None
    variance, se = white_variance(part.lags)
    if not (math.isfinite(variance) and variance > 0):
        return None
    return TransferPoint(part.signal.value or 0.0, variance, se, part.n)


def _dark_point_before(darks: Sequence[PairNoise]) -> TransferPoint | None:
    points = [point for part in darks if (point := _before_smoothing(part)) is not None]
    if not points:
        return None
    n = sum(point.n for point in points)
    variance = sum(point.n * point.variance_dn2 for point in points) / n
    se = math.sqrt(sum((point.n * point.variance_se_dn2) ** 2 for point in points)) / n
    return TransferPoint(0.0, variance, se, n)


def _ranges(saturation_dn: Quantity, gain: Quantity, noise_dn: Quantity) -> dict[str, Quantity]:
    found = {"engineering": engineering_range_stops(saturation_dn, noise_dn)}
    found |= {f"snr{level}": dynamic_range_stops(level, saturation_dn, gain, noise_dn) for level in SNR_LEVELS}
    return found


def _band(parts: Sequence[Banding]) -> Banding:
    return parts[0] if parts else Banding(missing("no dark pair"), missing("no dark pair"), missing(""), missing(""))


# Over channels: gain weighted by 1/SE², noises root mean square, the rest means.


def _over_channels(found: Mapping[str, ChannelFindings], gathered: _Gathered) -> ChannelFindings:
    def of(name: str) -> list[Quantity]:
        return [one.quantities[name] for one in found.values()]

    def observed(name: str) -> list[Quantity]:
        """Channels that reached their clip point speak for those that did not."""
        every = of(name)
        return [q for q in every if q.reason != _FROM_TAG] or every

    gain, saturation = weighted(of("gain_e_per_dn")), mean(observed("saturation_dn"))
    noise_dn, noise_e = rms(of("read_noise_dn")), rms(of("read_noise_e"))
    quantities = {
        "gain_e_per_dn": gain, "read_noise_e": noise_e, "read_noise_dn": noise_dn,
        "saturation_e": mean(observed("saturation_e")), "clip_dn": mean(of("clip_dn")), "black_dn": mean(of("black_dn")),
        "prnu": weighted(of("prnu")), "saturation_dn": saturation,
    }  # fmt: skip
    lags = pooled(sums for channel in gathered.channels.values() if (sums := _lags(channel)) is not None)
    cooked = verdict(lags)
    if not cooked.flag and any(one.cooked.flag for one in found.values()):
        cooked = replace(cooked, flag=True, reason="told by one channel or by the darks alone")
    corrected: dict[str, Quantity] = {}
    if cooked.flag:
        parts = [one.corrected for one in found.values() if one.corrected]
        corrected = {
            "gain_e_per_dn": weighted([part["gain_e_per_dn"] for part in parts]),
            "read_noise_e": rms([part["read_noise_e"] for part in parts]),
            "read_noise_dn": rms([part["read_noise_dn"] for part in parts]),
        } if parts else {}  # fmt: skip
    uses = [one.code_use for one in found.values() if one.code_use is not None]
    return ChannelFindings(
        quantities, _ranges(saturation, gain, noise_dn), cooked, corrected, _mean_band([one.banding for one in found.values()]),
        _joint_use(uses),
    )  # fmt: skip


def _joint_use(uses: Sequence[CodeUse]) -> CodeUse | None:
    """Channels together, each weighted by its telling codes."""
    total = sum(use.usable for use in uses)
    if not total:
        return uses[0] if uses else None

    def share(name: str) -> float:
        return float(sum(use.usable * getattr(use, name) for use in uses) / total)

    return CodeUse(total, share("empty"), share("empty_low"), share("empty_high"), share("doubled"))


def _mean_band(parts: Sequence[Banding]) -> Banding:
    # Row noise is common to a row's channels: they are no independent readings of it.
    return Banding(
        _lines([part.row_dn for part in parts]), _lines([part.column_dn for part in parts]),
        _lines([part.row_share for part in parts]), _lines([part.column_share for part in parts]),
    )  # fmt: skip


def _lines(parts: Sequence[Quantity]) -> Quantity:
    """Root mean square of line noises; where none is significant, the largest of their upper limits."""
    known = [part for part in parts if part.value is not None]
    if known and not any(part.value for part in known):
        return max(known, key=lambda part: part.high or 0.0)
    return rms(parts)
