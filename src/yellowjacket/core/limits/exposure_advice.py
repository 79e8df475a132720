"""What a body's findings say of a picture that is still to be taken: SNR, highlights kept, grade, and which ISO to choose.

The same photons fall on the sensor whatever ISO is set: ISO decides read noise and where the highlights end. Grey is
0.127 of saturation at the correct exposure (ISO 12232; from memory).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from yellowjacket.core.exposure.iso12232 import MID_GREY_SHARE
from yellowjacket.core.limits.tolerance import LEVELS, Profile
from yellowjacket.core.metrology.estimate import Z95, Quantity, missing, unknown
from yellowjacket.core.metrology.notes import Missing, Note, Remark

SHADOW_STOPS = 3.0
# Incident-light constant of a meter (ISO 2720; from memory): lux at ISO 100 for N² / t = 1.
_INCIDENT_LUX = 2.5
# Marks that lie closer than this to the wanted exposure need no push.
_NO_PUSH_STOPS = 1 / 6
# Beyond the measured marks the model is not stretched further than this.
BEYOND_STOPS = 1.0
NOT_USABLE = "not usable"


@dataclass(frozen=True, slots=True)
class MarkFindings:
    """What was measured at an ISO mark; ``iso`` exact, ``smoothed``: noise and range read too good there."""

    mark: int
    iso: float
    read_noise_e: Quantity
    saturation_e: Quantity
    prnu: float = 0.0
    smoothed: bool = False


@dataclass(frozen=True, slots=True)
class BodyFindings:
    """A body as its ISO ladder knows it. ``dark_e_per_s``: mean dark signal at the temperature asked for, None unknown."""

    marks: Sequence[MarkFindings]
    dark_e_per_s: float | None = None


@dataclass(frozen=True, slots=True)
class Prediction:
    """Of one ISO, time and light: SNR of grey and of a shadow three stops under it, per pixel or at a use; stops of
    highlights kept above grey; remarks on what it rests on."""

    grey_snr: Quantity
    shadow_snr: Quantity
    highlight_stops: Quantity
    remarks: tuple[Note, ...] = ()


def ev100_of_lux(lux: float) -> float:
    """Exposure value at ISO 100 of incident light: N²/t = E·S/C with C = 250. Raises ValueError for no light."""
    if lux <= 0:
        raise ValueError("there must be light: more than 0 lux")
    return math.log2(lux / _INCIDENT_LUX)


def iso_for(f_number: float, exposure_s: float, ev100: float) -> float:
    """The ISO at which aperture and time expose correctly: 100·2^(log2(N²/t) − EV). Raises ValueError for what cannot be."""
    if f_number <= 0 or exposure_s <= 0:
        raise ValueError("aperture and time must be positive")
    return 100 * 2.0 ** (math.log2(f_number**2 / exposure_s) - ev100)


def at_iso(body: BodyFindings, iso: float) -> tuple[MarkFindings | None, tuple[Note, ...]]:
    """Findings at any ISO: those of a mark, or between two marks straight in logarithms; remarks say what was done.

    Up to BEYOND_STOPS outside the marks the nearest stands in, with saturation following ISO; further out, None.
    """
    known = sorted(
        (one for one in body.marks if one.read_noise_e.value and one.saturation_e.value), key=lambda one: one.iso
    )
    if not known:
        return None, (Note(Missing.NO_ISO_WITH_MODEL),)
    nearest = min(known, key=lambda one: abs(math.log2(one.iso / iso)))
    if abs(math.log2(nearest.iso / iso)) < 0.02:
        return nearest, ()
    for low, high in pairwise(known):
        if low.iso < iso < high.iso:
            share = math.log2(iso / low.iso) / math.log2(high.iso / low.iso)
            between = MarkFindings(
                round(iso), iso, _between(low.read_noise_e, high.read_noise_e, share),
                _between(low.saturation_e, high.saturation_e, share),
                low.prnu + share * (high.prnu - low.prnu), low.smoothed or high.smoothed,
            )  # fmt: skip
            return between, (Note(Remark.BETWEEN, (low.mark, high.mark)),)
    away = abs(math.log2(nearest.iso / iso))
    if away > BEYOND_STOPS:
        return None, (Note(Missing.BEYOND_MEASURED, (away, nearest.mark)),)
    saturation = nearest.saturation_e.scaled(nearest.iso / iso)
    return replace(nearest, mark=round(iso), iso=iso, saturation_e=saturation), (
        Note(Remark.EXTRAPOLATED, (away, nearest.mark)),
    )


def _between(one: Quantity, other: Quantity, share: float) -> Quantity:
    def mix(a: float | None, b: float | None) -> float | None:
        if not a or not b or a <= 0 or b <= 0:
            return None
        return a ** (1 - share) * b**share

    value = mix(one.value, other.value)
    if value is None:
        return unknown(one, other)
    return Quantity(value, mix(one.low, other.low), mix(one.high, other.high), min(one.n, other.n))


def predicted(
    body: BodyFindings, iso: float, wanted_iso: float, exposure_s: float = 0.0, noise_factor: float = 1.0
) -> Prediction:
    """A picture shot at ``iso`` in the light that ``wanted_iso`` would expose correctly; the rest is a push.

    ``noise_factor``: by which SNR rises at the use's size, √(P/P_out). Raises ValueError for ISO that is not positive.
    """
    if iso <= 0 or wanted_iso <= 0:
        raise ValueError("ISO must be positive")
    found, remarks = at_iso(body, iso)
    if found is None:
        nothing = Quantity(None, notes=remarks)
        return Prediction(nothing, nothing, nothing, remarks)
    saturation, read = found.saturation_e, found.read_noise_e
    dark = (body.dark_e_per_s or 0.0) * exposure_s
    if exposure_s > 1 and body.dark_e_per_s is None:
        remarks += (Note(Remark.WITHOUT_DARK_SIGNAL),)
    if found.smoothed:
        remarks += (Note(Remark.SMOOTHED_THERE),)
    grey = grey_e(body, wanted_iso)
    return Prediction(
        _snr(grey, read, found.prnu, dark, noise_factor),
        _snr(grey.scaled(2.0**-SHADOW_STOPS), read, found.prnu, dark, noise_factor),
        _highlights(saturation, grey), remarks,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class ChannelInLight:
    """A colour channel in light of another colour: the share of green's light that a neutral gives it, its shadow SNR per pixel
    or at a use, and its stops of highlights over grey."""

    name: str
    share: float
    shadow_snr: Quantity
    highlight_stops: Quantity


def in_light(
    body: BodyFindings, iso: float, wanted_iso: float, shares: tuple[float, float, float], exposure_s: float = 0.0,
    noise_factor: float = 1.0,
) -> list[ChannelInLight]:  # fmt: skip
    """Red, green and blue of a neutral in light that gives them these shares of green's. Empty where the ISO is not known.

    The meter is taken to hold green where it is in any light; electrons then follow the shares, and read noise does not.
    """
    found, _ = at_iso(body, iso)
    grey = grey_e(body, wanted_iso)
    if found is None or grey.value is None:
        return []
    dark = (body.dark_e_per_s or 0.0) * exposure_s
    rows = []
    for name, share in zip(("red", "green", "blue"), shares, strict=True):
        own = grey.scaled(share)
        shadow = _snr(own.scaled(2.0**-SHADOW_STOPS), found.read_noise_e, found.prnu, dark, noise_factor)
        rows.append(ChannelInLight(name, share, shadow, _highlights(found.saturation_e, own)))
    return rows


def grey_e(body: BodyFindings, wanted_iso: float) -> Quantity:
    """Electrons of grey in the light that an ISO exposes correctly, whatever ISO is set: 0.127 of saturation there.

    Saturation times ISO is the same at every mark but for low extended ones, whose wells are full before the converter ends:
    the median over the marks stands for all.
    """
    known = sorted(
        (one.saturation_e.scaled(one.iso) for one in body.marks if one.saturation_e.value),
        key=lambda product: product.value or 0.0,
    )
    if not known:
        return missing(Missing.NO_SATURATION_OF_BODY)
    return known[len(known) // 2].scaled(MID_GREY_SHARE / wanted_iso)


def _snr(signal: Quantity, read: Quantity, prnu: float, dark_e: float, factor: float) -> Quantity:
    """N/√(N + R² + D + (pN)²), with the interval that those of N and R leave."""
    value_n, value_r = signal.value or 0.0, read.value or 0.0

    def at(n: float, r: float) -> float:
        return factor * n / math.sqrt(n + r**2 + dark_e + (prnu * n) ** 2)

    value = at(value_n, value_r)
    step_n, step_r = signal.se or 0.0, read.se or 0.0
    slope_n = (at(value_n + step_n, value_r) - value) if step_n else 0.0
    slope_r = (at(value_n, value_r + step_r) - value) if step_r else 0.0
    spread = Z95 * math.hypot(slope_n, slope_r)
    return Quantity(value, value - spread, value + spread, min(signal.n, read.n))


def _highlights(saturation: Quantity, grey: Quantity) -> Quantity:
    """Stops from grey to saturation."""
    value = math.log2((saturation.value or 1.0) / (grey.value or 1.0))
    parts = [one.se / (one.value or 1.0) / math.log(2) for one in (saturation, grey)]
    spread = Z95 * math.hypot(*parts)
    return Quantity(value, value - spread, value + spread, min(saturation.n, grey.n))


def level_of(prediction: Prediction, profile: Profile) -> tuple[str, str]:
    """The best level of a profile whose SNR criteria hold, and the criterion that keeps it from a better one."""
    values: Mapping[str, Quantity] = {"grey_snr": prediction.grey_snr, "shadow_snr": prediction.shadow_snr}
    criteria = [one for one in profile.criteria if one.key in values]
    failed = ""
    for level in LEVELS:
        failing = [one for one in criteria if (value := values[one.key].value) is None or not one.holds(value, level)]
        if not failing:
            return level, failed
        failed = failing[0].label
    return NOT_USABLE, failed


@dataclass(frozen=True, slots=True)
class Option:
    """One way to take the picture: the ISO to set, the push it needs, what it gives, and why it stands where it stands."""

    mark: int
    push_stops: float
    prediction: Prediction
    level: str
    held_by: str
    reason: str

    @property
    def over_stops(self) -> float:
        """By how much it over-exposes, where it does."""
        return max(0.0, -self.push_stops)


def options(
    body: BodyFindings, wanted_iso: float, profile: Profile, exposure_s: float = 0.0, noise_factor: float = 1.0,
    marks: Sequence[int] = (),
) -> list[Option]:  # fmt: skip
    """Every measured mark that does not over-expose by more than a sixth of a stop, best first.

    Best is the better level; among equals the one that keeps more highlights, unless its shadow SNR is a quarter stop worse.
    ``marks``: the ISO marks to look at; empty for all that were measured.
    """
    found = []
    for one in sorted(body.marks, key=lambda mark: mark.iso):
        push = math.log2(wanted_iso / one.iso)
        if push < -_NO_PUSH_STOPS or (marks and one.mark not in marks):
            continue
        prediction = predicted(body, one.iso, wanted_iso, exposure_s, noise_factor)
        if prediction.shadow_snr.value is None:
            continue
        level, held = level_of(prediction, profile)
        found.append((one.mark, push, prediction, level, held))
    if not found:
        return []
    best_shadow = max(row[2].shadow_snr.value or 0.0 for row in found)
    order = [*LEVELS, NOT_USABLE]

    def rank(row: tuple[int, float, Prediction, str, str]) -> tuple[int, bool, float]:
        lost = math.log2(best_shadow / max(row[2].shadow_snr.value or 1e-9, 1e-9))
        return order.index(row[3]), lost > 0.25, -(row[2].highlight_stops.value or 0.0)

    ranked = sorted(found, key=rank)
    return [Option(*row, _reason(row, ranked[0], best_shadow)) for row in ranked]


def option_at(
    body: BodyFindings, iso: float, mark: int, wanted_iso: float, profile: Profile, exposure_s: float = 0.0,
    noise_factor: float = 1.0,
) -> Option:  # fmt: skip
    """What any ISO would give, measured or not, pushed or pulled to what is wanted; remarks say what it rests on."""
    prediction = predicted(body, iso, wanted_iso, exposure_s, noise_factor)
    level, held = level_of(prediction, profile)
    return Option(mark, math.log2(wanted_iso / iso), prediction, level, held, "as asked")


def _reason(
    row: tuple[int, float, Prediction, str, str], first: tuple[int, float, Prediction, str, str], best_shadow: float
) -> str:
    lost = math.log2(best_shadow / max(row[2].shadow_snr.value or 1e-9, 1e-9))
    kept = (row[2].highlight_stops.value or 0.0) - math.log2(1 / MID_GREY_SHARE)
    parts = []
    if row is first:
        parts.append("best")
    if kept > 0.2:
        parts.append(f"keeps {kept:.1f} stops more highlights than exposing to the full")
    parts.append("shadows as clean as any" if lost < 0.1 else f"shadows {lost:.1f} stop noisier than the cleanest")
    return ", ".join(parts)


def faster_by(now_iso: float, limit_iso: float) -> float:
    """By how many stops the shutter may be faster before a limit is reached; negative when it is passed already.

    Raises ValueError for ISO that is not positive.
    """
    if now_iso <= 0 or limit_iso <= 0:
        raise ValueError("ISO must be positive")
    return math.log2(limit_iso / now_iso)
