"""What a row of an archive must be, field by field: type, range, length and form, before anything is stored.

Worked out from the tables themselves; what a table does not say of a column, its shape inside JSON or what its number may
be, stands here.
"""

from __future__ import annotations

import base64
import binascii
import math
from collections.abc import Callable, Mapping
from datetime import date, datetime, time
from functools import cache
from typing import Annotated, Any, NotRequired

from django.core.exceptions import ValidationError as DjangoValidationError
from django.db import models
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, create_model
from typing_extensions import TypedDict

from yellowjacket.bench.darks.packed import unpacked
from yellowjacket.bench.models import (
    Body,
    Frame,
    JurySheet,
    Ladder,
    LanePicture,
    Reading,
    Record,
    Rung,
    ToleranceProfile,
)
from yellowjacket.core.limits.tolerance import profile_from
from yellowjacket.core.metrology.notes import Note
from yellowjacket.core.planning.plan_file import spec_from
from yellowjacket.core.raw.frame import CHANNEL_NAMES, Layout
from yellowjacket.core.raw.frame_report import report_from


class RowError(ValueError):
    """A row that cannot be what it says; the message names the field and what is wrong."""


_LARGEST_TILE = 12
_STRICT = ConfigDict(strict=True, allow_inf_nan=False, extra="ignore")
_MOST = 10.0**15
_LONGEST_TEXT = 20_000
_MOST_ITEMS = 20_000
_DEEPEST, _MOST_NODES = 12, 200_000
_MOST_BLOB = 64 << 20
_MOST_CELLS = 8 << 20
_YEARS = (1900, 2200)
# Sentences that older versions wrote longer than the column: cut, not refused.
_SENTENCES = ("reason", "remedy", "text", "method", "remark", "standing_reason")
_PIXELS = (1, 200_000)
_ISO = (1, 100_000_000)
_SECONDS = (1e-7, 1e7)
_F_NUMBER = (0.1, 1000.0)
# Numbers that are divided by, or whose logarithm is taken.
_RANGES: dict[str, tuple[float, float]] = {
    "iso": _ISO, "named_iso": _ISO, "metered_iso": _ISO, "lowest_iso": _ISO, "highest_iso": _ISO, "native_lowest_iso": _ISO,
    "native_highest_iso": _ISO, "exposure_s": _SECONDS, "metered_exposure_s": _SECONDS, "fastest_shutter_s": _SECONDS,
    "slowest_shutter_s": _SECONDS, "electronic_fastest_s": _SECONDS, "lenr_from_s": _SECONDS, "f_number": _F_NUMBER,
    "widest_f": _F_NUMBER, "narrowest_f": _F_NUMBER, "width": _PIXELS, "height": _PIXELS, "pixel_width": _PIXELS,
    "pixel_height": _PIXELS, "x": (0, 200_000), "y": (0, 200_000), "w": _PIXELS, "h": _PIXELS, "spot_x": (0, 200_000),
    "spot_y": (0, 200_000), "white_dn": (1.0, 2.0**32), "size_bytes": (0, 2**50), "quarter_turns": (0, 3),
    "temperature_c": (-150.0, 300.0), "sensor_width_mm": (0.1, 1000.0), "sensor_height_mm": (0.1, 1000.0),
    "frame_mb": (1e-6, 1e6), "battery_minutes": (1e-3, 1e6), "grade": (1, 5), "score": (-2, 2), "mains_hz": (0, 1000),
    "modulation": (0.0, 1.0), "step_stops": (1e-3, 100.0), "expected_stops": (-1000.0, 1000.0), "at_stops": (-1000.0, 1000.0),
    "lamp_stops": (-100.0, 100.0), "short_by_stops": (-1000.0, 1000.0), "wanted_stops": (1e-3, 100.0),
    "focal_length_mm": (0.1, 100_000.0), "pixels": (1, 10**12), "size_percent": (1, 6400), "repeat": (0, 100_000),
    "battery_percent": (0, 100), "crop_share": (1e-4, 1.0), "output_pixels": (1, 10**12), "print_width_cm": (0.1, 1e5),
    "viewing_cm": (0.1, 1e5),
}  # fmt: skip
_FORMS = {
    "sha256": r"^[0-9a-f]{64}$", "measured_inputs": r"^([0-9a-f]{64}|incomplete)?$", "inputs": r"^([0-9a-f]{64}|incomplete)?$",
    "token": r"^[A-Za-z0-9_-]{1,24}$",
}  # fmt: skip


def _plain(text: str) -> str:
    if "\0" in text:
        raise ValueError("holds a character that is not text")
    return text


