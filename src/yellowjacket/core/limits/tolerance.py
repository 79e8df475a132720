"""Tolerance profiles: what a tester accepts, as thresholds per criterion and grade."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

from yellowjacket.core.metrology.measurands import Better, Measurand

LEVELS = ("clean", "usable", "emergency")


@dataclass(frozen=True, slots=True)
class Criterion:
    """One thing that can go first.

    ``quantity``: the reading it looks at, at the use's size where it has one. ``thresholds``: clean, usable, emergency.
    """

    key: str
    label: str
    quantity: Measurand
    thresholds: tuple[float, float, float]
    # What gives it readings where there are none.
    needs: str = "measure first"

    @property
    def at_least(self) -> bool:
        """Whether more is better."""
        return self.quantity.described.better is Better.HIGHER

    def threshold(self, level: str) -> float:
        """The threshold of a level of LEVELS."""
        return self.thresholds[LEVELS.index(level)]

    def holds(self, value: float, level: str) -> bool:
        """Whether a value satisfies the level."""
        limit = self.threshold(level)
        return value >= limit if self.at_least else value <= limit


# Common practice, no source: settled so that bodies whose limits testers agree on come out where they say, pixel by pixel
# (tests/outside/test_common_practice.py).
DEFAULT_CRITERIA: tuple[Criterion, ...] = (
    Criterion("grey_snr", "grey SNR", Measurand.SNR, (16.0, 8.0, 4.0)),
    Criterion("shadow_snr", "shadow SNR", Measurand.SHADOW_SNR, (5.0, 2.5, 1.0)),
    Criterion("chroma_noise", "chroma noise", Measurand.NOISE_CHROMA, (4.3, 9.0, 22.0)),
    Criterion("neutral_drift", "neutral drift", Measurand.NEUTRAL_DRIFT_DE00, (2.0, 5.0, 10.0)),
    Criterion(
        "colour_separation",
        "colour separation",
        Measurand.COLOUR_SEPARATION,
        (4.0, 2.2, 1.0),
        "lay a grid over colour patches on the Measure page",
    ),
    Criterion("detail", "detail", Measurand.DETAIL_SHARE, (0.9, 0.6, 0.25), "mark a fine texture on the Measure page"),
)
# What black and white does not show.
COLOUR_CRITERIA = ("chroma_noise", "neutral_drift", "colour_separation")
# Of long exposures, common practice, no source: points that stand out, per megapixel of the sensor, and the SNR of a
# shadow three stops under grey that was exposed two stops short and lifted: half of what the shadow itself must have,
# as a quarter of the light leaves it.
LONG_CRITERIA: tuple[Criterion, ...] = (
    Criterion(
        "hot_pixels", "hot pixels per megapixel", Measurand.HOT_SHOWING_PER_MPIX, (10.0, 100.0, 500.0), "shoot darks"
    ),
    Criterion("lifted_shadow", "lifted-shadow SNR", Measurand.LIFTED_SHADOW_SNR, (5.0, 2.0, 1.0), "shoot darks"),
)


# Of exposure ladders: row noise as a share of the grey patch's signal; bands are seen in even areas long before single pixels
# are (common practice, no source).
EXPOSURE_CRITERIA: tuple[Criterion, ...] = (
    Criterion("banding", "banding", Measurand.ROW_NOISE_SHARE, (0.004, 0.012, 0.03)),
)


# Criteria of older versions, which profiles and archives made with those still hold.
_RETIRED = frozenset({"saturation_kept"})


@dataclass(frozen=True, slots=True)
class Profile:
    """A named set of criteria, those of long exposures, and what counts besides along an exposure ladder."""

    name: str
    criteria: tuple[Criterion, ...] = DEFAULT_CRITERIA
    long_exposure: tuple[Criterion, ...] = LONG_CRITERIA
    exposure: tuple[Criterion, ...] = EXPOSURE_CRITERIA

    @property
    def every(self) -> tuple[Criterion, ...]:
        """All its criteria."""
        return (*self.criteria, *self.long_exposure, *self.exposure)

    def seen_in(self, *, monochrome: bool) -> Profile:
        """The profile for a use: colour does not count in black and white."""
        if not monochrome:
            return self
        return replace(self, criteria=tuple(one for one in self.criteria if one.key not in COLOUR_CRITERIA))


def profile_from(name: str, thresholds: Mapping[str, object]) -> Profile:
    """The default criteria with a tester's own thresholds, ``{criterion key: [clean, usable, emergency]}``; None drops one, and
    one of an older version that nothing is read for any more is passed over.

    Raises ValueError, naming the criterion, for unknown keys and for thresholds out of order.
    """
    known = {criterion.key: criterion for criterion in (*DEFAULT_CRITERIA, *LONG_CRITERIA, *EXPOSURE_CRITERIA)}
    unknown = sorted(set(thresholds) - set(known) - _RETIRED)
    if unknown:
        raise ValueError(f"unknown criteria {', '.join(unknown)}; known are {', '.join(known)}")
    own, long, exposure = (
        tuple(
            _with(criterion, thresholds.get(criterion.key))
            for criterion in criteria
            if thresholds.get(criterion.key, ()) is not None
        )
        for criteria in (DEFAULT_CRITERIA, LONG_CRITERIA, EXPOSURE_CRITERIA)
    )
    return Profile(name, own, long, exposure)


def _with(criterion: Criterion, own: object) -> Criterion:
    if own is None:
        return criterion
    if not isinstance(own, (list, tuple)) or len(own) != len(LEVELS):
        raise ValueError(f"{criterion.label} needs three numbers: clean, usable, emergency")
    values = tuple(float(value) for value in own)
    ordered = tuple(sorted(values, reverse=criterion.at_least))
    # A NaN equals itself where it is the same object, so that order alone would let it through.
    if not all(map(math.isfinite, values)) or values != ordered or min(values) <= 0:
        way = "fall" if criterion.at_least else "rise"
        raise ValueError(f"{criterion.label}: clean, usable and emergency must {way} and be positive")
    clean, usable, emergency = values
    return replace(criterion, thresholds=(clean, usable, emergency))
