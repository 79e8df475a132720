"""How warm a sensor gets: a record of temperatures becomes a rise that a plan can expect.

A body at work gains heat at a steady rate and gives it off in proportion to its excess over the room (Newton's law
of cooling), so the excess T obeys τ·dT/dt = R·b(t) − T, with b 1 while it exposes or is locked up and 0 at rest:
R is the rise of endless work, τ the time constant.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Z95, Quantity

Busy = Sequence[tuple[float, float]]
# Time constants tried, in seconds: from a small body to a large one in a cage.
_CONSTANTS_S = tuple(float(t) for t in np.geomspace(60, 5400, 46))
# Fewer readings do not settle two unknowns.
FEWEST_NOTES = 4
_LEAST_RISE_C = 0.5
# Thermometers of bodies show whole degrees: a fit cannot be better than their rounding.
_THERMOMETER_C = 0.3


@dataclass(frozen=True, slots=True)
class TemperatureNote:
    """A sensor temperature in °C over the room's, ``at_s`` seconds into its run."""

    at_s: float
    excess_c: float


@dataclass(frozen=True, slots=True)
class WarmRun:
    """One stretch of work: busy intervals (begin, end) in seconds, in order, and what the thermometer said."""

    busy: tuple[tuple[float, float], ...]
    notes: tuple[TemperatureNote, ...]


@dataclass(frozen=True, slots=True)
class WarmthRecord:
    """What a body's notes allow: every time constant that fits, with its rise and the rise's standard error."""

    fits: tuple[tuple[float, float, float], ...]
    n: int

    def rises(self, busy: Busy, at_s: Sequence[float]) -> list[Quantity]:
        """Expected sensor temperature over the room's at moments of a plan, in °C, starting at the room's."""
        moments = np.array(at_s, dtype=np.float64)
        shares = np.array([_response(busy, moments, tau) for tau, _, _ in self.fits])
        rise, se = (np.array([fit[n] for fit in self.fits])[:, None] for n in (1, 2))
        low, high = (shares * (rise - Z95 * se)).min(axis=0), (shares * (rise + Z95 * se)).max(axis=0)
        values = shares[0] * rise[0]
        return [
            Quantity(float(v), max(float(least), 0.0), float(most), self.n)
            for v, least, most in zip(values, low, high, strict=True)
        ]


def learn(runs: Sequence[WarmRun]) -> WarmthRecord | None:
    """Fit R and τ to all runs, each with a starting excess of its own; None when the notes do not settle them.

    The first of ``fits`` is the best; the others fit no worse than the thermometer's error allows.
    """
    runs = [run for run in runs if len(run.notes) > 1]
    n = sum(len(run.notes) for run in runs)
    freedom = n - len(runs) - 1
    if n < FEWEST_NOTES or freedom < 1:
        return None
    found = [(*_fit(runs, tau, freedom), tau) for tau in _CONSTANTS_S]
    least = min(found)
    allowed = least[0] + Z95**2 * max(least[0] / freedom, _THERMOMETER_C**2)
    fits = sorted((rss, tau, rise, se) for rss, rise, se, tau in found if rss <= allowed and rise > 0)
    if not fits or fits[0][2] - Z95 * fits[0][3] < 0 or fits[0][2] < _LEAST_RISE_C:
        return None
    return WarmthRecord(tuple((tau, rise, se) for _, tau, rise, se in fits), n)


def _fit(runs: Sequence[WarmRun], tau: float, freedom: int) -> tuple[float, float, float]:
    """Residual sum of squares, rise and its standard error at one time constant."""
    rows, values = [], []
    for k, run in enumerate(runs):
        at = np.array([note.at_s for note in run.notes])
        start = np.zeros((len(at), len(runs)))
        start[:, k] = np.exp(-at / tau)
        rows.append(np.column_stack([_response(run.busy, at, tau), start]))
        values += [note.excess_c for note in run.notes]
    design, observed = np.vstack(rows), np.array(values)
    solution, _, rank, _ = np.linalg.lstsq(design, observed, rcond=None)
    if rank < design.shape[1]:
        return math.inf, 0.0, math.inf
    rss = float(np.sum((observed - design @ solution) ** 2))
    variance = max(rss / freedom, _THERMOMETER_C**2) * np.linalg.inv(design.T @ design)[0, 0]
    return rss, float(solution[0]), math.sqrt(float(variance))


def _response(busy: Busy, at_s: NDArray[np.float64], tau: float) -> NDArray[np.float64]:
    """Excess for R = 1 from a cold start at each moment, shape of ``at_s``: the sum over busy intervals."""
    total = np.zeros_like(at_s, dtype=np.float64)
    for begin, end in busy:
        after = at_s > begin
        done = np.minimum(at_s[after], end)
        total[after] += np.exp(-(at_s[after] - done) / tau) * (1 - np.exp(-(done - begin) / tau))
    return total