Text = Annotated[str, Field(max_length=_LONGEST_TEXT), AfterValidator(_plain)]
Short = Annotated[str, Field(max_length=400), AfterValidator(_plain)]
Number = Annotated[float, Field(ge=-_MOST, le=_MOST)]
Pixel = Annotated[int, Field(ge=0, le=_PIXELS[1])]
Positive = Annotated[float, Field(gt=0, le=_MOST)]


# A remark or a reason as core.metrology.notes keeps it, or mere words, as older versions wrote them.
_Note = Text | list[Text | Number | int]


class _Mode(TypedDict):
    name: Short
    width: Annotated[int, Field(ge=1, le=_PIXELS[1])]
    height: Annotated[int, Field(ge=1, le=_PIXELS[1])]
    bits: Annotated[int, Field(ge=1, le=32)]


class _Slip(TypedDict):
    code: Short
    rung: int
    x: Pixel
    y: Pixel


class _Filter(TypedDict):
    name: Short
    nominal_stops: Annotated[float, Field(ge=-30, le=60)]
    true_stops: Annotated[float, Field(ge=-30, le=60)]
    tint: Short


class _Warning(TypedDict):
    code: Short
    short: Short
    text: Text


class _Limit(TypedDict):
    level: Short
    mark: Annotated[int, Field(ge=1, le=_ISO[1])] | None
    crossing: NotRequired[Positive | None]
    low: NotRequired[Positive | None]
    high: NotRequired[Positive | None]
    at_least: NotRequired[bool]
    criterion: NotRequired[Text]
    doubts: NotRequired[list[Text]]


class _Proposal(TypedDict):
    use: Short
    level: Short
    measured: _Limit
    graded: _Limit


class _Conditions(TypedDict, total=False):
    body: Short
    serial: Short
    firmware: list[Short]
    layout: Short
    shutter: list[Short]
    compression: list[Short]
    single_frames: bool
    held_on: Short
    scene: Text
    lens: Short
    light: Short
    temperature_c: Number | None
    aperture: Short
    method: Short
    profile: Short
    thresholds: dict[Short, list[Number]]
    judged_by: list[Short]


class _Other(TypedDict):
    what: Short
    use: Short
    text: Short
    interval: NotRequired[Text]
    because: NotRequired[Text]
    source: NotRequired[Text]
    decided: NotRequired[Text]


class _Evidence(TypedDict, total=False):
    __pydantic_config__ = _STRICT  # type: ignore[misc]

    conditions: _Conditions
    proposals: list[_Proposal]
    others: list[_Other]


def _bounded(value: Any) -> Any:
    """JSON of any shape that is neither deep nor endless, of finite numbers and plain text."""
    nodes = 0
    waiting = [(value, 0)]
    while waiting:
        one, depth = waiting.pop()
        nodes += 1
        if depth > _DEEPEST or nodes > _MOST_NODES:
            raise ValueError("is nested too deeply or too large")
        if isinstance(one, str):
            if len(one) > _LONGEST_TEXT:
                raise ValueError("holds too long a text")
            _plain(one).encode()
        elif (isinstance(one, float) and not math.isfinite(one)) or (isinstance(one, int) and abs(one) > 2**63 - 1):
            raise ValueError("holds a number that is none")
        elif isinstance(one, dict):
            waiting += [(part, depth + 1) for pair in one.items() for part in pair]
        elif isinstance(one, list):
            waiting += [(part, depth + 1) for part in one]
    return value


def _spec(value: dict[str, Any]) -> dict[str, Any]:
    if value:
        spec_from(value)
    return value


def _thresholds(value: dict[str, Any]) -> dict[str, Any]:
    profile_from("imported", value)
    return value


def _report(value: dict[str, Any]) -> dict[str, Any]:
    """A look at a frame: its pictures must hold as many cells as they say."""
    if not value:
        return value
    try:
        _bounded({name: one for name, one in value.items() if name not in ("thumb", "tiles")})
        if len(value["thumb"]) + len(value.get("tiles", "")) > _MOST_CELLS:
            raise ValueError("holds too large a picture")
        report = report_from(value)
        cells = len(base64.b64decode(report.thumb, validate=True))
        tiles = len(base64.b64decode(report.tiles, validate=True))
        rows, columns = report.shape
        shapes = (*report.shape, *report.tile_shape, report.cell_px, report.tile_px)
        numbers = (report.level_dn, report.clipped_share, report.dark_share, report.fine, report.fine_se)
        fits = all(type(one) is int and 0 <= one <= _PIXELS[1] for one in shapes) and all(
            one is None or (isinstance(one, (int, float)) and abs(one) < _MOST) for one in numbers
        )
        if not fits or cells != rows * columns or (tiles and tiles % max(1, math.prod(report.tile_shape))):
            raise ValueError("does not fit together")
    except (TypeError, KeyError, AttributeError, binascii.Error) as error:
        raise ValueError("is not a look at a frame") from error
    return value


