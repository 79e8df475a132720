"""What a file says about its capture, worked out from its tags.

Maker notes are matched by the name of the tag, whatever the group, the first that is present and plausible: so no maker
has to be known. Tag names are Exiv2's; standard tags follow CIPA DC-008 (Exif 2.32) and DNG 1.4, numbers and names from
memory. Everything here is a claim of the file, kept beside the tester's word; what is not said stays unsaid.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.metadata.tags import Tag

Value = TypeVar("Value")


class Thermometer(StrEnum):
    """Which thermometer a temperature in a file comes from. A body's is not a sensor's."""

    SENSOR = "sensor"
    BODY = "body"
    AMBIENT = "ambient"

    @property
    def words(self) -> str:
        """Where that thermometer is, as it stands after "°C"."""
        return {Thermometer.SENSOR: "sensor", Thermometer.BODY: "inside the body", Thermometer.AMBIENT: "air"}[self]


class Switch(StrEnum):
    """A setting of the body that is on, off, or left to the body."""

    ON = "on"
    OFF = "off"
    AUTO = "auto"


class Shutter(StrEnum):
    """How an exposure was begun and ended."""

    MECHANICAL = "mechanical"
    ELECTRONIC = "electronic"
    FIRST_CURTAIN = "electronic first curtain"


class Compression(StrEnum):
    """What writing the file did to the numbers."""

    NONE = "none"
    LOSSLESS = "lossless"
    LOSSY = "lossy"


@dataclass(frozen=True, slots=True)
class FrameMetadata:
    """What a file says about its capture; None or empty where it says nothing. Times in s, clock naive.

    ``temperature_c`` in °C, of the thermometer ``temperature_of``. ``utc_offset`` as the file writes it, "+01:00".
    ``several_shots``: the file says that it was made of more than one exposure. ``sources``: field → key of the tag it
    was read from, or "LibRaw".
    """

    make: str = ""
    model: str = ""
    serial: str = ""
    firmware: str = ""
    iso: int | None = None
    exposure_s: float | None = None
    f_number: float | None = None
    captured_at: datetime | None = None
    temperature_c: float | None = None
    temperature_of: Thermometer | None = None
    utc_offset: str = ""
    lenr: Switch | None = None
    noise_reduction: Switch | None = None
    shutter: Shutter | None = None
    compression: Compression | None = None
    several_shots: bool = False
    frame_counter: int | None = None
    bits: int | None = None
    lens: str = ""
    focal_length_mm: float | None = None
    stabilisation: str = ""
    drive: str = ""
    white_balance: str = ""
    sources: dict[str, str] = field(default_factory=dict, compare=False)
    # Fields that the tags and LibRaw read so differently that they cannot both be of this capture.
    contradicted: tuple[str, ...] = ()
    # Fields whose tag is there and says nothing that could be: another reader's guess is none either.
    unsaid: tuple[str, ...] = ()

    @property
    def nameless(self) -> bool:
        """Neither make nor model: which body took this has to be asked."""
        return not (self.make or self.model)


def interpret(tags: Sequence[Tag]) -> FrameMetadata:
    """What the tags of one file say; of contradicting tags the first in the order of preference counts."""
    find = _Finder(tags)
    captured_at = find.of("captured_at", _moment, *_WHEN)
    when = find.sources.get("captured_at", "")
    if captured_at is not None:
        captured_at = captured_at.replace(microsecond=find.of("captured_at", _microseconds, *_SUBSECOND) or 0)
        find.sources["captured_at"] = when
    temperature = find.temperature()
    return FrameMetadata(
        make=find.of("make", _text, "Exif.Image.Make") or "",
        model=find.of("model", _text, "Exif.Image.Model", "Exif.Image.UniqueCameraModel") or "",
        serial=find.of("serial", _serial, *_SERIAL) or "",
        firmware=find.of("firmware", _text, *_FIRMWARE) or "",
        iso=find.of("iso", _iso, *_ISO),
        exposure_s=find.of("exposure_s", _seconds, *_EXPOSURE) or find.of("exposure_s", _apex_seconds, *_SHUTTER_APEX),
        f_number=find.of("f_number", plausible_f_number, *_F_NUMBER),
        captured_at=captured_at,
        temperature_c=temperature[0] if temperature else None,
        temperature_of=temperature[1] if temperature else None,
        utc_offset=find.of("utc_offset", _offset, *_OFFSET) or "",
        lenr=find.of("lenr", _switch, *_LENR) or find.of("lenr", _of_long_exposures, "NoiseReduction"),
        noise_reduction=find.of("noise_reduction", _switch, *_NOISE_REDUCTION)
        or find.of("noise_reduction", _reduction_applied, "Exif.Image.NoiseReductionApplied")
        or find.of("noise_reduction", _of_high_iso, "NoiseReduction"),
        shutter=find.of("shutter", _shutter, "ShutterType", "ShutterMode"),
        compression=find.compression(),
        several_shots=bool(find.of("several_shots", _several, *_SEVERAL)),
        frame_counter=find.of("frame_counter", _count, "MechanicalShutterCount", "ShutterCount"),
        bits=find.bits(),
        lens=find.of("lens", _lens, "Exif.Photo.LensModel", "LensModel", "LensType") or "",
        focal_length_mm=find.of("focal_length_mm", _positive, "Exif.Photo.FocalLength", "Exif.Image.FocalLength"),
        stabilisation=find.of("stabilisation", _words, "ImageStabilization") or "",
        drive=find.of("drive", _words, "DriveMode") or "",
        white_balance=find.of("white_balance", _words, "Exif.Photo.WhiteBalance") or "",
        sources=find.sources,
        unsaid=() if "exposure_s" in find.sources or not find.there(*_EXPOSURE) else ("exposure_s",),
    )


def color_matrix(tags: Sequence[Tag]) -> NDArray[np.float64] | None:
    """The file's matrix from XYZ to the camera's colours, 3×3 (DNG, ColorMatrix1); None where it has none that is one."""
    tag = next((one for one in tags if one.key == _COLOR_MATRIX), None)
    if tag is None or len(tag.numbers) != 9 or None in tag.numbers:
        return None
    matrix = np.array(tag.numbers, dtype=np.float64).reshape(3, 3)
    return matrix if np.isfinite(matrix).all() and abs(np.linalg.det(matrix)) > 1e-6 else None


def unsaid_levels(tags: Sequence[Tag]) -> tuple[str, ...]:
    """Of "black" and "white" those that the file names in a way that says nothing: 0 over 0, a white of 0."""
    black = any(None in tag.numbers for tag in tags if tag.name == _BLACK_LEVEL)
    white = any((number or 0) <= 0 for tag in tags if tag.name == _WHITE_LEVEL for number in tag.numbers)
    return ("black",) * black + ("white",) * white


def filter_tile(tags: Sequence[Tag]) -> tuple[str, ...] | None:
    """Colours of the filters over one tile as the file writes them down, a text of R, G and B for each row (TIFF/EP,
    CFAPattern); None where it does not, or names other colours. The tile begins where the picture does, inside borders."""
    shape = next((tag.numbers for tag in tags if tag.name == _TILE_SHAPE and len(tag.numbers) == 2), None)
    codes = next((tag.numbers for tag in tags if tag.name == _TILE and tag.numbers), None)
    if shape is None or codes is None or None in shape or len(codes) != int(shape[0] or 0) * int(shape[1] or 0):
        return None
    if not all(code in (0, 1, 2) for code in codes):
        return None
    letters, columns = "".join("RGB"[int(code or 0)] for code in codes), int(shape[1] or 0)
    return tuple(letters[n : n + columns] for n in range(0, len(letters), columns))


def wanted(key: str) -> bool:
    """Whether a tag of that key is looked at at all."""
    return key in _WANTED_KEYS or key.rpartition(".")[2] in _WANTED_NAMES or key.endswith(_COMPRESSION_NAME)


# Keys with dots are looked for as they are; names alone in any group but those of the standard.
_WHEN = (
    "Exif.Photo.DateTimeOriginal", "Exif.Image.DateTimeOriginal", "Exif.Photo.DateTimeDigitized", "Exif.Image.DateTime",
)  # fmt: skip
_SUBSECOND = ("Exif.Photo.SubSecTimeOriginal", "Exif.Photo.SubSecTimeDigitized", "Exif.Photo.SubSecTime")
_OFFSET = ("Exif.Photo.OffsetTimeOriginal", "Exif.Photo.OffsetTimeDigitized", "Exif.Photo.OffsetTime")
_SERIAL = (
    "Exif.Photo.BodySerialNumber", "Exif.Image.CameraSerialNumber", "SerialNumber", "SerialNO", "InternalSerialNumber",
)  # fmt: skip
_FIRMWARE = ("Exif.Image.Software", "FirmwareVersion", "BodyFirmwareVersion")
_ISO = (
    "Exif.Photo.ISOSpeedRatings", "Exif.Image.ISOSpeedRatings", "Exif.Photo.RecommendedExposureIndex",
    "Exif.Photo.ISOSpeed", "Exif.Photo.StandardOutputSensitivity",
)  # fmt: skip
_EXPOSURE = ("Exif.Photo.ExposureTime", "Exif.Image.ExposureTime")
_SHUTTER_APEX = ("Exif.Photo.ShutterSpeedValue", "Exif.Image.ShutterSpeedValue")
_F_NUMBER = ("Exif.Photo.FNumber", "Exif.Image.FNumber")
_AMBIENT = "Exif.Photo.Temperature"
_THERMOMETERS = {
    "SensorTemperature": Thermometer.SENSOR, "CameraTemperature": Thermometer.BODY, "Temperature": Thermometer.BODY,
}  # fmt: skip
_LENR = ("LongExposureNoiseReduction", "LongShutterNoiseReduction")
_NOISE_REDUCTION = ("HighISONoiseReduction", "HighIsoNoiseReduction")
_SEVERAL = ("MultiExposure", "MultipleExposureMode", "PixelShiftShots")
_COLOR_MATRIX = "Exif.Image.ColorMatrix1"
_COMPRESSION_NAME = "Compression"
_BLACK_LEVEL, _WHITE_LEVEL = "BlackLevel", "WhiteLevel"
_TILE_SHAPE, _TILE = "CFARepeatPatternDim", "CFAPattern"
_PHOTOMETRIC, _BITS = "PhotometricInterpretation", "BitsPerSample"
_WANTED_KEYS = frozenset(
    {*_WHEN, *_SUBSECOND, *_OFFSET, *_SERIAL, *_FIRMWARE, *_ISO, *_EXPOSURE, *_SHUTTER_APEX, *_F_NUMBER, _AMBIENT}
    | {"Exif.Image.Make", "Exif.Image.Model", "Exif.Image.UniqueCameraModel", "Exif.Image.NoiseReductionApplied"}
    | {"Exif.Photo.LensModel", "Exif.Photo.FocalLength", "Exif.Image.FocalLength", "Exif.Photo.WhiteBalance"}
    | {_COLOR_MATRIX}
)
_WANTED_NAMES = frozenset(
    {
        *_SERIAL,
        *_FIRMWARE,
        *_THERMOMETERS,
        *_LENR,
        *_NOISE_REDUCTION,
        *_SEVERAL,
        _PHOTOMETRIC,
        _BITS,
        _BLACK_LEVEL,
        _WHITE_LEVEL,
        _TILE_SHAPE,
        _TILE,
    }
    | {"NoiseReduction", "ShutterType", "ShutterMode", "MechanicalShutterCount", "ShutterCount"}
    | {"LensModel", "LensType", "ImageStabilization", "DriveMode"}
)

# PhotometricInterpretation of a mosaic and of linear raw (DNG 1.4).
_RAW_PHOTOMETRIC = (32803, 34892)
# Compression of DNG: none; lossless JPEG, deflate; lossy JPEG. JPEG XL can be either.
_DNG_COMPRESSION = {1: Compression.NONE, 7: Compression.LOSSLESS, 8: Compression.LOSSLESS, 34892: Compression.LOSSY}
# Exif writes this where the true ISO does not fit sixteen bits; the true one stands in another tag.
_ISO_OVERFLOW = 65535
_COLDEST_C, _HOTTEST_C = -60.0, 100.0
_LEAST_ISO, _MOST_ISO = 1.0, 1e8
_SHORTEST_S, _LONGEST_S = 1e-7, 1e6
# Without contacts bodies write 0, or the largest number there is.
_LEAST_F, _LARGEST_F = 0.3, 1e3
_MOST_BITS = 32
_LONGEST_TEXT = 80
# No body had a clock before; 1970 and 1980 are clocks that were never set.
_FIRST_YEAR, _LAST_YEAR = 1985, 2200


class _Finder:
    """Looks for tags and remembers where each answer came from."""

    def __init__(self, tags: Sequence[Tag]) -> None:
        self._tags = tags
        self.sources: dict[str, str] = {}

    def of(self, field_name: str, read: Callable[[Tag], Value | None], *keys: str) -> Value | None:
        """The first plausible answer; keys with a dot are whole keys, others the name of a tag in any group."""
        for key in keys:
            for tag in self._tags:
                if (tag.key == key if "." in key else tag.name == key and not _standard(tag.key)) and (
                    value := read(tag)
                ) is not None:
                    self.sources[field_name] = tag.key
                    return value
        return None

    def there(self, *keys: str) -> bool:
        """Whether any of these whole keys is in the file, whatever it says."""
        return any(tag.key in keys for tag in self._tags)

    def temperature(self) -> tuple[float, Thermometer] | None:
        """The sensor's before the body's before the air's."""
        for name, where in _THERMOMETERS.items():
            inside = self.of("temperature_c", _celsius_of_maker, name)
            if inside is not None:
                return inside, where
        air = self.of("temperature_c", _celsius, _AMBIENT)
        return None if air is None else (air, Thermometer.AMBIENT)

    def _raw_group(self) -> str | None:
        """The group of the directory that holds the mosaic, in files that say so."""
        for tag in self._tags:
            if tag.name == _PHOTOMETRIC and tag.numbers and tag.numbers[0] in _RAW_PHOTOMETRIC:
                return tag.key.rpartition(".")[0]
        return None

    def bits(self) -> int | None:
        """Bits of a raw sample: of the directory of the mosaic, else of a maker note; previews have theirs, too."""
        group = self._raw_group()
        return self.of("bits", _bits, f"{group}.{_BITS}") if group else self.of("bits", _bits, _BITS)

    def compression(self) -> Compression | None:
        """Of the directory of the mosaic by its number, else of any tag on compression that says it in words."""
        group = self._raw_group()
        if group:
            return self.of("compression", _dng_compression, f"{group}.{_COMPRESSION_NAME}")
        for tag in self._tags:
            if tag.name.endswith(_COMPRESSION_NAME) and (found := _compression_in_words(tag)) is not None:
                self.sources["compression"] = tag.key
                return found
        return None


