"""Range from a step wedge: how many steps can be told apart, and where stray light ends the fall.

The wedge's steps are read as they are: signal and noise of each from a pair, the lightest first. Beside the range from
the noise model it tells what lens and scene left of it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

from yellowjacket.core.metrology.estimate import Z95, Quantity, missing, with_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.noise.two_frame import PairNoise

# Neighbouring steps are told apart when their difference is above so many standard errors of it.
_APART_SE = 2.0
# A step that falls by less than this share of what its density says is lit by stray light.
_FALLING = 0.5
FEWEST_STEPS = 3


@dataclass(frozen=True, slots=True)
class WedgeRange:
    """What a wedge gives, each in stops from the lightest step that is not clipped.

    ``at_snr``: down to where the SNR of a pixel falls below the wanted one, by wanted SNR. ``told_apart``: the steps
    that can be told apart at all. ``floor``: how deep the darkest steps fall before stray light holds them up, "at
    least" when they fall to the end.
    """

    at_snr: dict[float, Quantity]
    told_apart: Quantity
    floor: Quantity


def wedge_range(steps: Sequence[PairNoise], step_stops: float, wanted: Sequence[float] = (1.0, 4.0)) -> WedgeRange:
    """Range from the steps of a wedge, lightest first, each ``step_stops`` darker than the one before.

    Steps that could not be measured at the light end (clipped) are passed over; at the dark end they end the range.
    """
    seen = list(steps)
    while seen and not seen[0].signal.known:
        seen = seen[1:]
    seen = seen[: next((n for n, one in enumerate(seen) if not one.signal.known), len(seen))]
    if len(seen) < FEWEST_STEPS:
        nothing = missing(Missing.FEW_WEDGE_STEPS, FEWEST_STEPS)
        return WedgeRange(dict.fromkeys(wanted, nothing), nothing, nothing)
    return WedgeRange(
        {snr: _down_to(seen, snr) for snr in wanted}, _told_apart(seen, step_stops), _floor(seen, step_stops)
    )


def _depth(top: PairNoise, step: PairNoise) -> float:
    """Stops a step lies under the lightest, by its measured signal."""
    return math.log2((top.signal.value or 0.0) / (step.signal.value or 1.0))


def _snr(step: PairNoise) -> float:
    signal = step.signal.value or 0.0
    return signal / math.sqrt(step.variance_dn2) if signal > 0 and step.variance_dn2 > 0 else 0.0


def _relative_error(step: PairNoise) -> float:
    """Relative standard error of a step's SNR."""
    signal = step.signal.value or 0.0
    if signal <= 0 or step.variance_dn2 <= 0:
        return math.inf
    return math.hypot(step.signal.se / signal, step.variance_se_dn2 / (2 * step.variance_dn2))


def _down_to(steps: Sequence[PairNoise], snr: float) -> Quantity:
    """Stops from the lightest step to where the SNR falls below ``snr``, interpolated in the logarithms."""
    n = sum(step.n for step in steps)
    for above, below in pairwise(steps):
        first, second = _snr(above), _snr(below)
        if first < snr:
            return missing(Missing.LIGHTEST_STEP_TOO_NOISY, snr)
        if second >= snr:
            continue
        begin = _depth(steps[0], above)
        if second <= 0:
            return Quantity(begin, begin, begin, n, (Note(Remark.NEXT_STEP_IN_BLACK),))
        slope = math.log2(first / second) / math.log2((above.signal.value or 0.0) / (below.signal.value or 1.0))
        value = begin + math.log2(first / snr) / slope
        error = math.hypot(_relative_error(above), _relative_error(below)) / math.sqrt(2) / math.log(2) / slope
        return with_error(value, math.hypot(error, steps[0].signal.se / (steps[0].signal.value or 1.0)), n)
    depth = _depth(steps[0], steps[-1])
    return Quantity(depth, depth, depth, n, (Note(Remark.AT_LEAST_DARKEST_STEP),))


def _told_apart(steps: Sequence[PairNoise], step_stops: float) -> Quantity:
    count = 1
    for above, below in pairwise(steps):
        difference = (above.signal.value or 0.0) - (below.signal.value or 0.0)
        if difference <= _APART_SE * math.hypot(above.signal.se, below.signal.se):
            break
        count += 1
    whole = count == len(steps)
    value = (count - 1) * step_stops
    # A count has no scatter of its own: the next step is the interval's end.
    return Quantity(
        value, value, value if whole else value + step_stops, sum(step.n for step in steps),
        (Note(Remark.AT_LEAST_EVERY_STEP),) if whole else (),
    )  # fmt: skip


def _floor(steps: Sequence[PairNoise], step_stops: float) -> Quantity:
    """Depth at which steps stop falling, told where the fall is surely under half of what the density says."""
    top = steps[0]
    for above, below in pairwise(steps):
        first, second = above.signal, below.signal
        if (second.value or 0.0) <= Z95 * second.se or (first.value or 0.0) <= 0:
            break
        fall = math.log2((first.value or 0.0) / (second.value or 1.0))
        error = math.hypot(first.se / (first.value or 1.0), second.se / (second.value or 1.0)) / math.log(2)
        if fall + Z95 * error < _FALLING * step_stops:
            return with_error(_depth(top, below), error, below.n, Note(Remark.STRAY_LIGHT))
        last = below
    else:
        depth = _depth(top, last)
        return Quantity(depth, depth, depth, last.n, (Note(Remark.AT_LEAST_TO_THE_END),))
    depth = _depth(top, above)
    return Quantity(depth, depth, depth, above.n, (Note(Remark.AT_LEAST_NOISE_HIDES),))
