"""What the codes themselves tell: gaps from digital multiplication, doubled codes from division, the clip point."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing, Note, Remark

# Codes on either side whose mean tells what a code should hold.
_NEIGHBOURS = 8
_FEWEST_PIXELS = 12
FEWEST_CODES = 64
EMPTY_SHARE = 0.05
# A multiplied mark has gaps alike at low and high signal; a coding table has more of them higher up.
_THINNING = 1.5
_DOUBLED, _DOUBLED_PIXELS, DOUBLED_SHARE = 1.5, 50, 0.05
# A clip point holds this share of the pixels and this many times its neighbours.
_CLIP_SHARE, _CLIP_TIMES = 1e-4, 20.0


@dataclass(frozen=True, slots=True)
class CodeUse:
    """How a rung uses its codes: shares empty over all, over the lower and upper half, and doubled.

    ``usable``: codes whose neighbours are full enough to tell.
    """

    usable: int
    empty: float
    empty_low: float
    empty_high: float
    doubled: float


@dataclass(frozen=True, slots=True, eq=False)
class MissingCodes:
    """Which codes stay empty though their neighbours are full, and how many codes can tell."""

    missing: NDArray[np.bool_]
    telling: int


def missing_codes(counts: NDArray[np.int64]) -> MissingCodes:
    """The gaps in a histogram of one channel."""
    _, _, usable = _around(counts.astype(np.float64))
    return MissingCodes(usable & (counts == 0), int(usable.sum()))


def _around(values: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.bool_]]:
    """Mean counts of the codes below and above each, and whether both are full enough to tell."""
    padded = np.concatenate([np.zeros(_NEIGHBOURS + 1), np.cumsum(values), np.full(_NEIGHBOURS, values.sum())])
    at = np.arange(values.size) + _NEIGHBOURS
    below = (padded[at] - padded[at - _NEIGHBOURS]) / _NEIGHBOURS
    above = (padded[at + _NEIGHBOURS + 1] - padded[at + 1]) / _NEIGHBOURS
    usable = (below >= _FEWEST_PIXELS) & (above >= _FEWEST_PIXELS)
    usable[0] = False
    return below, above, usable


def code_use(counts: NDArray[np.int64], clip_code: int | None) -> CodeUse:
    """Shares of empty and doubled codes in a histogram of one channel; the clip code is left out."""
    values = counts.astype(np.float64)
    if clip_code is not None:
        values[clip_code:] = 0
    below, above, usable = _around(values)
    places = np.flatnonzero(usable)
    if places.size == 0:
        return CodeUse(0, 0.0, 0.0, 0.0, 0.0)
    empty = values[places] == 0
    half = places.size // 2
    around = (below + above)[places] / 2
    telling = around >= _DOUBLED_PIXELS
    doubled = values[places] > _DOUBLED * around
    return CodeUse(
        int(places.size), float(empty.mean()), float(empty[:half].mean()) if half else float(empty.mean()),
        float(empty[half:].mean()), float(doubled[telling].mean()) if telling.sum() >= FEWEST_CODES else 0.0,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class DigitalIso:
    """Whether a mark is made by arithmetic: ``flag`` None when it cannot be told; ``factor`` of the multiplication."""

    flag: bool | None
    empty_share: float | None
    factor: float | None
    why: Note | None = None

    @property
    def reason(self) -> str:
        """Why it is called so, in words; empty where its codes are all used."""
        return str(self.why) if self.why else ""


def digital_verdict(use: CodeUse, lowest: CodeUse | None) -> DigitalIso:
    """Judge a rung by its codes against those of the body's lowest rung (None for the lowest rung itself)."""
    if use.usable < FEWEST_CODES:
        return DigitalIso(None, None, None, Note(Missing.FEW_CODES, (use.usable,)))
    share = round(use.empty, 4)
    if use.empty <= EMPTY_SHARE:
        if use.doubled > DOUBLED_SHARE:
            return DigitalIso(True, share, 1 / (1 + use.doubled), Note(Remark.CODES_DOUBLED))
        return DigitalIso(False, share, None)
    if lowest is not None and lowest.usable >= FEWEST_CODES and lowest.empty > EMPTY_SHARE:
        return DigitalIso(False, share, None, Note(Remark.CODES_EMPTY_TOO))
    if lowest is None:
        return DigitalIso(False, share, None, Note(Remark.CODES_EMPTY_LOWEST))
    if use.empty_high > _THINNING * use.empty_low + EMPTY_SHARE:
        return DigitalIso(False, share, None, Note(Remark.CODES_THIN_OUT))
    return DigitalIso(True, share, 1 / (1 - use.empty), Note(Remark.CODES_MISSING))


# The normal distribution's 84.1 % point lies one σ above its middle.
_MIDDLE, _ONE_SIGMA_UP = 0.5, 0.8413447460685429
# A lowest code that holds less than this of a dark is the end of a tail, no pile.
_PILE_SHARE = 1e-3


def noise_of_cut_black(counts: NDArray[np.int64]) -> Quantity:
    """Noise of darks whose black is cut off at the lowest code, in DN: an upper bound, from what stands above it.

    The upper half of a normal distribution is whole as long as its middle is: σ is the distance from the middle to
    the 84.1 % point. Hot pixels and the fixed pattern are in it, so it is a bound. Unknown where black is not cut
    off, or the middle is.
    ``counts``: shape (codes,), how many pixels have each.
    """
    present = np.flatnonzero(counts)
    total = int(counts.sum())
    pile = counts[present[0]] if present.size > 2 else 0
    if pile <= _PILE_SHARE * total or pile <= counts[present[0] + 1]:
        return missing(Missing.BLACK_NOT_CUT)
    cumulative = np.cumsum(counts) / total
    if cumulative[present[0]] >= _MIDDLE:
        return missing(Missing.BLACK_CUT_AT_MIDDLE)
    edges = np.arange(counts.size) + 0.5
    middle, above = np.interp([_MIDDLE, _ONE_SIGMA_UP], cumulative, edges)
    sigma = float(above - middle)
    return Quantity(sigma, 0.0, sigma * (1 + 4 / math.sqrt(total)), total, (Note(Remark.UPPER_BOUND_CUT_BLACK),))


def clip_code(counts: NDArray[np.int64]) -> int | None:
    """The code at which a light frame stops, in one channel's histogram, or None when nothing piles up at the top."""
    present = np.flatnonzero(counts)
    if present.size == 0:
        return None
    top = int(present[-1])
    below = counts[max(top - _NEIGHBOURS, 0) : top]
    enough = counts[top] > _CLIP_SHARE * counts.sum()
    return top if enough and counts[top] > _CLIP_TIMES * max(float(below.mean()) if below.size else 0.0, 0.05) else None
