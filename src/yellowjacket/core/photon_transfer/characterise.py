"""A body at one ISO setting, from its own frames alone: gain, read noise, saturation, range, and what its raw hides.

Needs no plan and no patches: uniform areas are found in every pair of light frames. A pure function of files, run in
worker processes. Sources: Janesick, *Photon Transfer*; EMVA 1288 (both from memory); docs/methods.md.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from yellowjacket.core.metrology.estimate import (
    Quantity,
    mean,
    missing,
    rms,
    unknown,
    weighted,
    with_error,
    with_relative_error,
)
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.noise.autocorrelation import LagSums, pooled
from yellowjacket.core.noise.banding import Banding
from yellowjacket.core.noise.fixed_pattern import prnu
from yellowjacket.core.noise.smoothing import Cooked, verdict, white_variance
from yellowjacket.core.noise.two_frame import ROUNDING_LIMITED_DN, PairNoise
from yellowjacket.core.photon_transfer.accumulate import (
    Channel,
    Gathered,
    IsoTask,
    black_without_darks,
    count_codes,
    gather_darks,
    gather_light,
    keep_area,
    keep_tiles,
    pairs_of,
    take_darks,
)
from yellowjacket.core.photon_transfer.dynamic_range import SNR_LEVELS, dynamic_range_stops, engineering_range_stops
from yellowjacket.core.photon_transfer.fit import TransferFit, TransferPoint, fit_transfer
from yellowjacket.core.raw.codes import CodeUse, clip_code, code_use, noise_of_cut_black
from yellowjacket.core.raw.frame import FrameError, RawFrame
from yellowjacket.core.raw.rect import Rect

# Tiles above this share of the range whose noise lies below half the photon-transfer line have filled their wells.
_FULL_FROM_SHARE, _FULL_NOISE, _FULL_SURE = 0.2, 0.5, 0.05
_FULL_FEWEST_TILES = 6
_TOP_SHARE = 1e-5
# Full wells respond to nothing: areas above this share of the clip point say nothing of response.
_RESPONDING = 0.9
# A channel counts as below its clip point when mean + 5 σ stays under it.
_CLEAR_SIGMAS = 5.0


@dataclass(frozen=True, slots=True)
class ChannelFindings:
    """One channel, or all of them, at one ISO. Quantities are named as in docs/characterisation.schema.json."""

    quantities: Mapping[Measurand, Quantity]
    ranges: Mapping[str, Quantity]
    cooked: Cooked
    corrected: Mapping[Measurand, Quantity]
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


def characterise_iso(task: IsoTask) -> IsoFindings:
    """Everything the frames of one ISO say. Bad files become problems, what cannot be measured a reason."""
    gathered = Gathered()
    gather_darks(task, gathered)
    gather_light(task, gathered)
    return _conclude(task.iso, gathered)


def characterise_frames(
    light: Sequence[RawFrame], dark: Sequence[RawFrame], areas: Sequence[tuple[Rect, Mapping[str, PairNoise]]]
) -> IsoFindings:
    """The same from frames that are read already, all of one setting and size, over areas measured already.

    ``light``: one or two frames. ``areas``: uniform areas with the noise of the pair by channel, where it is known.
    """
    gathered = Gathered(
        size=light[0].size,
        layout=light[0].layout.name,
        white_dn=light[0].white_dn,
        white_said="white" not in light[0].unsaid,
    )
    gathered.channels = {name: Channel() for name in light[0].channels}
    take_darks([frame for frame in dark if frame.size == gathered.size], gathered)
    for frame in (*light, *dark):
        count_codes(frame, gathered, light=any(frame is one for one in light))
    black_without_darks(light, gathered)
    for first, second in pairs_of(light):
        for rect, noise in areas:
            for name, found in noise.items():
                keep_area(gathered.channels[name], found, rect.parts(first, name), rect.parts(second, name))
        gathered.patches += len(areas)
        keep_tiles(first, second, gathered)
    return _conclude(0, gathered)


def _conclude(iso: int, gathered: Gathered) -> IsoFindings:
    found: dict[str, ChannelFindings] = {}
    fits: dict[str, TransferFit] = {}
    for name, channel in gathered.channels.items():
        fits[name], found[name] = _findings(channel, gathered.white_dn, gathered.white_said)
    source = gathered.noise_source or next(
        (fit.read_noise_source for fit in fits.values() if fit.read_noise_source), ""
    )
    chi2 = [fit.reduced_chi2 for fit in fits.values() if fit.reduced_chi2 is not None]
    every = _over_channels(found, gathered) if found else None
    return IsoFindings(
        iso, found, every, source, max(chi2, default=None), gathered.patches, gathered.black_source, gathered.size,
        gathered.layout, tuple(gathered.problems),
    )  # fmt: skip


def _findings(channel: Channel, white_dn: float, white_said: bool) -> tuple[TransferFit, ChannelFindings]:
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
    saturation_dn = _saturation(channel, clip, white_dn if white_said else None)
    lags = _lags(channel)
    cooked = verdict(lags)
    if not cooked.flag and channel.dark:
        alone = verdict(pooled(part.lags for part in channel.dark if part.lags is not None))
        cooked = replace(cooked, flag=True, notes=(Note(Remark.TOLD_BY_DARKS),)) if alone.flag else cooked
    gain, noise_dn, noise_e = fit.gain_e_per_dn, fit.read_noise_dn, fit.read_noise_e
    silent = not noise_dn.known and not channel.dark and bool(channel.dark_counts.any())
    cut = noise_of_cut_black(channel.dark_counts) if silent else None
    if rounded or (cut is not None and cut.known):
        noise_dn = channel.dark[0].noise if cut is None else cut
        noise_e = _bounded_product(noise_dn, gain)
    responding = [one for one in channel.patterns if one[0] < _RESPONDING * (limit - black)]
    quantities = {
        Measurand.GAIN_E_PER_DN: gain, Measurand.READ_NOISE_E: noise_e, Measurand.READ_NOISE_DN: noise_dn,
        Measurand.SATURATION_E: _product(saturation_dn, gain), Measurand.CLIP_DN: clip, Measurand.BLACK_DN: channel.black,
        Measurand.PRNU: prnu(responding, channel.dark_pattern), Measurand.SATURATION_DN: saturation_dn,
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


def _clip(channel: Channel, fit: TransferFit, white_dn: float) -> Quantity:
    """Where this channel stops: a pile of pixels at the top code, else the level at which noise vanishes."""
    n = int(channel.light_counts.sum())
    code = clip_code(channel.light_counts)
    if code is not None:
        return Quantity(float(code), float(code), float(code), n)
    return _full_well(channel, fit, white_dn)


def _full_well(channel: Channel, fit: TransferFit, white_dn: float) -> Quantity:
    nothing = missing(Missing.NEVER_REACHED)
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
    return with_error(
        level, 1.2533 * spread / math.sqrt(found.size), int(found.size), Note(Remark.WHERE_NOISE_VANISHES)
    )


def _saturation(channel: Channel, clip: Quantity, white_dn: float | None) -> Quantity:
    """Clip point less black in DN; the tag's, at least what was seen, where no frame clips."""
    black = channel.black
    if clip.value is not None and black.value is not None:
        return with_error(clip.value - black.value, math.hypot(clip.se, black.se), clip.n, *clip.notes)
    present = np.flatnonzero(channel.light_counts)
    if black.value is None or present.size == 0:
        return missing(Missing.NO_LIGHT_FRAME)
    if white_dn is None:
        return missing(Missing.WHITE_UNSAID)
    # A handful of pixels may stand above the well by their noise alone.
    above = np.cumsum(channel.light_counts[::-1])[::-1]
    seen = float(np.flatnonzero(above > _TOP_SHARE * above[0])[-1]) - black.value
    tagged = white_dn - black.value
    return Quantity(tagged, min(seen, tagged), tagged, int(channel.light_counts.sum()), (Note(Remark.FROM_TAG),))


