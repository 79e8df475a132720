"""What to watch out for on a rung: each caution says what happens, by how much, and what to do about it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yellowjacket.core.exposure import apex, dial, notation
from yellowjacket.core.exposure.flicker import flicker_error, is_whole_pulses
from yellowjacket.core.planning.ladder import Caution, LadderSpec, PlannedRung

if TYPE_CHECKING:
    from yellowjacket.core.planning.body_limits import BodyLimits

# An error below this is lost in the rounding of a good shutter.
_FLICKER_WORTH_STOPS = 0.05
# Green light; the disc of a point of light is 2.44·λ·N across (Airy).
_WAVELENGTH_UM = 0.55
_AIRY = 2.44
# From three pixels across on, fine texture loses contrast visibly. Common practice, no source.
_AIRY_PIXELS = 3.0
# Less than a stop down from wide open: vignetting and soft corners. Common practice, no source.
_NEAR_OPEN_STOPS = 0.9
_BULB_FROM_S = 30.0
# A mark further from the exact time than this shows in the exposure error.
_ROUNDING_STOPS = 1 / 6


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What the plan stands in: mains under the lamp (Hz, 0 for steady light), its modulation depth, the lens.

    ``widest_f``, ``narrowest_f``: aperture limits of the lens, None when not known. ``tripod``: False for
    hand-held, where ``focal_length_mm`` sets the slowest time.
    """

    mains_hz: float = 0.0
    modulation: float = 0.3
    tripod: bool = True
    focal_length_mm: float | None = None
    widest_f: float | None = None
    narrowest_f: float | None = None


def cautions_for(rung: PlannedRung, spec: LadderSpec, body: BodyLimits, around: Surroundings) -> tuple[Caution, ...]:
    """Every caution of a rung, the gravest first."""
    return tuple(
        caution
        for source in (_reach(rung, body), _time(rung, body, spec), _light(rung, around, spec), _optics(rung, body, around),
                       _settings(rung, body))
        for caution in source
    )  # fmt: skip


def _reach(rung: PlannedRung, body: BodyLimits) -> Iterator[Caution]:
    if rung.short_by_stops:
        fast = rung.short_by_stops > 0
        end = body.fastest_shutter_s if fast else body.slowest_shutter_s
        wanted = dial.shutter_mark(rung.wanted_s).label
        yield Caution(
            "reach", f"{abs(rung.short_by_stops):.1f} short",
            f"needs {wanted}; {abs(rung.short_by_stops):.1f} stop past the {'fastest' if fast else 'slowest'} shutter, "
            f"{notation.shutter_label(end)}",
        )  # fmt: skip
    elif abs(rung.rounding_stops) > _ROUNDING_STOPS:
        yield Caution(
            "rounding", "rounded",
            f"the nearest mark is {notation.with_sign(rung.rounding_stops)} stop off the exact time; it will show as "
            "exposure error",
        )  # fmt: skip


def _time(rung: PlannedRung, body: BodyLimits, spec: LadderSpec) -> Iterator[Caution]:
    seconds = rung.settings.exposure.exposure_s
    if seconds > _BULB_FROM_S:
        yield Caution("bulb", "bulb", "past the dial: bulb with a timer release, the timer counts true seconds")
    if rung.settings.lenr and body.lenr_from_s is not None and seconds < body.lenr_from_s:
        yield Caution(
            "lenr", "no LENR", f"LENR does nothing below {notation.shutter_label(body.lenr_from_s)} on this body"
        )
    elif rung.settings.lenr:
        yield Caution("lock-up", "time × 2", "the camera is busy as long again after the exposure")


def _light(rung: PlannedRung, around: Surroundings, spec: LadderSpec) -> Iterator[Caution]:
    if around.mains_hz <= 0 or spec.capped or rung.short_by_stops:
        return
    seconds = dial.exact_exposure_s(rung.settings.exposure.exposure_s)
    if is_whole_pulses(seconds, around.mains_hz):
        return
    error = flicker_error(seconds, around.mains_hz, around.modulation)
    if error.spread_stops < _FLICKER_WORTH_STOPS:
        return
    half_cycle = notation.shutter_label(1 / (2 * around.mains_hz))
    yield Caution(
        "flicker", f"{notation.with_sign(error.high_stops)} flicker",
        f"{around.mains_hz:g} Hz light pulses: from {notation.with_sign(error.low_stops)} to "
        f"{notation.with_sign(error.high_stops)} stop at {around.modulation:.0%} modulation; use multiples of "
        f"{half_cycle}, or light that does not flicker",
    )  # fmt: skip


def _optics(rung: PlannedRung, body: BodyLimits, around: Surroundings) -> Iterator[Caution]:
    f_number = rung.settings.exposure.f_number
    if around.widest_f is not None and apex.aperture_stops(f_number, around.widest_f) < _NEAR_OPEN_STOPS:
        yield Caution(
            "wide-open", "wide open", f"f/{f_number:g} is within a stop of wide open: stop down for even sharpness"
        )
    if around.narrowest_f is not None and f_number > around.narrowest_f * 1.03:
        yield Caution("narrow", "no such stop", f"the lens stops down to f/{around.narrowest_f:g} only")
    if body.pixel_pitch_um:
        pixels = _AIRY * _WAVELENGTH_UM * f_number / body.pixel_pitch_um
        if pixels >= _AIRY_PIXELS:
            yield Caution(
                "diffraction", "diffraction",
                f"at f/{f_number:g} a point of light is {pixels:.1f} pixels across: fine texture softens on every rung",
            )  # fmt: skip
    if not around.tripod and around.focal_length_mm:
        slowest = 1 / (around.focal_length_mm * (body.crop_factor or 1.0))
        if rung.settings.exposure.exposure_s > slowest:
            yield Caution(
                "hand-held",
                "shake",
                f"hand-held at {around.focal_length_mm:g} mm wants 1/{round(1 / slowest)} s or shorter",
            )


def _settings(rung: PlannedRung, body: BodyLimits) -> Iterator[Caution]:
    if rung.extended:
        low = rung.settings.exposure.iso < body.native_lowest_iso
        text = "extended ISO: switch it on in the menu"
        yield Caution("extended", "extended", text + ("; it gives up highlights" if low else ""))
    if rung.settings.value and body.raw_modes and rung.settings.value in body.raw_modes[1:]:
        yield Caution(
            "reduced", "reduced raw", f"{rung.settings.value} raw has other pixels: it is never compared per pixel"
        )
    for one in rung.settings.filters:
        if abs(one.true_stops - one.nominal_stops) > _ROUNDING_STOPS or one.tint:
            tint = f", tint {one.tint}" if one.tint else ""
            yield Caution(
                "filter", "filter", f"{one.name} takes {one.true_stops:g} stop, engraved {one.nominal_stops:g}{tint}"
            )
