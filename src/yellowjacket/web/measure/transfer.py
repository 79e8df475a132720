"""The photon-transfer plot of one rung: noise against signal, the fitted line, and what is left of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.bench.models import Reading, Rung
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.raw.frame import CHANNEL_NAMES
from yellowjacket.web.graphics.scale import Scale
from yellowjacket.web.sheet.charts import Tick

WIDTH, HEIGHT, RESIDUALS = 640, 300, 110
_LEFT, _BOTTOM, _TOP = 52, 24, 8
# Residuals are drawn to this many per cent each way; what lies beyond stands at the edge.
# What points leave over, in per cent of the line.
_LEFT_OVER = Scale(-20.0, 20.0, RESIDUALS - 6, 6)
_LEAST_DN = 1.0


@dataclass(frozen=True, slots=True)
class Mark:
    """One patch in one channel: where it stands in both plots, how its marker is drawn, and its words."""

    x: float
    y: float
    residual_y: float
    channel: str
    title: str


@dataclass(frozen=True, slots=True)
class ChannelRow:
    """Fitted values of a channel, as readings that open their provenance."""

    channel: str
    gain: Reading
    noise: Reading | None


@dataclass(frozen=True, slots=True)
class TransferPlot:
    """What the template draws. ``lines``: the fit of each channel as SVG points."""

    marks: Sequence[Mark]
    lines: Sequence[tuple[str, str]]
    x_ticks: Sequence[Tick]
    y_ticks: Sequence[Tick]
    residual_ticks: Sequence[Tick]
    rows: Sequence[ChannelRow]
    patches: int

    width, height, residuals, left, top = WIDTH, HEIGHT, RESIDUALS, _LEFT, _TOP
    base = HEIGHT - _BOTTOM


def transfer_plot(rung: Rung) -> TransferPlot | None:
    """The plot of a rung from its stored readings; None when it has no fit."""
    names = (Measurand.SIGNAL_DN, Measurand.NOISE_DN, Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_DN)
    readings = Reading.objects.filter(rung=rung, quantity__in=names, value__isnull=False).select_related("patch")
    fits: dict[str, dict[str, Reading]] = {}
    patches: dict[tuple[int, str], dict[str, Reading]] = {}
    for reading in readings:
        place = fits.setdefault(reading.channel, {}) if reading.patch_id is None else patches.setdefault(
            (reading.patch_id, reading.channel), {}
        )  # fmt: skip
        place[reading.quantity] = reading
    fits = {channel: fit for channel, fit in fits.items() if channel != "all" and Measurand.GAIN_E_PER_DN in fit}
    found = [
        (channel, pair[Measurand.SIGNAL_DN], pair[Measurand.NOISE_DN])
        for (_, channel), pair in patches.items()
        if channel in fits
        and {Measurand.SIGNAL_DN, Measurand.NOISE_DN} <= pair.keys()
        and (pair[Measurand.SIGNAL_DN].value or 0) > 0
    ]
    if not found:
        return None
    # Below one number the read noise is all there is: such areas stand at the left edge.
    signals = [max(signal.value or 0.0, _LEAST_DN) for _, signal, _ in found]
    variances = [(noise.value or 0.0) ** 2 for _, _, noise in found]
    x_axis = _axis(min(signals), max(signals), _LEFT, WIDTH - 8)
    y_axis = _axis(min(variances), max(variances), HEIGHT - _BOTTOM, _TOP)
    marks = [_mark(channel, signal, noise, fits[channel], x_axis, y_axis) for channel, signal, noise in found]
    lines = [(channel, _line(fit, x_axis, y_axis)) for channel, fit in sorted(fits.items())]
    rows = [
        ChannelRow(channel, fits[channel][Measurand.GAIN_E_PER_DN], fits[channel].get(Measurand.READ_NOISE_DN))
        for channel in CHANNEL_NAMES
        if channel in fits
    ]
    residual_ticks = [
        Tick(_LEFT_OVER.at(percent), f"{percent:+.0f} %".replace("-", "−") if percent else "0")
        for percent in (-10, 0, 10)
    ]
    return TransferPlot(
        marks, lines, _ticks(x_axis), _ticks(y_axis), residual_ticks, rows, len({patch for patch, _ in patches})
    )


# Room beyond the points at either end of an axis, as a factor.
_ROOM = 2.0**0.3


def _axis(low: float, high: float, begin: float, end: float) -> Scale:
    return Scale(low / _ROOM, high * _ROOM, begin, end, logarithmic=True)


def _ticks(axis: Scale) -> list[Tick]:
    """Powers of ten, and where there are few of them their doubles and halves too."""
    low, high = axis.first * _ROOM, axis.last / _ROOM
    decades = range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1)
    steps = (1,) if len(decades) > 3 else (1, 2, 5)
    values = [step * 10.0**n for n in decades for step in steps]
    return [Tick(axis.at(v), f"{v:g}") for v in values if low * 0.85 <= v <= high * 1.2]


def _model(fit: dict[str, Reading], signal: float) -> float:
    noise = fit.get(Measurand.READ_NOISE_DN)
    gain = fit[Measurand.GAIN_E_PER_DN].value or math.inf
    return ((noise.value or 0.0) ** 2 if noise else 0.0) + signal / gain


def _mark(channel: str, signal: Reading, noise: Reading, fit: dict[str, Reading], x_axis: Scale, y_axis: Scale) -> Mark:
    s, variance = signal.value or 0.0, (noise.value or 0.0) ** 2
    left = 100 * (variance / _model(fit, s) - 1)
    title = f"{signal.patch}, {channel}: {s:.4g} DN, noise² {variance:.4g} DN², {left:+.1f} % from the line".replace(
        "-", "−"
    )
    return Mark(x_axis.at(max(s, _LEAST_DN)), y_axis.at(variance), _LEFT_OVER.at(left), channel, title)


def _line(fit: dict[str, Reading], x_axis: Scale, y_axis: Scale) -> str:
    count = 24
    low, high = x_axis.first * _ROOM, x_axis.last / _ROOM
    signals = [low * (high / low) ** (n / count) for n in range(count + 1)]
    return " ".join(f"{x_axis.at(s)},{y_axis.at(_model(fit, s))}" for s in signals)
