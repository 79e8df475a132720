"""A body at one ISO, as far as a picture of it goes, and between the ISO settings it was measured at."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from statistics import median

from yellowjacket.core.exposure import dial
from yellowjacket.core.exposure.iso12232 import MID_GREY_SHARE
from yellowjacket.core.metrology.notes import Missing, Note, in_words

# Settings nearer than this are the same.
_SAME_STOPS = 0.02
# Read noise that falls by more from one setting to the next tells another gain: nobody knows where between them it sets in.
_ONE_GAIN = 0.85


class NoPicture(Exception):
    """Why a picture cannot be predicted: ``note`` typed, the message in words."""

    def __init__(self, note: Note) -> None:
        super().__init__(in_words([note]))
        self.note = note


@dataclass(frozen=True, slots=True)
class SensorAt:
    """What the model of a pixel needs at an ISO setting, by channel where its numbers differ.

    ``black_dn``: where the numbers really start; ``tag_dn``: where files say they do. ``read_noise_e``: of a pixel with all
    it has, the noise of lines ``row_noise_e`` and ``column_noise_e`` included, before any smoothing. ``correlation``: of
    neighbours of a channel, 0 without smoothing. ``code_step``: only every so manieth code is used.
    """

    iso: int
    gain_e_per_dn: Mapping[str, float]
    black_dn: Mapping[str, float]
    tag_dn: Mapping[str, float]
    clip_dn: float
    saturation_e: float
    read_noise_e: float
    row_noise_e: float = 0.0
    column_noise_e: float = 0.0
    correlation: float = 0.0
    code_step: float = 1.0

    @property
    def exact_iso(self) -> float:
        """In thirds of a stop, as dials mean it."""
        return dial.exact_iso(self.iso)

    @property
    def pixel_noise_e(self) -> float:
        """Read noise without that of lines."""
        return math.sqrt(max(self.read_noise_e**2 - self.row_noise_e**2 - self.column_noise_e**2, 0.0))


@dataclass(frozen=True, slots=True)
class Sensor:
    """A body as its ISO ladder knows it. ``response``: of each channel to a neutral of the scene, green 1; none unknown."""

    marks: Sequence[SensorAt]
    response: Mapping[str, float] = field(default_factory=dict)

    def grey_e(self, iso: float) -> float:
        """Electrons of grey in the light that ``iso`` exposes correctly. Saturation times ISO is the same at every mark but at
        low extended ones: the median stands for all. Raises NoPicture without a mark."""
        if not self.marks:
            raise NoPicture(Note(Missing.NO_ISO_WITH_MODEL))
        return MID_GREY_SHARE * median(one.saturation_e * one.exact_iso for one in self.marks) / iso

    def at(self, iso: float) -> SensorAt:
        """At a setting that was measured, or between two of them straight in logarithms. Raises NoPicture beyond
        them, and between two of different gain."""
        marks = sorted(self.marks, key=lambda one: one.exact_iso)
        for one in marks:
            if abs(math.log2(one.exact_iso / iso)) < _SAME_STOPS:
                return one
        for low, high in pairwise(marks):
            if low.exact_iso < iso < high.exact_iso:
                if high.read_noise_e < _ONE_GAIN * low.read_noise_e:
                    raise NoPicture(Note(Missing.GAIN_CHANGES_BETWEEN, (low.iso, high.iso)))
                return _between(low, high, iso)
        if not marks:
            raise NoPicture(Note(Missing.NO_ISO_WITH_MODEL))
        nearest = min(marks, key=lambda one: abs(math.log2(one.exact_iso / iso)))
        raise NoPicture(Note(Missing.BEYOND_MEASURED, (abs(math.log2(nearest.exact_iso / iso)), nearest.iso)))


def _between(low: SensorAt, high: SensorAt, iso: float) -> SensorAt:
    share = math.log2(iso / low.exact_iso) / math.log2(high.exact_iso / low.exact_iso)

    def mixed(one: float, other: float) -> float:
        if one > 0 and other > 0:
            return float(one ** (1 - share) * other**share)
        return one * (1 - share) + other * share

    def each(one: Mapping[str, float], other: Mapping[str, float]) -> dict[str, float]:
        return {channel: mixed(one[channel], other[channel]) for channel in one if channel in other}

    # Codes are multiplied, and the raw smoothed, at whole settings: the nearer one tells.
    nearer = low if share < 0.5 else high
    return replace(
        nearer, iso=round(iso), gain_e_per_dn=each(low.gain_e_per_dn, high.gain_e_per_dn),
        black_dn=each(low.black_dn, high.black_dn), saturation_e=mixed(low.saturation_e, high.saturation_e),
        read_noise_e=mixed(low.read_noise_e, high.read_noise_e), row_noise_e=mixed(low.row_noise_e, high.row_noise_e),
        column_noise_e=mixed(low.column_noise_e, high.column_noise_e),
    )  # fmt: skip