def _standard(key: str) -> bool:
    """Groups of the standard, where a name means what the standard says and is asked for by its whole key."""
    group = key.split(".")[1]
    return group in ("Image", "Photo", "Thumbnail", "Iop", "GPSInfo") or group.startswith(
        ("SubImage", "SubThumb", "Image")
    )


def plausible_seconds(value: float | None) -> float | None:
    """An exposure time that can be; times of years are none."""
    return value if value is not None and _SHORTEST_S <= value <= _LONGEST_S else None


def plausible_iso(value: float | None) -> int | None:
    """ISO below one is no setting of any body, and 65535 says only that the true one is larger."""
    return round(value) if value is not None and _LEAST_ISO <= value <= _MOST_ISO and value != _ISO_OVERFLOW else None


def plausible_f_number(value: float | Tag | None) -> float | None:
    """An aperture that can be: bodies without contacts to the lens write 0 or nonsense."""
    number = _first(value) if isinstance(value, Tag) else value
    return number if number is not None and _LEAST_F <= number <= _LARGEST_F else None


def _first(tag: Tag) -> float | None:
    return tag.numbers[0] if tag.numbers else None


def _seconds(tag: Tag) -> float | None:
    return plausible_seconds(_first(tag))


def _apex_seconds(tag: Tag) -> float | None:
    """ShutterSpeedValue is −log2 of the time (Exif, APEX)."""
    value = _first(tag)
    return plausible_seconds(2.0**-value) if value is not None and abs(value) < 64 else None


