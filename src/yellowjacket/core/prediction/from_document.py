"""A body's findings as ``yellowjacket characterise --json`` prints them, read as a sensor to predict pictures with.

Described by docs/characterisation.schema.json.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from yellowjacket.core.metrology.notes import Missing, Note
from yellowjacket.core.prediction.sensor_at import NoPicture, Sensor, SensorAt

# Where the growth with temperature was not measured (common practice, no source).
_DOUBLING_C = 6.0


def body_named(document: Mapping[str, Any], make: str, model: str) -> Mapping[str, Any]:
    """The body of a characterisation with this name. Raises NoPicture where it holds none of that name."""
    for one in bodies_of(document):
        if (one.get("make"), one.get("model")) == (make, model):
            return one
    raise NoPicture(Note(Missing.BODY_NOT_CHARACTERISED, (f"{make} {model}".strip() or "a body without a name",)))


def bodies_of(document: Mapping[str, Any]) -> Sequence[Mapping[str, Any]]:
    """The bodies of a characterisation. Raises ValueError for another document."""
    found = document.get("bodies") if isinstance(document, Mapping) else None
    if not isinstance(found, list) or not str(document.get("schema", "")).startswith("yellowjacket-characterisation/"):
        raise ValueError("is not a document of `yellowjacket characterise --json`")
    return [one for one in found if isinstance(one, Mapping)]


def sensor_of(body: Mapping[str, Any]) -> Sensor:
    """Every ISO of a body's document that has gain, read noise and saturation; the others are passed over."""
    error = body.get("black_error_dn") or {}
    return Sensor([found for one in body.get("isos") or () if (found := _mark(one, error)) is not None])


def _mark(document: Mapping[str, Any], error: Mapping[str, Any]) -> SensorAt | None:
    whole, channels = document.get("all") or {}, document.get("channels") or {}
    cooked = whole.get("cooked") or {}
    corrected = cooked.get("corrected") or {} if cooked.get("flag") else {}
    read = _value(corrected.get("read_noise_e")) or _value(whole.get("read_noise_e"))
    saturation, clip = _value(whole.get("saturation_e")), _clip(whole)
    gain = {name: _gain(one) for name, one in channels.items()}
    black = {name: _value(one.get("black_dn")) for name, one in channels.items()}
    if not (read and saturation and clip and gain) or None in gain.values() or None in black.values():
        return None
    known_gain = {name: value for name, value in gain.items() if value is not None}
    known_black = {name: value for name, value in black.items() if value is not None}
    mean = sum(known_gain.values()) / len(known_gain)
    # Saturation in electrons was worked out with the gain as it reads: smoothing raises both alike.
    as_read, before = _value(whole.get("gain_e_per_dn")), _value(corrected.get("gain_e_per_dn"))
    if as_read and before:
        saturation *= before / as_read
    banding, digital = whole.get("banding") or {}, _code_step(whole)
    row, column = ((_value(banding.get(key)) or 0.0) * mean for key in ("row_dn", "column_dn"))
    return SensorAt(
        int(document["iso"]), known_gain, known_black,
        {name: float(round(dn - (_value(error.get(name)) or 0.0))) for name, dn in known_black.items()},
        clip, saturation, read, row, column, (_value(cooked.get("lag1")) or 0.0) if cooked.get("flag") else 0.0, digital,
    )  # fmt: skip


def _clip(whole: Mapping[str, Any]) -> float | None:
    """The highest number: as found, else where the wells are full, which is where numbers end that no frame reached."""
    full, black = _value(whole.get("saturation_dn")), _value(whole.get("black_dn"))
    return _value(whole.get("clip_dn")) or (None if full is None or black is None else full + black)


def _code_step(whole: Mapping[str, Any]) -> float:
    digital = whole.get("digital_iso") or {}
    factor = digital.get("factor")
    return float(factor) if digital.get("flag") and isinstance(factor, int | float) and factor > 1 else 1.0


def _gain(channel: Mapping[str, Any]) -> float | None:
    cooked = channel.get("cooked") or {}
    corrected = cooked.get("corrected") or {} if cooked.get("flag") else {}
    return _value(corrected.get("gain_e_per_dn")) or _value(channel.get("gain_e_per_dn"))


def _value(found: object) -> float | None:
    value = found.get("value") if isinstance(found, Mapping) else None
    return float(value) if isinstance(value, int | float) and math.isfinite(value) else None


def dark_e(body: Mapping[str, Any], seconds: float, celsius: float | None) -> float:
    """Mean dark signal after an exposure, e⁻. ``celsius``: of the sensor; None where the darks were taken. Raises NoPicture
    without measured darks, and for another temperature where none was read."""
    dark = body.get("dark") or {}
    current = _value(dark.get("current_e_per_s"))
    if current is None:
        raise NoPicture(Note(Missing.NO_DARKS_FOR_TIME))
    return max(current, 0.0) * seconds * warmed_by(body, celsius)


def warmed_by(body: Mapping[str, Any], celsius: float | None) -> float:
    """How much faster dark signal gathers at a temperature than where the darks were taken; None is there. Raises NoPicture
    where the temperature of the darks was not read."""
    dark = body.get("dark") or {}
    there = dark.get("temperature_c")
    if celsius is None:
        return 1.0
    if not isinstance(there, int | float):
        raise NoPicture(Note(Missing.NO_TEMPERATURE_OF_DARKS))
    doubling = _value(dark.get("doubling_c")) or _DOUBLING_C
    return float(2.0 ** ((celsius - there) / doubling))
