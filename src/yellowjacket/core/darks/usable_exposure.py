"""How long a body may expose: hot pixels and the lifted shadow against a tolerance profile, as shot, repaired, with LENR
and with a master dark, at any temperature.

Warmth counts as time: dark signal and the pixels that stand out of it depend on t·2^((T − T₀)/d) alone, so what was
counted at one temperature is read off at another.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.darks.exposure_group import TimeFindings
from yellowjacket.core.darks.hot_pixels import BAR_SPREADS, LASTING, PixelTable, cut_off, points_per_frame, showing_at
from yellowjacket.core.darks.temperature import USUAL_DOUBLING_C
from yellowjacket.core.exposure.iso12232 import MID_GREY_SHARE
from yellowjacket.core.exposure.notation import between_marks
from yellowjacket.core.limits.tolerance import Criterion
from yellowjacket.core.metrology.estimate import Z95, Quantity, missing
from yellowjacket.core.metrology.intervals import density
from yellowjacket.core.metrology.notes import Missing, Note, Remark, in_words

AS_SHOT, REPAIRED, WITH_LENR, WITH_MASTER = ANSWERS = ("as shot", "single-pixel repair", "LENR", "master dark")
# Darks in the master that the fourth answer assumes.
MASTER_FRAMES = 16
# Three stops under grey, exposed two stops short and lifted: the shadow whose SNR is looked at.
LIFTED_STOPS = 5.0
# Nobody exposes longer or shorter.
_SHORTEST_S, _LONGEST_S = 1 / 8, 8 * 3600.0
_BISECTIONS = 40
# A course beyond the darks that were shot is uncertain by this factor a stop of time.
_BEYOND_PER_STOP = 1.15
# A limit within so many stops is one; of a wider interval, or so far past the longest dark, nothing is known yet.
_TELLING_STOPS, _MOST_BEYOND_STOPS = 4.0, 3.0
# Hot pixels of one body double every so many degrees more or less than its ordinary ones (common practice, no source).
_HOT_DOUBLING_SPREAD_C = 1.5


@dataclass(frozen=True, slots=True)
class Counted:
    """Lasting pixels that stand out per megapixel of the sensor, with their interval, at seconds of the reference
    temperature."""

    warmed_s: float
    per_mpix: Quantity


@dataclass(frozen=True, slots=True)
class Course:
    """Counts along time for one answer, in order. ``measured``: False where they follow from other frames.

    More time never makes fewer: where fewer were counted later both count as their mean, a lower bound holds for all that
    comes after it, an upper one for all before.
    """

    points: tuple[Counted, ...]
    measured: bool = True

    def at(self, warmed_s: float, end: str = "value") -> float:
        """Per megapixel at a time; ``end``: value, low or high."""
        return self.along(end)(warmed_s)

    def along(self, end: str = "value") -> Callable[[float], float]:
        """Per megapixel by seconds, straight between points in logarithms; ``end``: value, low or high. Beyond the last point by
        the last slope, the interval widening. For who asks for many times: what does not depend on them is computed once."""
        logs = np.log2([one.warmed_s for one in self.points])
        # Half a pixel in the whole picture where none was seen: a logarithm needs something.
        values = np.log2(np.maximum(self._rising(end), 1e-3))
        # Fewer the shorter: by the first slope, never rising towards short times.
        before = max(0.0, _slope(logs[:2], values[:2])) if len(logs) > 1 else 1.0
        after = max(0.0, _slope(logs[-2:], values[-2:]))
        widening = {"low": -1.0, "high": 1.0}.get(end, 0.0) * math.log2(_BEYOND_PER_STOP)

        def at(warmed_s: float) -> float:
            x = math.log2(warmed_s)
            if x <= logs[0] or len(logs) == 1:
                return float(2.0 ** (values[0] + before * (x - logs[0])))
            if x >= logs[-1]:
                beyond = x - logs[-1]
                return float(2.0 ** (values[-1] + after * beyond + widening * beyond))
            return float(2.0 ** np.interp(x, logs, values))

        return at

    @property
    def any(self) -> bool:
        """Whether anything was counted at all."""
        return any(one.per_mpix.value for one in self.points)

    def _rising(self, end: str) -> NDArray[np.float64]:
        """Counts that never fall, of one end of the interval."""
        values = np.array([getattr(one.per_mpix, end) or 0.0 for one in self.points])
        if end == "low":
            return np.maximum.accumulate(values)
        if end == "high":
            return np.minimum.accumulate(values[::-1])[::-1]
        return _pooled(values, np.array([max(one.per_mpix.n, 1.0) for one in self.points]))


def _pooled(values: NDArray[np.float64], weights: NDArray[np.float64]) -> NDArray[np.float64]:
    """The rising course next to the values in weighted squares (pool adjacent violators; Ayer and others 1955, from memory)."""
    blocks: list[tuple[float, float, int]] = []
    for value, weight in zip(values.tolist(), weights.tolist(), strict=True):
        blocks.append((value, weight, 1))
        while len(blocks) > 1 and blocks[-2][0] > blocks[-1][0]:
            (one, its, count), (other, own, more) = blocks[-2:]
            blocks[-2:] = [((one * its + other * own) / (its + own), its + own, count + more)]
    return np.concatenate([np.full(count, value) for value, _, count in blocks])


def _slope(x: NDArray[np.float64], y: NDArray[np.float64]) -> float:
    return float((y[-1] - y[0]) / (x[-1] - x[0])) if x[-1] > x[0] else 0.0


@dataclass(frozen=True, slots=True)
class Shadow:
    """The lifted shadow: its signal and the read noise in e⁻, and the dark current in e⁻/s at the reference."""

    signal_e: float
    read_noise_e: float
    current: Quantity

    def snr(self, warmed_s: float, factor: float, darks: float, end: str = "value") -> float:
        """SNR at a use's size. ``darks``: darks that are taken off, 0 for none. ``end`` "low" is the worse."""
        rate = {"low": self.current.high, "high": self.current.low}.get(end, self.current.value) or 0.0
        own = self.read_noise_e**2 + max(rate, 0.0) * warmed_s
        added = own / darks if darks else 0.0
        return factor * self.signal_e / math.sqrt(self.signal_e + own + added)