def _product(saturation_dn: Quantity, gain: Quantity) -> Quantity:
    if saturation_dn.value is None or gain.value is None:
        return unknown(saturation_dn, gain)
    value = saturation_dn.value * gain.value
    if saturation_dn.has(Remark.FROM_TAG):
        low, high = (saturation_dn.low or 0.0) * (gain.low or 0.0), (saturation_dn.high or 0.0) * (gain.high or 0.0)
        return Quantity(value, low, high, gain.n, saturation_dn.notes)
    relative = math.hypot(saturation_dn.se / saturation_dn.value, gain.se / gain.value)
    return with_relative_error(value, relative, min(saturation_dn.n, gain.n), *saturation_dn.notes)


def _bounded_product(noise_dn: Quantity, gain: Quantity) -> Quantity:
    """Read noise in electrons where rounding leaves only a bound of it in DN."""
    if noise_dn.value is None or gain.value is None:
        return unknown(noise_dn, gain)
    low, high = (noise_dn.low or 0.0) * (gain.low or 0.0), (noise_dn.high or 0.0) * (gain.high or 0.0)
    return Quantity(noise_dn.value * gain.value, low, high, noise_dn.n, noise_dn.notes)


def _lags(channel: Channel) -> LagSums | None:
    return pooled(part.lags for part in (*channel.light, *channel.dark) if part.lags is not None)


