"""Which master dark fits a light frame, and what a near one leaves."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from yellowjacket.core.darks.temperature import USUAL_DOUBLING_C
from yellowjacket.core.exposure.notation import shutter_label, with_sign

# A dark fits when ISO and time are equal and the sensor within a degree or two (common practice, no source).
TIME_SHARE, WARMTH_C = 0.02, 2.0


class Fit(StrEnum):
    """How well a dark fits."""

    FITS = "fits"
    UNSURE = "fits, temperature not known"
    WARMER = "another temperature"
    SCALED = "another time: only scaled, after the bias"
    NONE = "does not fit"


@dataclass(frozen=True, slots=True)
class Setting:
    """What a frame or a master was taken with; ``body`` and ``size`` as the application tells them apart."""

    body: str
    size: tuple[int, int]
    iso: float
    exposure_s: float
    temperature_c: float | None


@dataclass(frozen=True, slots=True)
class Match:
    """A master beside a wanted setting. ``residual``: share of the dark signal expected to stay (negative: taken off
    twice), None where it cannot be told. ``time_ratio``: light's time over the dark's."""

    key: int
    fit: Fit
    residual: float | None
    time_ratio: float
    words: str


def matches(wanted: Setting, masters: Iterable[tuple[int, Setting]], doubling_c: float | None = None) -> list[Match]:
    """Every master of the same body and size, the best first; others are left out."""
    found = [
        _match(key, wanted, own, doubling_c or USUAL_DOUBLING_C)
        for key, own in masters
        if own.body == wanted.body and own.size == wanted.size
    ]
    order = list(Fit)
    return sorted(found, key=lambda one: (order.index(one.fit), abs(one.residual or 0.0)))


def _match(key: int, wanted: Setting, own: Setting, doubling_c: float) -> Match:
    ratio = wanted.exposure_s / own.exposure_s
    if own.iso != wanted.iso:
        return Match(key, Fit.NONE, None, ratio, f"ISO {own.iso:g}, wanted {wanted.iso:g}")
    same_time = abs(ratio - 1) <= TIME_SHARE
    if wanted.temperature_c is None or own.temperature_c is None:
        fit, residual, words = Fit.UNSURE, None, "the temperature of one of them is not known"
    else:
        apart = wanted.temperature_c - own.temperature_c
        # The light's dark signal over the master's, less one.
        residual = 2.0 ** (apart / doubling_c) - 1
        fit = Fit.FITS if abs(apart) <= WARMTH_C else Fit.WARMER
        share = f"{100 * abs(residual):.0f} %"
        told = f"{share} of the dark signal is left" if residual > 0 else f"{share} too much of it is taken off"
        words = f"{with_sign(apart, 1)} °C: {told}"
        if not same_time and math.isclose(residual, 0.0, abs_tol=5e-4):
            words = "the same warmth"
    if not same_time:
        words = f"dark of {shutter_label(own.exposure_s)} × {ratio:.3g}; {words}"
        return Match(key, Fit.SCALED, residual, ratio, words)
    return Match(key, fit, residual, ratio, words)