def _captured(value: str) -> str:
    if value:
        datetime.fromisoformat(value)
    return value


def _darks(data: bytes) -> bytes:
    unpacked(data, None)
    return data


def _notes(notes: list[Any]) -> list[Any]:
    for one in notes:
        Note.from_plain(one)
    return notes


def _effect(effect: dict[str, Any]) -> dict[str, Any]:
    for one in effect.values():
        if isinstance(one[4], list):
            _notes(one[4])
    return effect


def _layout(plain: dict[str, Any]) -> dict[str, Any]:
    """A layout as it is stored, or the places of a 2×2 mosaic as archives of older versions have them."""
    try:
        found = Layout.from_plain(_bounded(plain))
    except (KeyError, TypeError, AttributeError) as error:
        raise ValueError("is not a layout of colour filters") from error
    square = len({len(found.tile), *map(len, found.tile)}) == 1
    names = {name for row in found.tile for name in row}
    if not (1 <= len(found.tile) <= _LARGEST_TILE and (square or found.samples > 1) and names <= set(CHANNEL_NAMES)):
        raise ValueError("is not a layout of colour filters")
    if found.samples not in (1, 3) or (found.samples == 3 and found.tile != (("R", "G", "B"),)):
        raise ValueError("is not a layout of samples")
    return plain


Channel = Annotated[str, Field(pattern=r"^(R|G|G1|G2|B|M)$")]
# Shapes inside JSON, and what else a column must be.
_SHAPES: dict[tuple[type[models.Model], str], Any] = {
    (Body, "iso_list"): Annotated[list[Annotated[float, Field(ge=_ISO[0], le=_ISO[1])]], Field(max_length=300)],
    (Body, "raw_modes"): Annotated[list[_Mode], Field(max_length=50)],
    (ToleranceProfile, "thresholds"): Annotated[dict[Short, list[Number] | None], AfterValidator(_thresholds)],
    (Ladder, "spec"): Annotated[dict[str, Any], AfterValidator(_bounded), AfterValidator(_spec)],
    (Ladder, "let_be"): Annotated[list[Short], Field(max_length=_MOST_ITEMS)],
    (Rung, "filters"): Annotated[list[_Filter], Field(max_length=50)],
    (Rung, "warnings"): Annotated[list[_Warning], Field(max_length=200)],
    (Rung, "measured_patches"): dict[Short, Short],
    (JurySheet, "slips"): Annotated[list[_Slip], Field(max_length=_MOST_ITEMS)],
    (Reading, "notes"): Annotated[list[_Note], AfterValidator(_notes), Field(max_length=50)],
    (LanePicture, "effect"): Annotated[
        dict[Short, Annotated[list[Number | int | Text | list[_Note] | None], Field(min_length=5, max_length=5)]],
        AfterValidator(_effect),
    ],
    (Frame, "black_dn"): dict[Channel, Number],
    (Frame, "layout"): Annotated[dict[str, Any], AfterValidator(_layout)],
    (Frame, "claims"): Annotated[dict[Short, Text | int | float | list[Short]], Field(max_length=50)],
    (Frame, "matrix"): Annotated[list[Annotated[list[Number], Field(min_length=3, max_length=3)]],
                                 Field(min_length=3, max_length=3)] | None,
    (Frame, "neutral"): Annotated[list[Positive], Field(min_length=3, max_length=3)] | None,
    (Frame, "report"): Annotated[dict[str, Any], AfterValidator(_report)],
    (Frame, "overrides"): dict[Annotated[str, Field(pattern=r"^(iso|exposure_s|f_number|temperature_c)$")], Number],
    (Frame, "captured_at"): Annotated[str, Field(max_length=32), AfterValidator(_captured)],
    (Record, "evidence"): Annotated[dict[str, Any], AfterValidator(_bounded)],
}  # fmt: skip
_EVIDENCE: TypeAdapter[Any] = TypeAdapter(_Evidence)


@cache
def _row_type(model: type[models.Model]) -> type[BaseModel]:
    """The rows of a table as a type. Columns may be absent, as in archives of versions that did not know them yet."""
    fields: dict[str, Any] = {}
    for field in model._meta.concrete_fields:
        kind = _kind(model, field)
        if field.null and (model, field.name) not in _SHAPES:
            kind = kind | None
        fields[field.attname] = (kind, None)
    return create_model(model.__name__, __config__=_STRICT, **fields)


