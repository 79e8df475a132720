"""The photon transfer fit: conversion gain and read noise from noise against signal.

Source: Janesick, *Photon Transfer*; EMVA 1288 linear model (both from memory). σ² = σ_r² + S/g for
the temporal noise of a pair; S in DN, g in e⁻/DN.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yellowjacket.core.metrology.estimate import Quantity, missing, unknown, with_relative_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark

# A straight line through fewer points says nothing about its own fit.
_MIN_POINTS = 3
# χ²/dof above this: the line does not describe the data; refit below this share of saturation.
BAD_FIT = 3.0
_REFIT_SHARE = 0.7
_ITERATIONS = 12
# The signals must span this factor or the slope is a guess.
_MIN_SIGNAL_RATIO = 2.0


@dataclass(frozen=True, slots=True)
class TransferPoint:
    """Signal and temporal variance of one patch: DN, DN², and the standard error of the variance."""

    signal_dn: float
    variance_dn2: float
    variance_se_dn2: float
    n: int


@dataclass(frozen=True, slots=True)
class TransferFit:
    """Result of the fit. ``read_noise_source`` is "darks" or "intercept"; ``reduced_chi2`` is χ²/dof."""

    gain_e_per_dn: Quantity
    read_noise_dn: Quantity
    read_noise_e: Quantity
    read_noise_source: str
    reduced_chi2: float | None
    points: int


def fit_transfer(points: Sequence[TransferPoint], dark: TransferPoint | None, saturation_dn: float) -> TransferFit:
    """Weighted least squares of variance on signal, one channel at one ISO.

    ``points``: lit patches. ``dark``: the dark pair, signal 0, or None. ``saturation_dn`` above black.
    Weights come from the model's variance and are iterated; weights from the measured variance favour
    points that scattered low, and the gain reads high. Too little to fit gives quantities with a reason.
    """
    usable = [p for p in points if p.signal_dn > 0 and math.isfinite(p.variance_dn2) and p.variance_dn2 > 0]
    reason = _reason_against(usable, dark)
    dark_noise = _noise_of(dark)
    if reason:
        nothing = Quantity(None, notes=(reason,))
        return TransferFit(nothing, dark_noise or nothing, nothing, "darks" if dark_noise else "", None, len(usable))
    fit = _fit(usable, dark)
    remarks: tuple[Note, ...] = ()
    if fit.reduced_chi2 > BAD_FIT:
        below = [p for p in usable if p.signal_dn < _REFIT_SHARE * saturation_dn]
        if not _reason_against(below, dark):
            fit, usable = _fit(below, dark), below
            remarks = (Note(Remark.FITTED_BELOW_70),)
        if fit.reduced_chi2 > BAD_FIT:
            remarks = (Note(Remark.SCATTER, (fit.reduced_chi2,)),)
    n = sum(p.n for p in usable)
    if fit.slope <= 0:
        nothing = missing(Missing.NO_PHOTON_NOISE)
        return TransferFit(
            nothing, dark_noise or nothing, nothing, "darks" if dark_noise else "", fit.reduced_chi2, len(usable)
        )
    gain = with_relative_error(1 / fit.slope, fit.slope_se / fit.slope, n, *remarks)
    noise_dn, source = (dark_noise, "darks") if dark_noise else (_intercept_noise(fit, n), "intercept")
    return TransferFit(gain, noise_dn, _in_electrons(noise_dn, gain), source, fit.reduced_chi2, len(usable))


@dataclass(frozen=True, slots=True)
class _Line:
    intercept: float
    slope: float
    intercept_se: float
    slope_se: float
    reduced_chi2: float


def _reason_against(points: Sequence[TransferPoint], dark: TransferPoint | None) -> Note | None:
    if len(points) + (dark is not None) < _MIN_POINTS:
        return Note(Missing.FEW_PATCHES_FOR_FIT, (len(points),))
    if dark is None:
        signals = [p.signal_dn for p in points]
        if max(signals) < _MIN_SIGNAL_RATIO * min(signals):
            return Note(Missing.EQUALLY_BRIGHT)
    return None


def _fit(points: Sequence[TransferPoint], dark: TransferPoint | None) -> _Line:
    every = [*points, dark] if dark is not None else list(points)
    signal = np.array([0.0 if p is dark else p.signal_dn for p in every])
    variance = np.array([p.variance_dn2 for p in every])
    # Relative uncertainty of each variance: what its own statistics (n, kurtosis, correlation) gave.
    relative = np.array([p.variance_se_dn2 / p.variance_dn2 for p in every])
    model = variance.copy()
    scale = signal.max()
    design = np.column_stack([np.ones_like(signal), signal / scale])
    for _ in range(_ITERATIONS):
        weight = 1.0 / (relative * model) ** 2
        covariance = np.linalg.inv(design.T @ (design * weight[:, None]))
        parameters = covariance @ (design.T @ (weight * variance))
        # A point must not gain infinite weight by a model that touches zero.
        model = np.maximum(design @ parameters, 1e-3 * variance)
    chi2 = float(np.sum(weight * (variance - design @ parameters) ** 2))
    reduced = chi2 / max(len(every) - 2, 1)
    errors = np.sqrt(np.diag(covariance) * max(1.0, reduced))
    return _Line(
        float(parameters[0]), float(parameters[1]) / scale, float(errors[0]), float(errors[1]) / scale, reduced
    )


def _noise_of(dark: TransferPoint | None) -> Quantity | None:
    if dark is None or not dark.variance_dn2 > 0:
        return None
    relative = dark.variance_se_dn2 / (2 * dark.variance_dn2)
    return with_relative_error(math.sqrt(dark.variance_dn2), relative, dark.n)


def _intercept_noise(fit: _Line, n: int) -> Quantity:
    if fit.intercept <= 2 * fit.intercept_se:
        return missing(Missing.INTERCEPT_NOT_CLEAR)
    return with_relative_error(math.sqrt(fit.intercept), fit.intercept_se / (2 * fit.intercept), n)


def _in_electrons(noise_dn: Quantity, gain: Quantity) -> Quantity:
    if noise_dn.value is None or gain.value is None:
        return unknown(noise_dn, gain)
    relative = math.hypot(noise_dn.se / noise_dn.value, gain.se / gain.value)
    return with_relative_error(noise_dn.value * gain.value, relative, min(noise_dn.n, gain.n), *gain.notes)


def snr_at(signal_dn: float, gain_e_per_dn: float, read_noise_dn: float) -> float:
    """Temporal SNR at a signal in DN: N / sqrt(N + R²) with N = S·g, R = σ_r·g."""
    electrons = signal_dn * gain_e_per_dn
    return electrons / math.sqrt(electrons + (read_noise_dn * gain_e_per_dn) ** 2)