def lifted_signal_e(saturation_e: float) -> float:
    """Electrons of the lifted shadow at an ISO whose range ends at ``saturation_e``."""
    return MID_GREY_SHARE * saturation_e / 2.0**LIFTED_STOPS


def courses(
    off: Sequence[tuple[float, TimeFindings]],
    on: Sequence[tuple[float, TimeFindings]],
    gain: float | None,
    factor: float,
    shadow_dn2: float = 0.0,
) -> dict[str, Course]:
    """The course of every answer at a use's size: what shows in a shadow whose light has a variance of ``shadow_dn2``.

    ``off``, ``on``: findings without and with LENR, each with its seconds at the reference temperature. Without frames taken
    with LENR its course is predicted from those without. What clips without a dark taken off is lost with one too: darks
    that had one taken off do not show that, pictures do.
    """
    plain = [(seconds, one.pixels) for seconds, one in off if one.pixels is not None]
    locked = [(seconds, one.pixels) for seconds, one in on if one.pixels is not None]
    found = {
        AS_SHOT: Course(_counted(plain, lambda table: showing_at(table, shadow_dn2, factor))),
        REPAIRED: Course(_counted(plain, lambda table: showing_at(table, shadow_dn2, factor, repaired=True))),
        WITH_MASTER: Course(
            _counted(plain, lambda table: left_after_darks(table, gain, MASTER_FRAMES, factor, shadow_dn2)), False
        ),
    }
    if len(locked) > 1:
        lost = Course(_counted(plain, cut_off)) if plain else None
        points = _counted(locked, lambda table: points_per_frame(table, shadow_dn2, factor))
        found[WITH_LENR] = Course(tuple(_with_lost(one, lost) for one in points))
    else:
        found[WITH_LENR] = Course(
            _counted(plain, lambda table: left_after_darks(table, gain, 1, factor, shadow_dn2)), False
        )
    return found


def _with_lost(one: Counted, lost: Course | None) -> Counted:
    """A count and those that had clipped by then, per megapixel."""
    if lost is None:
        return one
    value, low, high = (
        (getattr(one.per_mpix, end) or 0.0) + (lost.at(one.warmed_s, end) if lost.any else 0.0)
        for end in ("value", "low", "high")
    )
    return Counted(one.warmed_s, Quantity(value, low, high, one.per_mpix.n, one.per_mpix.notes))


def _counted(tables: Sequence[tuple[float, PixelTable]], count: Callable[[PixelTable], float]) -> tuple[Counted, ...]:
    """Counts by seconds; repeats of a time are taken together."""
    rows: dict[float, list[tuple[float, float]]] = {}
    for seconds, table in tables:
        rows.setdefault(round(seconds, 3), []).append((count(table), table.megapixels))
    return tuple(
        Counted(seconds, density(sum(n for n, _ in parts), sum(size for _, size in parts)))
        for seconds, parts in sorted(rows.items())
    )