def _corrected(channel: Channel, saturation: float, black: float, limit: float) -> dict[Measurand, Quantity]:
    """Gain and read noise from the noise before the smoothing, beside the flagged ones."""
    clear = [p for p in channel.light if (p.signal.value or 0) + black + _CLEAR_SIGMAS * p.variance_dn2**0.5 < limit]
    fit = fit_transfer(
        [point for part in clear if (point := _before_smoothing(part)) is not None],
        _dark_point_before([part for part in channel.dark if part.lags is not None]),
        saturation,
    )
    return {
        Measurand.GAIN_E_PER_DN: fit.gain_e_per_dn,
        Measurand.READ_NOISE_E: fit.read_noise_e,
        Measurand.READ_NOISE_DN: fit.read_noise_dn,
    }


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
    return (
        parts[0]
        if parts
        else Banding(
            missing(Missing.NO_DARK_PAIR),
            missing(Missing.NO_DARK_PAIR),
            missing(Missing.NO_DARK_PAIR),
            missing(Missing.NO_DARK_PAIR),
        )
    )


# Over channels: gain weighted by 1/SE², noises root mean square, the rest means.


def _over_channels(found: Mapping[str, ChannelFindings], gathered: Gathered) -> ChannelFindings:
    def of(name: Measurand) -> list[Quantity]:
        return [one.quantities[name] for one in found.values()]

    def observed(name: Measurand) -> list[Quantity]:
        """Channels that reached their clip point speak for those that did not."""
        every = of(name)
        return [q for q in every if not q.has(Remark.FROM_TAG)] or every

    gain, saturation = weighted(of(Measurand.GAIN_E_PER_DN)), mean(observed(Measurand.SATURATION_DN))
    bands = _mean_band([one.banding for one in found.values()])
    noises = (rms(of(name)) for name in (Measurand.READ_NOISE_DN, Measurand.READ_NOISE_E))
    noise_dn, noise_e = (one.widened(_by_shared_rows(of(Measurand.READ_NOISE_DN), bands.row_dn)) for one in noises)
    quantities = {
        Measurand.GAIN_E_PER_DN: gain,
        Measurand.READ_NOISE_E: noise_e,
        Measurand.READ_NOISE_DN: noise_dn,
        Measurand.SATURATION_E: mean(observed(Measurand.SATURATION_E)),
        Measurand.CLIP_DN: mean(of(Measurand.CLIP_DN)),
        Measurand.BLACK_DN: mean(of(Measurand.BLACK_DN)),
        Measurand.PRNU: weighted(of(Measurand.PRNU)),
        Measurand.SATURATION_DN: saturation,
    }
    lags = pooled(sums for channel in gathered.channels.values() if (sums := _lags(channel)) is not None)
    cooked = verdict(lags)
    if not cooked.flag and any(one.cooked.flag for one in found.values()):
        cooked = replace(cooked, flag=True, notes=(Note(Remark.TOLD_BY_ONE_CHANNEL),))
    corrected: dict[Measurand, Quantity] = {}
    if cooked.flag:
        parts = [one.corrected for one in found.values() if one.corrected]
        corrected = {
            Measurand.GAIN_E_PER_DN: weighted([part[Measurand.GAIN_E_PER_DN] for part in parts]),
            Measurand.READ_NOISE_E: rms([part[Measurand.READ_NOISE_E] for part in parts]),
            Measurand.READ_NOISE_DN: rms([part[Measurand.READ_NOISE_DN] for part in parts]),
        } if parts else {}  # fmt: skip
    uses = [one.code_use for one in found.values() if one.code_use is not None]
    return ChannelFindings(
        quantities, _ranges(saturation, gain, noise_dn), cooked, corrected, bands,
        _joint_use(uses),
    )  # fmt: skip


def _by_shared_rows(noises: Sequence[Quantity], row_dn: Quantity) -> float:
    """By how much the error of read noise over channels grows as two of them lie in one row and share its noise: what rows add to
    the variance of σ², 2σ_row⁴/rows, does not average out between those two."""
    known = [one for one in noises if one.value and one.se]
    if not known or not row_dn.value or not row_dn.n:
        return 1.0
    by_rows = 2 * row_dn.value**4 / row_dn.n
    every = sum((2 * (one.value or 0.0) * one.se) ** 2 for one in known) / len(known)
    return math.sqrt(1 + min(1.0, by_rows / every))


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
