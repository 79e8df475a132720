"""Long-exposure noise reduction, on against off: what it took away, what it added, what it cost, and whether it pays."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from yellowjacket.core.darks.exposure_group import TimeFindings
from yellowjacket.core.darks.hot_pixels import cut_off, points_per_frame
from yellowjacket.core.exposure.notation import shutter_label
from yellowjacket.core.limits.tolerance import Criterion
from yellowjacket.core.metrology.estimate import Z95, Quantity, missing, ratio
from yellowjacket.core.metrology.intervals import density
from yellowjacket.core.metrology.notes import Missing

# LENR that leaves so much of the hot pixels was not at work.
_LEFT_IDLE = 0.8
# One dark taken off adds as much variance as the frame has itself.
EXPECTED_NOISE_RATIO = math.sqrt(2)
_IDLE_NOISE_RATIO = 1.15


@dataclass(frozen=True, slots=True)
class LenrTime:
    """One exposure time off and on: points that show in a frame per megapixel, those that had clipped before and leave a hole,
    the share that went, noise on over off, seconds it cost.

    ``expected_ratio``: of the noise, from the dark signal at the warmth of either; ``apart_c``: how much warmer the sensor
    was with LENR. ``at_work``: whether the frames show that LENR did anything.
    """

    exposure_s: float
    temperature_c: float | None
    off: Quantity
    on: Quantity
    lost: Quantity
    removed: Quantity
    noise_ratio: Quantity
    cost_s: float
    at_work: bool
    expected_ratio: float = EXPECTED_NOISE_RATIO
    apart_c: float | None = None

    @property
    def counts(self) -> tuple[Quantity, Quantity, Quantity]:
        """Per megapixel: points off, points on, and clipped ones."""
        return self.off, self.on, self.lost


def lenr_times(
    off: Sequence[TimeFindings], on: Sequence[TimeFindings], factor: float = 1.0,
    own_variance: Callable[[TimeFindings], float | None] = lambda one: None, shadow_dn2: float = 0.0,
) -> list[LenrTime]:  # fmt: skip
    """Every time that was shot both ways, at a use's size. ``own_variance``: of a frame without LENR at the warmth of a
    time, in any unit; None where it is not known. ``shadow_dn2``: variance of the light of the shadow points are held against."""
    found = []
    for one in off:
        partner = next(
            (other for other in on if abs(math.log2(other.group.exposure_s / one.group.exposure_s)) < 0.03), None
        )
        if partner is None or one.pixels is None or partner.pixels is None:
            continue
        before, after = (points_per_frame(part.pixels, shadow_dn2, factor) for part in (one, partner) if part.pixels)
        lost = float(cut_off(one.pixels))
        noise = ratio(partner.noise_dn, one.noise_dn)
        left = after / before if before else 1.0
        at_work = (before > 0 and left < _LEFT_IDLE) or (noise.value or 1.0) > _IDLE_NOISE_RATIO
        found.append(
            LenrTime(
                one.group.exposure_s, one.group.temperature_c, density(before, one.pixels.megapixels),
                density(after, partner.pixels.megapixels), density(lost, one.pixels.megapixels),
                _removed(before, after + lost), noise,
                one.group.exposure_s if at_work else 0.0, at_work, _expected(own_variance(one), own_variance(partner)),
                _apart(one, partner),
            )
        )  # fmt: skip
    return sorted(found, key=lambda row: row.exposure_s)


def _expected(off: float | None, on: float | None) -> float:
    """One dark taken off doubles the variance that a frame has at its own warmth."""
    return EXPECTED_NOISE_RATIO * (math.sqrt(on / off) if off and on else 1.0)


def _apart(off: TimeFindings, on: TimeFindings) -> float | None:
    one, other = off.group.temperature_c, on.group.temperature_c
    return None if one is None or other is None else other - one


def _removed(before: float, after: float) -> Quantity:
    if not before:
        return missing(Missing.NO_HOT_PIXEL_TO_REMOVE)
    share = 1 - after / before
    half = Z95 * math.sqrt(max(after, 1) / before**2 * (1 + after / before))
    return Quantity(share, max(share - half, -1.0), min(share + half, 1.0), round(before))


@dataclass(frozen=True, slots=True)
class LenrVerdict:
    """Whether LENR pays: ``from_s`` the shortest time at which it does, None when at none; the sentence for people."""

    from_s: float | None
    words: str


def lenr_verdict(times: Sequence[LenrTime], criterion: Criterion, level: str) -> LenrVerdict:
    """It is worth its time where the frame as shot has more hot pixels than the level allows, and it takes half away."""
    if not times:
        return LenrVerdict(None, "no exposure time was shot with LENR both off and on yet")
    if not any(one.at_work for one in times):
        return LenrVerdict(None, "LENR changed nothing in these frames: was it on?")
    worth = [one for one in times if _pays(one, criterion, level)]
    if not worth:
        longest = times[-1].exposure_s
        if all(criterion.holds(one.off.value or 0.0, level) for one in times):
            return LenrVerdict(
                None,
                f"not needed up to {shutter_label(longest)}{_at(times[-1])}: it only costs time. Past that nothing was shot",
            )
        return LenrVerdict(
            None, f"it does not take half of the hot pixels away up to {shutter_label(longest)}{_at(times[-1])}"
        )
    first = worth[0].exposure_s
    below = [one for one in times if one.exposure_s < first]
    words = f"worth it from {shutter_label(first)}{_at(worth[0])}"
    if below:
        # The times shot enclose where it begins to pay: that is all the interval there is.
        enclosed = f"{shutter_label(below[-1].exposure_s)} and {shutter_label(first)}"
        words += f" (it begins between {enclosed}); below that it only costs time"
    return LenrVerdict(first, words)


def _at(one: LenrTime) -> str:
    return f" at {one.temperature_c:.0f} °C" if one.temperature_c is not None else ""


def _pays(one: LenrTime, criterion: Criterion, level: str) -> bool:
    too_many = not criterion.holds(one.off.value or 0.0, level)
    return one.at_work and too_many and (one.removed.value or 0.0) >= 0.5


def darks_wanted(stacked: int, dark_share: float = 1.0, allowed_growth: float = 1.05) -> int:
    """How many darks keep the noise of a stack within a factor of what it was."""
    return max(1, math.ceil(stacked * dark_share / (allowed_growth**2 - 1)))