def _iso(tag: Tag) -> int | None:
    return plausible_iso(_first(tag))


def _positive(tag: Tag) -> float | None:
    value = _first(tag)
    return value if value is not None and np.isfinite(value) and value > 0 else None


def _count(tag: Tag) -> int | None:
    value = _positive(tag)
    # All bits set says "unknown".
    return int(value) if value is not None and value < 2**31 else None


def _bits(tag: Tag) -> int | None:
    value = _positive(tag)
    return int(value) if value is not None and value == int(value) and value <= _MOST_BITS else None


def _text(tag: Tag) -> str | None:
    text = "".join(one if one.isprintable() else " " for one in tag.words)
    return " ".join(text.split())[:_LONGEST_TEXT] or None


def _serial(tag: Tag) -> str | None:
    """A serial number; rows of zeros and dashes stand for none."""
    text = _text(tag)
    return text if text and re.search(r"[1-9A-Za-z]", text) else None


def _lens(tag: Tag) -> str | None:
    text = _text(tag)
    # A number alone is a code that Exiv2 has no name for.
    return text if text and re.search(r"[A-Za-z]{2}", text) and not text.startswith("(") else None


def _words(tag: Tag) -> str | None:
    text = _text(tag)
    return text if text and re.search(r"[A-Za-z]", text) and not text.startswith("(") else None


