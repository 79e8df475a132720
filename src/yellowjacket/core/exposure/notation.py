"""How times, apertures and stops are written and read."""

from __future__ import annotations

from fractions import Fraction
from functools import lru_cache

from yellowjacket.core.exposure.dial import SHUTTER_MARKS, mark_from_nominal


@lru_cache(maxsize=1024)
def shutter_label(exposure_s: float) -> str:
    """An exposure time as the trade writes it: "1/60 s", "15 s", "16 min".

    >>> shutter_label(1 / 60), shutter_label(15), shutter_label(960)
    ('1/60 s', '15 s', '16 min')
    """
    mark = mark_from_nominal(SHUTTER_MARKS, exposure_s)
    if mark:
        return mark.label
    if exposure_s >= 60:
        return f"{exposure_s / 60:.3g} min"
    if exposure_s >= 0.3:  # dials write tenths down to here
        return f"{exposure_s:.3g} s"
    return f"1/{round(1 / exposure_s)} s"


def between_marks(exposure_s: float) -> str:
    """An exposure time that was worked out, finer than a mark: "1.4 s", "35 s", "4 min 50 s", "2 h 05 min".

    >>> between_marks(1.42), between_marks(290), between_marks(7500), between_marks(0.0)
    ('1.4 s', '4 min 50 s', '2 h 05 min', 'under 0.1 s')
    """
    if exposure_s < 0.05:
        return "under 0.1 s"
    if exposure_s < 10:
        return f"{exposure_s:.1f} s"
    whole = round(exposure_s)
    if whole < 90:
        return f"{whole} s"
    if whole < 600:
        return f"{whole // 60} min {whole % 60:02d} s"
    minutes = round(whole / 60)
    return f"{minutes} min" if minutes < 100 else f"{minutes // 60} h {minutes % 60:02d} min"


def parse_shutter(text: str) -> float:
    """Seconds from what a tester types: "1/60", "0.5", "15 s", "2 min", "4'"; decimal comma allowed.

    Raises ValueError with a sentence that names the forms accepted.

    >>> parse_shutter("1/60") == 1 / 60, parse_shutter("0,5"), parse_shutter("2 min")
    (True, 0.5, 120.0)
    """
    cleaned = text.strip().lower().replace(",", ".")
    factor = 1.0
    for suffix, scale in (("min", 60.0), ("m", 60.0), ("'", 60.0), ("sec", 1.0), ("s", 1.0), ('"', 1.0)):
        if cleaned.endswith(suffix):
            cleaned, factor = cleaned[: -len(suffix)].strip(), scale
            break
    try:
        above, _, below = cleaned.partition("/")
        value = float(Fraction(above) / Fraction(below or 1)) * factor
    except (ValueError, ZeroDivisionError) as error:
        raise ValueError(f"{text!r} is not an exposure time; write it like 1/60, 0.5, 15 s or 2 min") from error
    if not 0 < value < 86_400:
        raise ValueError(f"{text!r} is not an exposure time between 0 and a day")
    return value


def parse_aperture(text: str) -> float:
    """The f-number from "f/8", "8" or "5,6". Raises ValueError with a sentence."""
    cleaned = text.strip().lower().replace(",", ".").removeprefix("f").removeprefix("/").strip()
    try:
        value = float(cleaned)
    except ValueError as error:
        raise ValueError(f"{text!r} is not an aperture; write it like f/8 or 5.6") from error
    if not 0.5 <= value <= 128:
        raise ValueError(f"{text!r} is not an aperture between f/0.5 and f/128")
    return value


def with_sign(value: float, digits: int = 2) -> str:
    """A number with its sign as the trade writes it, with a real minus: "+0.31", "−3", "0.00".

    >>> with_sign(0.31), with_sign(-3, 0)
    ('+0.31', '−3')
    """
    rounded = round(value, digits)
    if rounded == 0:
        return f"{0:.{digits}f}"
    return ("+" if rounded > 0 else "−") + f"{abs(rounded):.{digits}f}"


def counted(count: int, what: str) -> str:
    """A number of things whose plural ends in s.

    >>> counted(1, "frame"), counted(0, "ladder")
    ('1 frame', '0 ladders')
    """
    return f"{count} {what}{'' if count == 1 else 's'}"