def left_after_darks(
    table: PixelTable, gain: float | None, darks: int, factor: float = 1.0, shadow_dn2: float = 0.0
) -> float:
    """How many lasting pixels are expected to show, as points or holes, after ``darks`` averaged darks were taken off.

    A hot pixel's own shot noise stays: its residual is normal with variance s + (σ² + r/g)(1 + 1/M), s being the variance of
    the picture's shadow ``shadow_dn2``, against s + σ²(1 + 1/M) around, so that more darks do not hide it. A clipped one has
    lost its signal: it stays, or leaves a hole. Without a gain shot noise is left out.
    Raises ValueError for fewer darks than one.
    """
    from scipy.special import ndtr

    if darks < 1:
        raise ValueError("at least one dark is taken off")
    rows = table.of(LASTING)
    if not len(rows):
        return 0.0
    excess = rows["excess_dn"].astype(np.float64)
    shot = np.maximum(excess, 0) / gain if gain else np.zeros(len(rows))
    sigma = np.maximum(rows["sigma_dn"].astype(np.float64), 1e-9)
    around = np.sqrt(shadow_dn2 + sigma**2 * (1 + 1 / darks))
    own = np.sqrt(shadow_dn2 + (sigma**2 + shot) * (1 + 1 / darks))
    stands = 2 * ndtr(-BAR_SPREADS * factor * around / own)
    stands[excess >= table.clip_dn] = 1.0
    return float(stands.sum())


@dataclass(frozen=True, slots=True)
class Longest:
    """Largest usable exposure time in seconds with its interval, and what ends it.

    ``beyond``: the limit lies past the longest dark that was shot. ``predicted``: from other frames than those it speaks of.
    ``to_shoot``: where nothing is known yet, from which time to which darks would tell.
    """

    seconds: float | None
    low: float | None = None
    high: float | None = None
    criterion: str = ""
    beyond: bool = False
    predicted: bool = False
    why: Remark | Missing | None = None
    to_shoot: tuple[float, float] | None = None

    @property
    def note(self) -> Note | None:
        """Why there is no limit, or none that ends."""
        ends = tuple(map(between_marks, self.to_shoot)) if self.to_shoot else ()
        return Note(self.why, ends) if self.why else None

    @property
    def quantity(self) -> Quantity:
        """As a quantity in seconds; its remark names what ends it."""
        notes = [self.note] if self.note else []
        notes += [Note(Remark.LIMITED_BY, (self.criterion,))] if self.criterion else []
        notes += [Note(Remark.PAST_THE_LONGEST_DARK)] if self.beyond else []
        notes += [Note(Remark.PREDICTED)] if self.predicted else []
        return Quantity(self.seconds, self.low, self.high, 0, tuple(notes))

    @property
    def known(self) -> bool:
        """Whether the darks tell: that there is no time at all is known too."""
        return self.why is not Missing.NOT_KNOWN_YET

    @property
    def reason(self) -> str:
        """Why there is no limit, in words; empty where it has one."""
        return in_words((self.note,)) if self.note else ""