def _moment(tag: Tag) -> datetime | None:
    try:
        # The body's clock knows no time zone; adding one would be an invention.
        moment = datetime.strptime(tag.words[:19], "%Y:%m:%d %H:%M:%S")  # noqa: DTZ007
    except ValueError:
        return None
    return moment if _FIRST_YEAR <= moment.year <= _LAST_YEAR else None


def _microseconds(tag: Tag) -> int | None:
    digits = tag.words.strip()
    return int(float(f"0.{digits}") * 1_000_000) if digits.isdecimal() and digits.isascii() else None


def _offset(tag: Tag) -> str | None:
    text = tag.words.strip()
    return text if re.fullmatch(r"[+-]\d\d:\d\d", text) else None


def _celsius(tag: Tag) -> float | None:
    """°C as the words say it ("23 °C"), else as the number; senseless values are none."""
    said = re.match(r"\s*(-?\d+(?:\.\d+)?)\s*°?\s*C\b", tag.words)
    if said is None and re.search(r"[A-Za-z°-](?!\d)", tag.words):
        # "--", "n/a", degrees of another scale.
        return None
    value = float(said[1]) if said else _first(tag)
    return value if value is not None and _COLDEST_C <= value <= _HOTTEST_C else None


def _celsius_of_maker(tag: Tag) -> float | None:
    # In maker notes 0 stands for "not known".
    return _celsius(tag) or None


