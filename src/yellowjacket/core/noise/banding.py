"""Row and column noise of a pair: what whole lines share, beyond what their pixels' own noise explains; bands of one line and
of many."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Z95, Quantity, missing
from yellowjacket.core.metrology.notes import Missing, Note, Remark

_FEWEST_LINES = 16
# What changes slower than this is no band but light or warmth: lines of the plane.
_LONGEST_LINES = 128
# A period is told where one place of the spectrum holds this share of all that lines have in common.
_PERIODIC_SHARE = 0.3
# Bands are told to be wide from this many raw lines on.
_WIDE_LINES = 4.0


@dataclass(frozen=True, slots=True)
class Banding:
    """σ of rows and columns in DN and as a share of the pixel noise. Not significant: value 0 up to the limit."""

    row_dn: Quantity
    column_dn: Quantity
    row_share: Quantity
    column_share: Quantity


def banding_of(a: NDArray[np.uint16], b: NDArray[np.uint16], step: int = 2) -> Banding:
    """Line noise of one channel's pair on (A − B)/√2, in DN: the spectrum of the line means over what pixels explain.

    ``step``: raw lines between two of the plane. Shapes (height, width), DN.
    """
    difference = (a.astype(np.float64) - b.astype(np.float64)) / math.sqrt(2)
    variance = float(np.var(difference, ddof=1))
    sigma = math.sqrt(variance)
    if min(difference.shape) < _FEWEST_LINES or sigma == 0:
        nothing = missing(Missing.FEW_LINES, _FEWEST_LINES)
        return Banding(nothing, nothing, nothing, nothing)
    rows, columns = (
        _line_noise(difference.mean(axis=1 - axis), variance / difference.shape[1 - axis], step) for axis in (0, 1)
    )
    return Banding(rows, columns, rows.scaled(1 / sigma), columns.scaled(1 / sigma))


def _line_noise(means: NDArray[np.float64], own: float, step: int) -> Quantity:
    """Root of the variance that lines share. Slow changes are left out: below the slowest band the spectrum goes on as it is just
    above. ``own``: variance of a line's mean by its pixels alone."""
    from scipy.fft import dct

    n = means.size
    # A cosine transform: what changes slowly stays in the first places, all the more without its slope and bend.
    along = np.linspace(-1, 1, n)
    power = dct(means - np.polyval(np.polyfit(along, means, 2), along), norm="ortho")[1:] ** 2
    slow = min(math.ceil(2 * n / _LONGEST_LINES), n // 4)
    bands, next_to = power[slow:], power[slow : 2 * slow]
    seen = (float(bands.sum()) + slow * float(next_to.mean())) / (n - 1)
    excess = seen - own
    weights = np.ones(bands.size)
    weights[: next_to.size] += slow / next_to.size
    # Without bands every place of the spectrum scatters by √2 of what it is.
    alone = own * math.sqrt(2 * float(weights @ weights)) / (n - 1)
    if excess <= Z95 * alone:
        upper = math.sqrt(max(excess, 0.0) + Z95 * alone)
        return Quantity(0.0, 0.0, upper, n, (Note(Remark.NOT_SIGNIFICANT, (upper,)),))
    periodic = _peak(bands - own, excess * (n - 1))
    # So do bands by chance, whose squares are 3 times as much on average; a period is there in every frame.
    scatter = 2 / 3 * bands**2
    if periodic is not None:
        scatter[periodic : periodic + 2] = 4 * bands[periodic : periodic + 2] * own
    se = math.hypot(math.sqrt(float(weights**2 @ scatter)) / (n - 1), alone)
    upper = math.sqrt(excess + Z95 * se)
    low = math.sqrt(max(excess - Z95 * se, 0.0))
    if periodic is not None:
        form = Note(Remark.BANDS_EVERY, (step * _period(bands - own, periodic, slow, n),))
        return Quantity(math.sqrt(excess), low, upper, n, (form,))
    # Where the spectrum begins over its mean is the width over which lines go together.
    width = step * float((next_to - own).mean()) / excess
    wide = (Note(Remark.BANDS_WIDE, (width,)),) if width > _WIDE_LINES else ()
    return Quantity(math.sqrt(excess), low, upper, n, wide)


def _peak(excess_at: NDArray[np.float64], total: float) -> int | None:
    """The first of two neighbouring places of the spectrum that hold a large share of all; None where none do. A period that is
    no whole part of the frame lies between two."""
    pairs = excess_at[:-1] + excess_at[1:]
    at = int(pairs.argmax())
    return at if pairs[at] > _PERIODIC_SHARE * total else None


def _period(excess_at: NDArray[np.float64], peak: int, slow: int, n: int) -> float:
    """Lines of the plane from band to band."""
    weights = np.maximum(excess_at[peak : peak + 2], 0.0)
    return 2 * n / (slow + peak + 1 + float(weights[1]) / float(weights.sum()))
