"""Pixels that are not like their neighbours, told from darks of one exposure time: hot, warm, stuck, dead, blinking,
transient.

r is what a pixel stands above the median of its neighbours of one colour; s the spread of r over its tile. A pixel is
hot when the mean of the repeats stands over 8 s, every repeat over 3.5 σ, and the repeats agree; warm when it only
stands over 5.5 s, and every repeat over 2 σ.
What shows in one repeat only is a transient, as from a cosmic ray; what comes and goes is blinking. A hole is darker than
its neighbours in single repeats: more was taken off than was there.

What stands out of a dark may be lost in a picture. What *shows* is held against another bar: 8 σ of a shadow of the picture.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.intervals import proportion
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.raw.frame import RawFrame

# In the order of their codes in an array of pixels.
KINDS = ("hot", "warm", "stuck", "dead", "blinking", "transient", "hole")
HOT, WARM, STUCK, DEAD, BLINKING, TRANSIENT, HOLE = KINDS
# Those that spoil a picture of a body in every frame.
LASTING = (HOT, STUCK)
# Bars, in spreads over the tile and in σ of one frame.
BAR_SPREADS, WARM_SPREADS = 8.0, 5.5
# From where on converters take a lone point for a fault; common practice, no source.
REPAIR_SPREADS = 3.0
_ONCE_SPREADS, _SHOWS_SPREADS = 8.0, 5.0
_EVERY_SIGMAS, _EVERY_WARM_SIGMAS, _AGREE_SIGMAS = 3.5, 2.0, 5.0
# Pixels that tell how repeats differ in warmth.
_BRIGHT_SPREADS, _FEWEST_BRIGHT = 30.0, 4
# So many bright pixels tell the gain by how their repeats differ; where they do not, repeats may differ by a share of their mean.
_FEWEST_TELLING, _QUIET_SHARE = 12, 0.35
_LEAST_GAIN, _MOST_GAIN, _HALVINGS = 1e-3, 1e3, 40
_AGREE_SHARE = 0.25
# Rough levels are those of a neighbour: what is looked at more closely lies a little under the bars.
_MARGIN_SPREADS = 1.5
_LEAST_SPREAD_DN = 0.29
_CLIPPED_SHARE = 0.99
# An excess stands on the dark level: from here on it may be cut off.
_CUT_SHARE = 0.9
# Repeats whose own excesses are kept; NaN where there were fewer.
_REPEATS_KEPT = 4
_PIXEL = np.dtype([
    ("x", "<u4"), ("y", "<u4"), ("channel", "u1"), ("kind", "u1"), ("excess_dn", "<f4"), ("spread_dn", "<f4"),
    ("sigma_dn", "<f4"), ("left_dn", "<f4"), ("single_dn", "<f4"), ("each_dn", "<f4", (_REPEATS_KEPT,)),
])  # fmt: skip


@dataclass(frozen=True, slots=True)
class HotPixel:
    """A pixel in the full raw frame: what it stands above its neighbours (DN), how many spreads that is, its class."""

    x: int
    y: int
    channel: str
    kind: str
    excess_dn: float
    spreads: float


@dataclass(frozen=True, slots=True, eq=False)
class PixelTable:
    """All outstanding pixels of one exposure time.

    ``rows``: x, y in the full raw frame, channel and kind as indices of ``channels`` and KINDS; in DN the excess over the
    neighbours, the spread of such excesses over the tile, σ of one frame, what is left of the excess after the repair
    that converters make of lone points, the spread of such excesses in a single frame, and the excess in each of the first
    repeats. ``size``: of the frame, (width, height). ``clip_dn``: of an excess that is cut off.
    """

    rows: NDArray[np.void]
    size: tuple[int, int]
    clip_dn: float
    channels: tuple[str, ...] = ("R", "G1", "G2", "B")

    @property
    def megapixels(self) -> float:
        """Of the frame that was looked at."""
        return self.size[0] * self.size[1] / 1e6

    @property
    def spread_dn(self) -> float:
        """Spread of ordinary excesses, in the middle of those listed; 1 where none is."""
        return float(np.median(self.rows["spread_dn"])) if len(self.rows) else 1.0

    @property
    def repair_bar_dn(self) -> float:
        """What a lone point must stand above all of its neighbours for a converter to repair it."""
        return REPAIR_SPREADS * self.spread_dn

    def of(self, kinds: Sequence[str]) -> NDArray[np.void]:
        """Rows of some kinds."""
        return self.rows[np.isin(self.rows["kind"], [KINDS.index(kind) for kind in kinds])]

    def pixels(self) -> Iterator[HotPixel]:
        """One by one, for lists and files."""
        for row in self.rows:
            yield HotPixel(
                int(row["x"]), int(row["y"]), self.channels[row["channel"]], KINDS[row["kind"]], float(row["excess_dn"]),
                float(row["excess_dn"] / row["spread_dn"]),
            )  # fmt: skip


def hot_pixels(
    frames: Sequence[RawFrame], gain_e_per_dn: float | None, shortest: RawFrame | None = None, bar: float = BAR_SPREADS
) -> PixelTable:
    """All that stand out of two or more darks of one time. ``shortest``: a dark of the shortest time, in which only
    stuck pixels clip as well. Raises ValueError for fewer than two frames, several sizes, or frames with a picture.
    """
    if len(frames) < 2 or len({frame.mosaic.shape for frame in frames}) != 1:
        raise ValueError("hot pixels are told from two or more darks of one size")
    layout = frames[0].layout
    found = [
        _candidates(frames, channel, number, bar)
        for channel in layout.channels
        for number in range(len(layout.sites(channel)))
    ]
    warming = _warming(found)
    gain_e_per_dn = gain_e_per_dn or _gain_by_repeats(found, warming)
    rows = [_told(one, frames[0], warming, gain_e_per_dn, shortest, bar) for one in found]
    white = frames[0].white_dn - min(frames[0].black_dn.values())
    return PixelTable(np.concatenate(rows), frames[0].size, _CUT_SHARE * white, layout.channels)


@dataclass(frozen=True, slots=True, eq=False)
class _Candidates:
    """Pixels of one site of a channel worth a closer look: places in its plane, excess of the mean and of each repeat,
    neighbours, spread of their tile; σ of one frame; the excess from which on it is cut off."""

    channel: str
    site: int
    places: NDArray[np.int32]
    mean: NDArray[np.float32]
    each: NDArray[np.float32]
    beside: NDArray[np.float32]
    spread: NDArray[np.float64]
    sigma: float
    cut: float

    @property
    def single(self) -> NDArray[np.float64]:
        """Spread of excesses in one frame: it scatters more than the mean of all."""
        return np.asarray(np.sqrt(self.spread**2 + self.sigma**2 * (1 - 1 / self.each.shape[1])))

    @property
    def whole(self) -> NDArray[np.bool_]:
        """Those that are cut off in no repeat."""
        return np.asarray(self.each.max(axis=1) < self.cut) if len(self.each) else np.zeros(0, np.bool_)


def _candidates(frames: Sequence[RawFrame], channel: str, site: int, bar: float) -> _Candidates:
    from yellowjacket.core.darks.pixel_statistics import (
        excesses,
        outstanding,
        repeat_sigma,
        sample_step,
        sampled,
        spread_at,
        spreads,
    )  # fmt: skip

    stack = np.stack([frame.planes(channel)[site] for frame in frames])
    step = sample_step(stack)
    levels, apart = sampled(stack, step)
    spread = spreads(apart, _LEAST_SPREAD_DN, step)
    sigma = repeat_sigma(stack)
    once = math.sqrt(1 + sigma**2 * (1 - 1 / len(frames)) / float(np.median(spread)) ** 2)
    least = min(WARM_SPREADS, bar) - _MARGIN_SPREADS
    places = outstanding(stack, step, levels, spread, least, (_ONCE_SPREADS - _MARGIN_SPREADS) * once)
    if places is None:
        raise ValueError("more than one pixel in twenty stands out: these frames are not darks, or have other settings")
    mean, each, beside = excesses(stack, places)
    cut = _CUT_SHARE * (frames[0].white_dn - frames[0].black_dn[channel])
    own = spread_at(spread, places, (stack.shape[1], stack.shape[2]))
    return _Candidates(channel, site, places, mean, each, beside, own, sigma, cut)


def _warming(found: Sequence[_Candidates]) -> NDArray[np.float32]:
    """How much more each repeat gathers than their mean: a body that warms up makes all pixels brighter together."""
    ratios = []
    for one in found:
        bright = one.whole & (one.mean > _BRIGHT_SPREADS * one.spread)
        ratios.append(one.each[bright] / one.mean[bright, None])
    pooled = np.concatenate(ratios)
    if len(pooled) < _FEWEST_BRIGHT:
        return np.ones(pooled.shape[1], np.float32)
    return np.asarray(np.median(pooled, axis=0))


def _gain_by_repeats(found: Sequence[_Candidates], warming: NDArray[np.float32]) -> float | None:
    """Gain in e⁻/DN from the darks alone: the repeats of what stands in all of them differ by its own shot noise, σ² + mean/g.

    From the quieter third of the pixels, so that what is hit besides moves little; None where too few stand out.
    """
    from scipy.stats import chi2

    means, variances, sigmas = [], [], []
    for one in found:
        bright = one.whole & (one.each.min(axis=1) > _EVERY_SIGMAS * one.sigma) & (one.mean > BAR_SPREADS * one.spread)
        level = one.each[bright] / warming
        means.append(one.mean[bright])
        variances.append(level.var(axis=1, ddof=1))
        sigmas.append(np.full(int(bright.sum()), one.sigma))
    mean, variance, sigma = (np.concatenate(parts).astype(np.float64) for parts in (means, variances, sigmas))
    if mean.size < _FEWEST_TELLING:
        return None
    repeats = warming.size - 1
    wanted = float(chi2.ppf(_QUIET_SHARE, repeats)) / repeats
    low, high = math.log(_LEAST_GAIN), math.log(_MOST_GAIN)
    for _ in range(_HALVINGS):
        middle = (low + high) / 2
        # More electrons to the DN are less shot noise in DN.
        fits = float(np.quantile(variance / (sigma**2 + mean / math.exp(middle)), _QUIET_SHARE)) < wanted
        low, high = (middle, high) if fits else (low, middle)
    told = math.exp(low)
    return told if 2 * _LEAST_GAIN < told < _MOST_GAIN / 2 else None


def _told(
    one: _Candidates, frame: RawFrame, warming: NDArray[np.float32], gain: float | None, shortest: RawFrame | None,
    bar: float,
) -> NDArray[np.void]:  # fmt: skip
    """Rows of the candidates of a channel that are not like the others."""
    kinds = _kinds(one, warming, gain, bar)
    places = one.places
    if shortest is not None:
        clip = _CLIPPED_SHARE * (shortest.white_dn - shortest.black_dn[one.channel])
        short = shortest.planes(one.channel)[one.site][places[:, 0], places[:, 1]] - np.float64(
            shortest.black_dn[one.channel]
        )
        kinds[(kinds == KINDS.index(HOT)) & (short > clip)] = KINDS.index(STUCK)
    told = kinds >= 0
    site = frame.layout.sites(one.channel)[one.site]
    rows = np.zeros(int(told.sum()), _PIXEL)
    rows["x"] = (site.column_step * places[told, 1] + site.column) // frame.layout.samples
    rows["y"] = site.row_step * places[told, 0] + site.row
    rows["channel"], rows["kind"] = frame.channels.index(one.channel), kinds[told]
    rows["excess_dn"], rows["spread_dn"], rows["sigma_dn"] = one.mean[told], one.spread[told], one.sigma
    # A converter replaces what stands above all its neighbours by their median; the lesser of two stays.
    rows["left_dn"] = np.where(one.mean > one.beside[:, 1], one.beside[:, 0], one.mean)[told]
    rows["single_dn"] = one.single[told]
    rows["each_dn"] = np.nan
    repeats = min(one.each.shape[1], _REPEATS_KEPT)
    rows["each_dn"][:, :repeats] = one.each[told, :repeats]
    return rows


def completed(rows: NDArray[np.void]) -> NDArray[np.void]:
    """The array of rows that an older version kept: where it did not keep single repeats, their mean stands for the first."""
    if rows.dtype == _PIXEL:
        return rows
    found = np.zeros(len(rows), _PIXEL)
    for name in set(rows.dtype.names or ()) & set(_PIXEL.names or ()):
        found[name] = rows[name]
    if "each_dn" not in (rows.dtype.names or ()):
        found["each_dn"] = np.nan
        found["each_dn"][:, 0] = rows["excess_dn"]
    return found


def _kinds(one: _Candidates, warming: NDArray[np.float32], gain: float | None, bar: float) -> NDArray[np.int8]:
    """Index of the kind of every candidate, −1 for those that are like the others."""
    mean, each, spread, sigma = one.mean, one.each, one.spread, one.sigma
    least, most = each.min(axis=1), each.max(axis=1)
    level = each / warming
    apart = level.max(axis=1) - level.min(axis=1)
    # Shot noise of the pixel's own dark signal lets its repeats differ.
    own = np.maximum(mean, 0) / gain if gain else (_AGREE_SHARE * mean) ** 2
    alike = apart < _AGREE_SIGMAS * np.sqrt(2 * (sigma**2 + own))
    # What is cut off in the warmest repeats tells nothing of how they differ: alike, if the others come near.
    alike |= (most >= one.cut) & (least > one.cut / 2)
    shows = (each > _SHOWS_SPREADS * one.single[:, None]).sum(axis=1)
    once = (most > _ONCE_SPREADS * one.single) | (mean > bar * spread)
    kinds = np.full(len(mean), -1, np.int8)
    kinds[once & (shows > 1)] = KINDS.index(BLINKING)
    kinds[once & (shows <= 1)] = KINDS.index(TRANSIENT)
    warm = alike & (least > _EVERY_WARM_SIGMAS * sigma) & (mean > min(WARM_SPREADS, bar) * spread)
    kinds[warm] = KINDS.index(WARM)
    kinds[warm & (least > _EVERY_SIGMAS * sigma) & (mean > bar * spread)] = KINDS.index(HOT)
    kinds[(kinds < 0) & (least < -_ONCE_SPREADS * one.single)] = KINDS.index(HOLE)
    kinds[(mean < -bar * spread) & (most < -_EVERY_SIGMAS * sigma)] = KINDS.index(DEAD)
    return kinds


def standing_at(table: PixelTable, factor: float = 1.0) -> int:
    """How many lasting pixels still stand out of the dark at a use's size, ``factor`` raw pixels to the side of an output pixel.

    Averaging over f × f pixels leaves 1/f² of the excess and 1/f of the spread, so that the bar is f times as high.
    """
    rows = table.of(LASTING)
    return int((rows["excess_dn"] > BAR_SPREADS * factor * rows["spread_dn"]).sum())


def showing_at(table: PixelTable, shadow_dn2: float, factor: float = 1.0, *, repaired: bool = False) -> int:
    """How many lasting pixels show in a picture's shadow at a use's size: over 8 σ of that shadow.

    ``shadow_dn2``: variance of its light in DN²; what the dark adds is the table's own. Held against single frames: more
    repeats make the count surer, not larger.
    """
    rows = table.of(LASTING)
    excess = rows["left_dn"] if repaired else rows["excess_dn"]
    return int((excess > _visible(rows, shadow_dn2, factor)).sum())


def _visible(rows: NDArray[np.void], shadow_dn2: float, factor: float) -> NDArray[np.float64]:
    """What a pixel must stand over its neighbours to show, DN, shape (rows,)."""
    single = rows["single_dn"].astype(np.float64)
    return np.asarray(BAR_SPREADS * factor * np.sqrt(shadow_dn2 + single**2))


def points_per_frame(table: PixelTable, shadow_dn2: float = 0.0, factor: float = 1.0) -> float:
    """How many points of either sign show in one frame, whatever they are: hits and blinking included.

    As ``showing_at``; told from LENR frames too, whose residuals differ from repeat to repeat. Without ``shadow_dn2`` all
    that stand out of the dark alone.
    """
    each = np.abs(table.rows["each_dn"])
    kept = np.isfinite(each)
    over = each > _visible(table.rows, shadow_dn2, factor)[:, None]
    return float((over.sum(axis=1) / np.maximum(kept.sum(axis=1), 1)).sum())


def cut_off(table: PixelTable) -> int:
    """How many pixels clip: what they stand over is lost, and a dark taken off leaves a hole."""
    return int((table.of((HOT, WARM, STUCK, BLINKING))["excess_dn"] >= table.clip_dn).sum())


def coming_back(tables: Sequence[PixelTable]) -> list[PixelTable]:
    """The same tables, with transients that show again at another time renamed: they blink."""
    flashes = [_places(table.of((TRANSIENT, BLINKING))) for table in tables]
    seen, counts = np.unique(np.concatenate([np.unique(one) for one in flashes] or [_NONE]), return_counts=True)
    again = seen[counts > 1]
    found = []
    for table in tables:
        rows = table.rows.copy()
        rows["kind"][(rows["kind"] == KINDS.index(TRANSIENT)) & np.isin(_places(rows), again)] = KINDS.index(BLINKING)
        found.append(PixelTable(rows, table.size, table.clip_dn, table.channels))
    return found


def rates_dn_per_s(table: PixelTable, times: Sequence[tuple[float, PixelTable]]) -> list[float | None]:
    """What every pixel of a table gathers in DN/s: from the longest time at which it was not cut off.

    ``times``: tables of one warmth with their exposure times, the table's own among them. None for a pixel that is cut
    off wherever it stands out.
    """
    best: dict[int, float] = {}
    for seconds, one in sorted(times, key=lambda item: item[0]):
        whole = one.rows["excess_dn"] < one.clip_dn
        for place, excess in zip(_places(one.rows[whole]).tolist(), one.rows["excess_dn"][whole].tolist(), strict=True):
            best[place] = excess / seconds
    return [best.get(place) for place in _places(table.rows).tolist()]


def also_in(table: PixelTable, others: Iterable[PixelTable]) -> Quantity:
    """Share of the lasting pixels that stand in any of the others as well, with its interval (Wilson).

    What persists is the sensor's; what does not was something else, or has healed.
    """
    own = _places(table.of(LASTING))
    if not own.size:
        return missing(Missing.NO_HOT_PIXEL_TO_FIND)
    there = np.isin(own, np.concatenate([_places(other.of((*LASTING, WARM))) for other in others] or [_NONE]))
    return proportion(float(there.mean()), own.size)


_NONE = np.zeros(0, np.int64)


def _places(rows: NDArray[np.void]) -> NDArray[np.int64]:
    return rows["y"].astype(np.int64) << 20 | rows["x"].astype(np.int64)