_OFF_WORDS = re.compile(r"\b(off|no|none)\b", re.IGNORECASE)
_AUTO_WORDS = re.compile(r"\bauto", re.IGNORECASE)
_ON_WORDS = re.compile(r"\b(on|yes|low|weak|normal|standard|medium|high|strong|minimal|maximum)", re.IGNORECASE)
_LONG_WORDS = re.compile(r"\blong|\bdark\b|\bfpnr\b", re.IGNORECASE)
_NOT_SAID = re.compile(r"n/a|unused", re.IGNORECASE)


def _switch(tag: Tag) -> Switch | None:
    words = tag.words
    if _NOT_SAID.search(words):
        return None
    if _OFF_WORDS.search(words):
        return Switch.OFF
    if _AUTO_WORDS.search(words):
        return Switch.AUTO
    return Switch.ON if _ON_WORDS.search(words) else None


def _of_long_exposures(tag: Tag) -> Switch | None:
    """Some makers mean LENR by a plain "noise reduction": only where the words say so."""
    if not _LONG_WORDS.search(tag.words):
        return None
    return _switch(tag) or Switch.ON


def _of_high_iso(tag: Tag) -> Switch | None:
    """… and others the one of high ISO, which has strengths; a bare "on" or "off" is not said of either."""
    if _LONG_WORDS.search(tag.words) or re.fullmatch(r"\W*(on|off|yes|no|none)\W*\d*\W*", tag.words, re.IGNORECASE):
        return None
    return _switch(tag)


def _reduction_applied(tag: Tag) -> Switch | None:
    """DNG: the share of noise reduction applied; 0/0 is "not known"."""
    value = _first(tag)
    if value is None or not 0 <= value <= 1:
        return None
    return Switch.ON if value > 0 else Switch.OFF


def _shutter(tag: Tag) -> Shutter | None:
    words = tag.words.lower()
    if "electronic" in words or "silent" in words:
        return Shutter.FIRST_CURTAIN if re.search(r"first|front", words) else Shutter.ELECTRONIC
    return Shutter.MECHANICAL if "mechanical" in words else None


def _several(tag: Tag) -> bool | None:
    """More than one exposure in the file; None where the tag does not say so."""
    if tag.name == "PixelShiftShots":
        count = _first(tag)
        return True if count is not None and 1 < count < 1000 else None
    return True if _switch(tag) == Switch.ON else None


def _dng_compression(tag: Tag) -> Compression | None:
    value = _first(tag)
    return None if value is None else _DNG_COMPRESSION.get(int(value))


def _compression_in_words(tag: Tag) -> Compression | None:
    words = tag.words.lower()
    if "lossy" in words:
        return Compression.LOSSY
    if "lossless" in words:
        return Compression.LOSSLESS
    return Compression.NONE if "uncompressed" in words else None
