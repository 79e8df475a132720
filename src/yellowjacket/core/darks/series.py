"""A ladder of darks as a whole: current, warmth, courses of hot pixels, LENR, longest usable exposure, faults."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from yellowjacket.core.darks.dark_current import DarkCurrent
from yellowjacket.core.darks.exposure_group import TimeFindings, noise_of
from yellowjacket.core.darks.faults import Fault, faults_of
from yellowjacket.core.darks.hot_pixels import coming_back, rates_dn_per_s, showing_at, standing_at
from yellowjacket.core.darks.lenr import LenrTime, lenr_times
from yellowjacket.core.darks.temperature import USUAL_DOUBLING_C, at_temperature, dark_law, warmed_s
from yellowjacket.core.darks.usable_exposure import (
    ANSWERS,
    Course,
    Growth,
    Longest,
    Shadow,
    courses,
    growth,
    lifted_signal_e,
    longest,
)
from yellowjacket.core.limits.tolerance import Criterion
from yellowjacket.core.metrology.estimate import Quantity, missing, unknown, with_error
from yellowjacket.core.metrology.intervals import density
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.metrology.robust import SIGMA_PER_MAD

_USUAL_SE_C = 0.9


@dataclass(frozen=True, slots=True)
class Known:
    """What other frames of the body say of its ISO setting; missing quantities where none do."""

    gain_e_per_dn: Quantity
    read_noise_e: Quantity
    saturation_e: Quantity


NOTHING_KNOWN = Known(*[missing(Missing.NO_LIGHT_FRAMES_MEASURED)] * 3)


class DarkLadder:
    """Everything that follows from the measured darks of one body at one ISO; times in order, LENR off and on apart."""

    def __init__(self, times: Sequence[TimeFindings], known: Known = NOTHING_KNOWN) -> None:
        ordered = sorted(times, key=lambda one: (one.group.exposure_s, one.group.temperature_c or 0.0))
        told = [one for one in ordered if one.pixels is not None]
        tables = coming_back([one.pixels for one in told if one.pixels is not None])
        renamed = {id(one): replace(one, pixels=table) for one, table in zip(told, tables, strict=True)}
        ordered = [renamed.get(id(one), one) for one in ordered]
        self.off = tuple(one for one in ordered if not one.group.lenr)
        self.on = tuple(one for one in ordered if one.group.lenr)
        self._known = known
        # By the size of a use: every level and answer of one rests on the same.
        self._courses: dict[float, Mapping[str, Course]] = {}

    @cached_property
    def _law(self) -> tuple[DarkCurrent, Quantity]:
        return dark_law(
            [one.tiles for one in self.off], [one.group.temperature_c for one in self.off], self._known.gain_e_per_dn
        )

    @property
    def current(self) -> DarkCurrent:
        """Dark current at the reference temperature, from the darks without LENR."""
        return self._law[0]

    @property
    def doubling(self) -> Quantity:
        """°C after which it doubles."""
        return self._law[1]

    @property
    def reference_c(self) -> float | None:
        """Temperature to which everything is referred; None when temperatures are not known."""
        return self.current.temperature_c

    @property
    def gain(self) -> Quantity:
        """e⁻/DN: from light frames, else from the darks themselves."""
        return self.current.gain

    @property
    def doubling_c(self) -> float:
        """The doubling temperature that serves: the body's, or the usual one."""
        return self.doubling.value or USUAL_DOUBLING_C

    def warmed(self, one: TimeFindings) -> float:
        """Seconds at the reference temperature that count as much as a time."""
        celsius, reference = one.group.temperature_c, self.reference_c
        if celsius is None or reference is None:
            return one.group.exposure_s
        return warmed_s(one.group.exposure_s, celsius, reference, self.doubling_c)

    @cached_property
    def _bias_dn(self) -> dict[str, float]:
        """Level of every channel at no time at all, by a line through its levels."""
        seconds = np.array([self.warmed(one) for one in self.off])
        several = len(set(seconds.tolist())) > 1
        found = {}
        for channel in self.off[0].tiles.medians if self.off else ():
            levels = np.array([one.tiles.medians[channel] for one in self.off])
            line = np.polyfit(seconds, levels, 1, w=1 / np.sqrt(1 + seconds)) if several else (0.0, levels.min())
            found[channel] = float(line[1])
        return found

    def _signal_e(self, one: TimeFindings, channels: Sequence[str]) -> Quantity:
        if self.gain.value is None:
            return unknown(self.gain)
        level = float(np.mean([one.tiles.medians[channel] - self._bias_dn[channel] for channel in channels]))
        means = np.mean([one.tiles.means[channel] for channel in channels], axis=0)
        spread = SIGMA_PER_MAD * float(np.median(np.abs(means - np.median(means)))) / math.sqrt(means.size)
        error = math.hypot(spread * self.gain.value, level * self.gain.se)
        return with_error(level * self.gain.value, error, means.size)

    def signal_e(self, one: TimeFindings) -> Quantity:
        """Dark signal of ordinary pixels in e⁻, over the channels."""
        return self._signal_e(one, list(one.tiles.medians))

    def of_channel(self, one: TimeFindings, channel: str) -> tuple[Quantity, Quantity]:
        """Dark signal in e⁻ and noise in DN of one channel at a time."""
        return self._signal_e(one, [channel]), noise_of([one.tiles.variances[channel]])

    @cached_property
    def _lifted_e(self) -> float | None:
        """Light of the lifted shadow at this ISO, None when no gain is known."""
        gain = self.gain.value
        if gain is None or not self.off:
            return None
        return lifted_signal_e(self._known.saturation_e.value or self.off[0].range_dn * gain)

    @property
    def shadow_dn2(self) -> float:
        """Variance of the lifted shadow's light in DN², against which it is told what shows; 0 without a gain."""
        gain = self.gain.value
        return self._lifted_e / gain**2 if self._lifted_e is not None and gain else 0.0

    @cached_property
    def shadow(self) -> Shadow | None:
        """The lifted shadow at this ISO, None when no gain is known or no current was measured."""
        gain = self.gain.value
        if gain is None or self._lifted_e is None or self.current.current.value is None:
            return None
        noise = self._known.read_noise_e.value
        if noise is None:
            shortest = self.off[0].noise_dn.value
            if shortest is None:
                return None
            noise = shortest * gain
        return Shadow(self._lifted_e, noise, self.current.current)

    def courses(self, factor: float = 1.0) -> Mapping[str, Course]:
        """Hot pixels along time by answer, at a use's size."""
        if factor not in self._courses:
            self._courses[factor] = courses(
                [(self.warmed(one), one) for one in self.off], [(self.warmed(one), one) for one in self.on],
                self.gain.value, factor, self.shadow_dn2,
            )  # fmt: skip
        return self._courses[factor]

    def longest(
        self, criteria: Sequence[Criterion], level: str, factor: float = 1.0, celsius: float | None = None
    ) -> dict[str, Longest]:
        """The four answers at a temperature, the reference's when None."""
        found = self.courses(factor)
        se = self.doubling.se if self.doubling.known else _USUAL_SE_C
        return {
            answer: longest(
                answer, found[answer], self.shadow, criteria, level, factor=factor, celsius=celsius,
                reference_c=self.reference_c, doubling_c=self.doubling_c, doubling_se_c=se,
            )
            for answer in ANSWERS
        }  # fmt: skip

    def current_at(self, celsius: float) -> Quantity:
        """Dark current predicted for a temperature, e⁻/s."""
        if self.reference_c is None:
            return missing(Missing.DARK_TEMPERATURE_UNKNOWN)
        return at_temperature(self.current.current, self.reference_c, celsius, self.doubling)

    def lenr(self, factor: float = 1.0) -> list[LenrTime]:
        """Times that were shot off and on."""
        return lenr_times(self.off, self.on, factor, self._own_variance, self.shadow_dn2)

    def _own_variance(self, one: TimeFindings) -> float | None:
        """R² + D in e⁻² at the warmth of a time."""
        if self.shadow is None:
            return None
        return self.shadow.read_noise_e**2 + max(self.shadow.current.value or 0.0, 0.0) * self.warmed(one)

    def growth(self) -> Growth:
        """How hot pixels grow in number with time, per pixel."""
        return growth(self.courses()["as shot"])

    def hot_per_mpix(self, one: TimeFindings, factor: float = 1.0) -> Quantity:
        """Lasting pixels of a time that stand out of the dark, per megapixel of the sensor."""
        if one.pixels is None:
            return missing(Missing.FEW_DARKS_FOR_HOT_PIXELS)
        return density(standing_at(one.pixels, factor), one.pixels.megapixels)

    def showing_per_mpix(self, one: TimeFindings, factor: float = 1.0, *, repaired: bool = False) -> Quantity:
        """Those of them that show in the lifted shadow at a use's size; over the dark's own noise where no gain is known."""
        if one.pixels is None:
            return missing(Missing.FEW_DARKS_FOR_HOT_PIXELS)
        found = density(showing_at(one.pixels, self.shadow_dn2, factor, repaired=repaired), one.pixels.megapixels)
        return found if self.shadow_dn2 else replace(found, notes=(Note(Remark.OVER_THE_DARK),))

    def snr(self, one: TimeFindings, factor: float = 1.0) -> Quantity:
        """SNR of the lifted shadow after a time, with LENR where the time had it."""
        if self.shadow is None:
            return missing(Missing.GAIN_UNKNOWN_OF_DARKS)
        darks = 1.0 if one.group.lenr else 0.0
        value, low, high = (self.shadow.snr(self.warmed(one), factor, darks, end) for end in ("value", "low", "high"))
        return Quantity(value, min(low, value), max(high, value), len(self.off))

    def rates_e_per_s(self, one: TimeFindings) -> list[float | None]:
        """What every outstanding pixel of a time gathers; None where it is cut off or no gain is known."""
        if one.pixels is None:
            return []
        own = self.on if one.group.lenr else self.off
        # Warmth counts as time: what a cooler dark gathered in a minute a warmer one gathers sooner.
        scale = one.group.exposure_s / self.warmed(one)
        alike = [(self.warmed(other) * scale, other.pixels) for other in own if other.pixels is not None]
        gain = self.gain.value
        rates = rates_dn_per_s(one.pixels, alike)
        return [None if rate is None or gain is None else rate * gain for rate in rates]

    @cached_property
    def faults(self) -> tuple[Fault, ...]:
        """Darks that are none; warmth is counted as time."""
        return tuple(
            faults_of([
                (one.group, replace(one.tiles, exposure_s=self.warmed(one)), one.range_dn) for one in self.off
            ])
        )  # fmt: skip