def _kind(model: type[models.Model], field: models.Field[Any, Any]) -> Any:
    if (model, field.name) in _SHAPES:
        return _SHAPES[model, field.name]
    if field.primary_key or field.is_relation:
        return Annotated[int, Field(ge=1, le=2**63 - 1)]
    if isinstance(field, models.JSONField):
        return Annotated[Any, AfterValidator(_bounded)]
    if isinstance(field, models.BooleanField):
        return bool
    if isinstance(field, models.BinaryField):
        return Annotated[str, Field(max_length=_MOST_BLOB), AfterValidator(_blob)]
    if isinstance(field, (models.IntegerField, models.FloatField)):
        return _number(field)
    if isinstance(field, (models.DateField, models.TimeField)):
        return Annotated[str, Field(max_length=40), AfterValidator(_moment(field))]
    return _text(field)


def _number(field: models.Field[Any, Any]) -> Any:
    if isinstance(field, models.FloatField):
        least, most = _RANGES.get(field.name, (-_MOST, _MOST))
        return Annotated[float, Field(ge=least, le=most)]
    low, high = _RANGES.get(field.name, (-(2**63) + 1, 2**63 - 1))
    whole = 2**63 - 1 if "Big" in type(field).__name__ else 2**15 - 1 if "Small" in type(field).__name__ else 2**31 - 1
    smallest = 0 if type(field).__name__.startswith("Positive") else -whole
    return Annotated[int, Field(ge=max(smallest, math.ceil(low)), le=min(whole, math.floor(high)))]


def _moment(field: models.Field[Any, Any]) -> Callable[[str], str]:
    def check(text: str) -> str:
        try:
            found = field.to_python(text)
        except DjangoValidationError as error:
            raise ValueError("is not a date and time") from error
        if isinstance(found, date) and not _YEARS[0] <= found.year <= _YEARS[1]:
            raise ValueError("lies in no year of a camera test")
        if not isinstance(found, (date, time)):
            raise ValueError("is not a date and time")
        return text

    return check


def _text(field: models.Field[Any, Any]) -> Any:
    longest = field.max_length or _LONGEST_TEXT
    pattern = _FORMS.get(field.name)
    if field.choices:
        allowed = {str(value) for value, _ in field.flatchoices} | ({""} if field.blank else set())

        def known(text: str) -> str:
            if text not in allowed:
                raise ValueError(f"is none of {', '.join(sorted(allowed))}")
            return text

        return Annotated[str, Field(max_length=longest), AfterValidator(known)]
    if field.name in _SENTENCES:
        return Annotated[Text, AfterValidator(lambda text: text[:longest])]
    return Annotated[str, Field(max_length=longest, pattern=pattern), AfterValidator(_plain)]


def _blob(text: str) -> str:
    try:
        _darks(base64.b64decode(text, validate=True))
    except Exception as error:
        raise ValueError("holds no measured darks") from error
    return text


def _renamed(model: type[models.Model], row: dict[str, Any]) -> dict[str, Any]:
    """Columns under the names they have by now."""
    if model is Frame and "offsets" in row:
        row.setdefault("layout", row.pop("offsets"))
    return row


def checked(model: type[models.Model], row: object) -> dict[str, Any]:
    """The known columns of a row, each what its table says. Raises RowError, naming the field."""
    if not isinstance(row, Mapping):
        raise RowError("is not a row")
    try:
        if model is Reading and row.get("reason") and "notes" not in row:
            # Older versions kept the words alone.
            row = {**row, "notes": [row["reason"]]}
        found = _row_type(model).model_validate(_renamed(model, dict(row)))
        if model is Record and found.evidence:  # type: ignore[attr-defined]
            _EVIDENCE.validate_python(found.evidence)  # type: ignore[attr-defined]
    except ValidationError as error:
        first = error.errors(include_url=False, include_input=False)[0]
        place = ".".join(str(part) for part in first["loc"]) or "evidence"
        raise RowError(f"{place}: {first['msg']}") from error
    except (RecursionError, OverflowError) as error:
        raise RowError("is nested too deeply") from error
    values = found.model_dump(exclude_unset=True)
    if model is Body and "native_lowest_iso" in values:
        marks = [values.get(name) for name in ("lowest_iso", "native_lowest_iso", "native_highest_iso", "highest_iso")]
        if None not in marks and marks != sorted(marks):  # type: ignore[type-var]
            raise RowError("lowest_iso: the marks do not rise")
    return values
