"""What a body's findings say of a picture that is still to be taken: SNR, highlights kept, grade, and which ISO to choose.

The same photons fall on the sensor whatever ISO is set: ISO decides read noise and where the highlights end. Grey is
0.127 of saturation at the correct exposure (ISO 12232; from memory).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from statistics import median

from yellowjacket.core.exposure.iso12232 import MID_GREY_SHARE
from yellowjacket.core.limits.iso_limits import Limit
from yellowjacket.core.limits.tolerance import LEVELS, Profile
from yellowjacket.core.metrology.estimate import Z95, Quantity, missing, unknown
from yellowjacket.core.metrology.notes import Missing, Note, Remark, in_words

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
    """What was measured at an ISO mark; ``iso`` exact, ``smoothed``: noise and range read too good there. ``seen``: what a
    profile looks at, by criterion key, as the record has it for the use; ``avoid``: why the mark is to be avoided."""

    mark: int
    iso: float
    read_noise_e: Quantity
    saturation_e: Quantity
    smoothed: bool = False
    seen: Mapping[str, Quantity] = field(default_factory=dict)
    avoid: tuple[Note, ...] = ()


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
                low.smoothed or high.smoothed,
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

    ``noise_factor``: by which SNR at the use's size exceeds that of a raw pixel. Raises ValueError for ISO that is not positive.
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
        _snr(grey, read, dark, noise_factor), _snr(grey.scaled(2.0**-SHADOW_STOPS), read, dark, noise_factor),
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
        shadow = _snr(own.scaled(2.0**-SHADOW_STOPS), found.read_noise_e, dark, noise_factor)
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


def gained(body: BodyFindings, otherwise: float) -> float:
    """By how much SNR at the use's size exceeds that of a raw pixel: the shadow as it was seen over what the model says of its
    pixels, the median of the marks. ``otherwise``: where no mark was seen, √(P/P_out)."""
    found = []
    for one in body.marks:
        seen, model = one.seen.get("shadow_snr"), predicted(body, one.iso, one.iso).shadow_snr
        if seen is not None and seen.value and model.value and not one.smoothed:
            found.append(seen.value / model.value)
    return median(found) if found else otherwise


def _snr(signal: Quantity, read: Quantity, dark_e: float, factor: float) -> Quantity:
    """N/√(N + R² + D), with the interval that those of N and R leave. What pixels respond differently by stays the same from
    frame to frame, so that it is no noise of a pair, here as on the ladder."""
    value_n, value_r = signal.value or 0.0, read.value or 0.0

    def at(n: float, r: float) -> float:
        return factor * n / math.sqrt(n + r**2 + dark_e)

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


@dataclass(frozen=True, slots=True)
class Asked:
    """What a picture is graded by: the profile as the use sees it, the limits of the record, the time, by how much SNR at the
    use's size exceeds that of a raw pixel, and the cast that a push brings out, ΔE00 by stops (None: not known so far out)."""

    profile: Profile
    limits: Mapping[str, Limit] = field(default_factory=dict)
    exposure_s: float = 0.0
    noise_factor: float = 1.0
    cast_at: Callable[[float], Quantity | None] = lambda _stops: None


def seen_when(body: BodyFindings, iso: float, wanted_iso: float, asked: Asked) -> dict[str, Quantity]:
    """What a profile looks at, by criterion key, of a picture shot at ``iso`` in the light that ``wanted_iso`` exposes.

    The same light was measured at the mark nearest to ``wanted_iso``. What was seen there is moved by what the noise model
    says of the difference: nothing where that mark itself is shot, so that advice and record agree. Noise of colour goes
    with that of grey, and how well colours are told apart against it; the cast of a push joins the drift of neutral as if
    their directions had nothing to do with each other; detail is that of the mark. Without readings the model alone speaks,
    of SNR.
    """
    here = predicted(body, iso, wanted_iso, asked.exposure_s, asked.noise_factor)
    nearest = min(
        (one for one in body.marks if one.seen), key=lambda one: abs(math.log2(one.iso / wanted_iso)), default=None
    )
    if nearest is None or here.grey_snr.value is None or abs(math.log2(nearest.iso / wanted_iso)) > BEYOND_STOPS:
        return {"grey_snr": here.grey_snr, "shadow_snr": here.shadow_snr}
    there = predicted(body, nearest.iso, nearest.iso, 0.0, asked.noise_factor)
    found = dict(nearest.seen)
    cleaner = _times(here.grey_snr, there.grey_snr)
    moves = {
        "grey_snr": cleaner, "shadow_snr": _times(here.shadow_snr, there.shadow_snr),
        "chroma_noise": 1 / cleaner if cleaner else 1.0, "colour_separation": cleaner,
    }  # fmt: skip
    for key, by in moves.items():
        if key in found and found[key].value is not None:
            found[key] = found[key].scaled(by)
    for key, model in (("grey_snr", here.grey_snr), ("shadow_snr", here.shadow_snr)):
        if key not in found or found[key].value is None:
            found[key] = model
    push = math.log2(wanted_iso / iso)
    cast = asked.cast_at(push) if push > _NO_PUSH_STOPS else None
    if cast is not None and cast.value is not None:
        found["neutral_drift"] = _joined(found.get("neutral_drift"), cast)
    return found


def _times(one: Quantity, other: Quantity) -> float:
    return (one.value or 0.0) / other.value if other.value else 1.0


