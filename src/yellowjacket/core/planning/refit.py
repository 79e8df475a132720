"""Fitting a saved plan to another body: marks to its dial, and every difference listed."""

from __future__ import annotations

from dataclasses import replace

from yellowjacket.core.exposure import apex, dial, notation
from yellowjacket.core.planning.body_limits import BodyLimits
from yellowjacket.core.planning.ladder import LadderSpec


def fit_to_body(spec: LadderSpec, body: BodyLimits) -> tuple[LadderSpec, tuple[str, ...]]:
    """The same ladder on another dial, and in words what had to change."""
    differences: list[str] = []
    fitted = spec
    if not body.has_iso(spec.metered.iso):
        nearest = body.nearest_iso(spec.metered.iso)
        moved = apex.stops_between(dial.exact_iso(spec.metered.iso), dial.exact_iso(nearest))
        exposure_s = dial.shutter_mark(apex.shift(dial.exact_exposure_s(spec.metered.exposure_s), -moved)).nominal
        fitted = replace(fitted, metered=replace(spec.metered, iso=float(nearest), exposure_s=exposure_s))
        differences.append(
            f"metered at ISO {nearest} and {notation.shutter_label(exposure_s)} instead of ISO {spec.metered.iso:g} and "
            f"{notation.shutter_label(spec.metered.exposure_s)}"
        )
    if spec.kind == "iso" and spec.picked:
        kept = tuple(iso for iso in spec.picked if body.has_iso(iso))
        if kept != spec.picked:
            gone = ", ".join(f"{iso:g}" for iso in spec.picked if iso not in kept)
            differences.append(f"without ISO {gone}, which the dial does not have")
            fitted = replace(fitted, picked=kept)
    if spec.lenr != "off" and body.lenr_from_s is None:
        fitted = replace(fitted, lenr="off")
        differences.append("without LENR, which the body does not have")
    elif spec.lenr == "pairs" and not body.lenr_switchable:
        fitted = replace(fitted, lenr="on")
        differences.append("LENR on throughout: it cannot be switched")
    for name, values in (("crossed", spec.crossed), ("values", spec.values if spec.method == "raw_mode" else ())):
        known = tuple(value for value in values if not body.raw_modes or value in body.raw_modes)
        if known != values:
            gone = ", ".join(value for value in values if value not in known)
            differences.append(f"without raw mode {gone}, which the body does not have")
            fitted = replace(fitted, **{name: known})  # type: ignore[arg-type]
    return fitted, tuple(differences)
