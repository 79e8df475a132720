"""Row and column noise of a pair: what whole lines share, beyond what their pixels' own noise explains."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Z95, Quantity, missing
from yellowjacket.core.metrology.notes import Missing, Note, Remark

_FEWEST_LINES = 16


@dataclass(frozen=True, slots=True)
class Banding:
    """σ of rows and columns in DN and as a share of the pixel noise. Not significant: value 0 up to the limit."""

    row_dn: Quantity
    column_dn: Quantity
    row_share: Quantity
    column_share: Quantity


def banding_of(a: NDArray[np.uint16], b: NDArray[np.uint16]) -> Banding:
    """Line noise of one channel's pair: var(line means) − σ²/pixels a line, on (A − B)/√2, in DN.

    Shapes (height, width), DN.
    """
    difference = (a.astype(np.float64) - b.astype(np.float64)) / math.sqrt(2)
    variance = float(np.var(difference, ddof=1))
    sigma = math.sqrt(variance)
    if min(difference.shape) < _FEWEST_LINES or sigma == 0:
        nothing = missing(Missing.FEW_LINES, _FEWEST_LINES)
        return Banding(nothing, nothing, nothing, nothing)
    rows, columns = (
        _line_noise(difference.mean(axis=1 - axis), variance, difference.shape[1 - axis]) for axis in (0, 1)
    )
    return Banding(rows, columns, rows.scaled(1 / sigma), columns.scaled(1 / sigma))


def _line_noise(means: NDArray[np.float64], variance: float, per_line: int) -> Quantity:
    # A slow drift over the frame is no band: straight differences of neighbours, half their mean square.
    seen = float(np.mean(np.diff(means) ** 2)) / 2
    own = variance / per_line
    excess = seen - own
    # Neighbouring differences share a line: their mean square scatters by √(3/2) more than a variance does.
    se = seen * math.sqrt(3 / max(means.size - 1, 1))
    upper = math.sqrt(max(excess, 0.0) + Z95 * se)
    if excess <= Z95 * se:
        return Quantity(0.0, 0.0, upper, means.size, (Note(Remark.NOT_SIGNIFICANT, (upper,)),))
    value = math.sqrt(excess)
    return Quantity(value, math.sqrt(max(excess - Z95 * se, 0.0)), upper, means.size)