def _joined(drift: Quantity | None, cast: Quantity) -> Quantity:
    """Two colour differences whose directions are independent of each other."""
    if drift is None or drift.value is None:
        return cast
    value = math.hypot(drift.value, cast.value or 0.0)
    low, high = (math.hypot(a or 0.0, b or 0.0) for a, b in ((drift.low, cast.low), (drift.high, cast.high)))
    return Quantity(value, min(low, value), max(high, value), min(drift.n, cast.n))


def level_of(seen: Mapping[str, Quantity], wanted_iso: float, asked: Asked) -> tuple[str, str]:
    """The best level of the profile whose criteria hold, and what keeps the picture from a better one.

    None is better than what the record's limits leave at ``wanted_iso``: no other ISO makes more of the same light.
    """
    held = ""
    for level in LEVELS:
        limit = asked.limits.get(level)
        if limit is not None and not _within(limit, wanted_iso):
            held = limit.criterion or limit.reason
            continue
        known = ((one, seen[one.key].value) for one in asked.profile.criteria if one.key in seen)
        failing = [(one, value) for one, value in known if value is not None and not one.holds(value, level)]
        if not failing:
            return level, held
        # What lies furthest off is what a tester would name.
        held = max(failing, key=lambda pair: abs(math.log2(max(pair[1], 1e-9) / pair[0].threshold(level))))[0].label
    return NOT_USABLE, held


# Marks as they are called lie up to this far from the ISO they stand for.
_ROUNDED = 1.02


def _within(limit: Limit, iso: float) -> bool:
    """Whether an ISO lies within a limit. The end of the ladder is none: what lies beyond is said to be extrapolated."""
    if limit.mark is None:
        return False
    return limit.crossing is None or iso <= limit.crossing * _ROUNDED


@dataclass(frozen=True, slots=True)
class Option:
    """One way to take the picture: the ISO to set, the push it needs, what it gives, its grade and what holds it back.

    ``seen``: what the profile looks at, by criterion key. ``avoid``: why the mark is to be avoided.
    """

    mark: int
    push_stops: float
    prediction: Prediction
    seen: Mapping[str, Quantity]
    level: str
    held_by: str
    avoid: tuple[Note, ...] = ()
    reason: str = ""

    @property
    def over_stops(self) -> float:
        """By how much it over-exposes, where it does."""
        return max(0.0, -self.push_stops)


def options(body: BodyFindings, wanted_iso: float, asked: Asked, marks: Sequence[int] = ()) -> list[Option]:
    """Every measured mark that does not over-expose by more than a sixth of a stop, best first.

    Best is the better level; among equals one that is not to be avoided, then the one that keeps more highlights, unless its
    shadow SNR is a quarter stop worse. ``marks``: the ISO marks to look at; empty for all that were measured.
    """
    found = []
    for one in sorted(body.marks, key=lambda mark: mark.iso):
        if math.log2(wanted_iso / one.iso) < -_NO_PUSH_STOPS or (marks and one.mark not in marks):
            continue
        option = option_at(body, one.iso, one.mark, wanted_iso, asked)
        if option.prediction.shadow_snr.value is not None:
            found.append(option)
    if not found:
        return []
    best_shadow = max(one.prediction.shadow_snr.value or 0.0 for one in found)
    order = [*LEVELS, NOT_USABLE]

    def rank(one: Option) -> tuple[int, bool, bool, float]:
        lost = math.log2(best_shadow / max(one.prediction.shadow_snr.value or 1e-9, 1e-9))
        return order.index(one.level), bool(one.avoid), lost > 0.25, -(one.prediction.highlight_stops.value or 0.0)

    ranked = sorted(found, key=rank)
    return [replace(one, reason=_reason(one, one is ranked[0], best_shadow)) for one in ranked]


def option_at(body: BodyFindings, iso: float, mark: int, wanted_iso: float, asked: Asked) -> Option:
    """What any ISO would give, measured or not, pushed or pulled to what is wanted; remarks say what it rests on."""
    prediction = predicted(body, iso, wanted_iso, asked.exposure_s, asked.noise_factor)
    seen = seen_when(body, iso, wanted_iso, asked)
    level, held = level_of(seen, wanted_iso, asked)
    avoid = next((one.avoid for one in body.marks if one.mark == mark), ())
    return Option(mark, math.log2(wanted_iso / iso), prediction, seen, level, held, avoid)


def _reason(option: Option, best: bool, best_shadow: float) -> str:
    lost = math.log2(best_shadow / max(option.prediction.shadow_snr.value or 1e-9, 1e-9))
    kept = (option.prediction.highlight_stops.value or 0.0) - math.log2(1 / MID_GREY_SHARE)
    parts = ["best"] if best else []
    if option.avoid:
        parts.append(f"to be avoided: {in_words(option.avoid, ', ')}")
    if kept > 0.2:
        parts.append(f"keeps {kept:.1f} stop{'s' if kept >= 1.05 else ''} more of the highlights than full exposure")
    parts.append(
        "shadows as clean as at any setting"
        if lost < 0.1
        else f"shadows {lost:.1f} stop{'s' if lost >= 1.05 else ''} noisier than the cleanest"
    )
    return ", ".join(parts)


def faster_by(now_iso: float, limit_iso: float) -> float:
    """By how many stops the shutter may be faster before a limit is reached; negative when it is passed already.

    Raises ValueError for ISO that is not positive.
    """
    if now_iso <= 0 or limit_iso <= 0:
        raise ValueError("ISO must be positive")
    return math.log2(limit_iso / now_iso)