def longest(
    answer: str, course: Course, shadow: Shadow | None, criteria: Sequence[Criterion], level: str, *,
    factor: float = 1.0, celsius: float | None = None, reference_c: float | None = None,
    doubling_c: float = USUAL_DOUBLING_C, doubling_se_c: float = 0.0,
) -> Longest:  # fmt: skip
    """The largest time at which every criterion holds at a level, for one answer at a temperature.

    ``factor``: raw pixels to the side of an output pixel. ``celsius``, ``reference_c``: where the sensor is, and where
    the course was read; the same when either is None.
    """
    if len(course.points) < 2:
        return Longest(None, why=Missing.ONE_DARK_TIME)
    apart = 0.0 if celsius is None or reference_c is None else celsius - reference_c
    darks = {WITH_LENR: 1.0, WITH_MASTER: float(MASTER_FRAMES)}.get(answer, 0.0)

    # A doubling further off matters the more, the further the temperature is; and hot pixels have one of their own.
    swing = {
        one.key: abs(apart)
        / doubling_c**2
        * math.hypot(Z95 * doubling_se_c, _HOT_DOUBLING_SPREAD_C * (one.key == "hot_pixels"))
        for one in criteria
    }

    def ends(which: str) -> dict[str, float]:
        """By criterion, the seconds at the temperature asked for at which it ends; ``which`` of the interval."""
        worse = {"low": "high", "high": "low"}.get(which, "value")

        def lifted(seconds: float) -> float:
            return shadow.snr(seconds, factor, darks, which) if shadow is not None else math.inf

        looked_at = {"hot_pixels": course.along(worse), "lifted_shadow": lifted}
        way = {"low": -1.0, "high": 1.0}.get(which, 0.0)
        return {
            one.key: _last(looked_at[one.key], one, level) / 2.0 ** (apart / doubling_c) * 2.0 ** (way * swing[one.key])
            for one in criteria
        }

    if not criteria:
        return Longest(None, why=Missing.NO_CRITERION)
    lows, middles, highs = ends("low"), ends("value"), ends("high")
    low, middle, high = (min(one.values()) for one in (lows, middles, highs))
    # Whatever could be the first to end it is named, the likeliest first.
    named = sorted((one for one in criteria if lows[one.key] <= middle), key=lambda one: middles[one.key])
    label = " or ".join(one.label for one in named)
    predicted = not course.measured
    last = course.points[-1].warmed_s / 2.0 ** (apart / doubling_c)
    if _SHORTEST_S <= middle <= _LONGEST_S and (
        high > low * 2.0**_TELLING_STOPS or middle > last * 2.0**_MOST_BEYOND_STOPS
    ):
        least = max(low, _SHORTEST_S) if high > low * 2.0**_TELLING_STOPS else last
        to_shoot = (least, min(max(high, middle), _LONGEST_S))
        return Longest(None, criterion=label, predicted=predicted, why=Missing.NOT_KNOWN_YET, to_shoot=to_shoot)
    if middle < _SHORTEST_S:
        return Longest(None, criterion=label, predicted=predicted, why=Missing.OVER_AT_ONCE)
    if middle > _LONGEST_S:
        return Longest(last, min(low, last), _LONGEST_S, "", True, predicted, Remark.NOTHING_FAILS)
    return Longest(middle, min(low, middle), min(max(high, middle), _LONGEST_S), label, middle > last, predicted)


def _last(value: Callable[[float], float], criterion: Criterion, level: str) -> float:
    """The last time at which a criterion holds that fails for good once it fails, in seconds; 0 when it never holds."""
    low, high = math.log2(_SHORTEST_S / 64), math.log2(_LONGEST_S * 64)
    if not criterion.holds(value(2.0**low), level):
        return 0.0
    if criterion.holds(value(2.0**high), level):
        return float(2.0**high)
    for _ in range(_BISECTIONS):
        middle = (low + high) / 2
        low, high = (middle, high) if criterion.holds(value(2.0**middle), level) else (low, middle)
    return float(2.0**low)


@dataclass(frozen=True, slots=True)
class Growth:
    """How the number of hot pixels grows with time: count ∝ t^power, its interval, and per megapixel at 60 s."""

    power: Quantity
    at_minute: float | None


def growth(course: Course) -> Growth:
    """Power law through the counts of a course, weighted by their Poisson errors."""
    points = [one for one in course.points if one.per_mpix.n > 0 and one.per_mpix.value]
    if len(points) < 3:
        return Growth(missing(Missing.FEW_HOT_PIXEL_TIMES), None)
    x = np.log2([one.warmed_s for one in points])
    y = np.log2([one.per_mpix.value or 1.0 for one in points])
    weights = np.array([float(one.per_mpix.n) for one in points])
    middle = np.average(x, weights=weights)
    centred = x - middle
    spread = float(weights @ centred**2)
    power = float((weights * centred) @ y) / spread
    level = float(np.average(y, weights=weights))
    rest = y - level - power * centred
    # Poisson alone, or the scatter about the line where that is more: the same pixels are counted again and again.
    poisson = 1 / math.log(2) ** 2 / spread
    scatter = float(weights @ rest**2) / max(len(points) - 2, 1) / spread
    half = Z95 * math.sqrt(max(poisson, scatter))
    at_minute = 2.0 ** (level + power * (math.log2(60.0) - middle))
    return Growth(Quantity(power, power - half, power + half, int(weights.sum())), float(at_minute))


def per_area(per_mpix: Quantity, pixel_pitch_um: float | None) -> Quantity:
    """Per mm² of sensor instead of per megapixel: a megapixel covers pitch² mm²."""
    if not pixel_pitch_um:
        return missing(Missing.SENSOR_SIZE_UNKNOWN)
    return per_mpix.scaled(1 / pixel_pitch_um**2)


def by_channel(table: PixelTable) -> Mapping[str, int]:
    """Lasting pixels by colour channel."""
    codes = table.of(LASTING)["channel"]
    return {channel: int((codes == n).sum()) for n, channel in enumerate(table.channels)}
