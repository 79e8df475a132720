"""One filter per kind of value: digits and units are decided here and nowhere else."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from datetime import timedelta
from functools import lru_cache

from django import template
from django.urls import reverse
from django.utils.safestring import SafeString

from yellowjacket.bench.record.evidence import files_in_words as _files_in_words
from yellowjacket.core.exposure import notation
from yellowjacket.core.limits.iso_limits import GRADE_LETTERS, Limit
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.web.glossary import LINES
from yellowjacket.web.graphics.drawing import Drawing, Shape, inside, on_page
from yellowjacket.web.graphics.limit_bar import LimitBar
from yellowjacket.web.graphics.limit_bar import limit_bar as _limit_bar

register = template.Library()
# The trade writes ISO 3200 but 12 800 pixels: thousands are set apart from here on.
_GROUPED_FROM = 10_000


@lru_cache(maxsize=1)
def _before_reading() -> str:
    """The address of a reading's provenance up to its number."""
    return reverse("provenance", args=[0]).removesuffix("0/")


@register.filter
def provenance(reading_id: int) -> str:
    """Where the provenance of a reading opens. A page has hundreds: what all have in common is looked up once."""
    return f"{_before_reading()}{reading_id}/"


def _number(value: float, digits: int = 3) -> str:
    """``digits`` significant digits, trailing zeros kept, never an exponent; thin spaces from 10 000."""
    if value == 0:
        return "0"
    magnitude = math.floor(math.log10(abs(value)))
    rounded = round(value, digits - 1 - magnitude)
    decimals = max(0, digits - 1 - math.floor(math.log10(abs(rounded))))
    text = f"{rounded:,.{decimals}f}".replace(",", "\u2009" if abs(rounded) >= _GROUPED_FROM else "")
    return text.replace("-", "−")


@register.filter
def number(value: float | None, digits: int = 3) -> str:
    """A plain measured number."""
    return "" if value is None else _number(float(value), digits)


@register.filter
def files_in_words(conditions: Mapping[str, object]) -> str:
    """How the files behind a record were made, where that matters; nothing where it does not."""
    return _files_in_words(conditions)


@register.filter
def limit_bar(marks: Sequence[str]) -> LimitBar | None:
    """Three ISO marks by level as a bar along ISO."""
    return _limit_bar(marks)


@register.filter
def drawn(drawing: Drawing) -> SafeString:
    """A drawing as SVG."""
    return on_page(drawing)


@register.filter
def shapes(found: Sequence[Shape]) -> SafeString:
    """Shapes for an SVG that the template opens."""
    return inside(found)


@register.filter
def stops_signed(value: float | None) -> str:
    """Stops with sign and two digits: +0.31."""
    return "" if value is None else notation.with_sign(value)


@register.filter
def stops_whole(value: int) -> str:
    """Whole stops with their sign: +1, 0, −2."""
    return "0" if not value else f"{value:+d}".replace("-", "−")


@register.filter
def whole(value: float) -> str:
    """The nearest whole number, for addresses."""
    return str(round(value))


@register.filter
def split(text: str) -> list[str]:
    """Words of a text, for choices written in a template."""
    return text.split()


@register.filter
def plain(value: float) -> str:
    """A number as programs write it."""
    return f"{value:.6g}"


@register.filter
def item(values: Mapping[str, object], key: str) -> object:
    """The value of a key, or None."""
    return values.get(key)


@register.filter
def signed(value: float | None, digits: int = 2) -> str:
    """A number with its sign and so many decimals: −0.31."""
    # A rounded nothing has no sign.
    return "" if value is None else f"{round(value, digits) + 0.0:+.{digits}f}".replace("-", "−")


@register.filter
def share(value: float | None) -> str:
    """A share as per cent: 0 %, 0.03 %, 12 %."""
    if value is None:
        return ""
    return f"{_number(100 * value, 2)} %"


@register.filter
def shutter(value: float) -> str:
    """Exposure time: 1/60 s."""
    return notation.shutter_label(value)


@register.filter
def letter(grade: int | None) -> str:
    """Grade 1–5 as A–E."""
    return GRADE_LETTERS[grade - 1] if grade else "–"


@register.filter
def duration(value: timedelta | None) -> str:
    """Time left in words: 40 s, 3 min."""
    if value is None:
        return ""
    seconds = max(0, round(value.total_seconds()))
    return f"{seconds} s" if seconds < 90 else f"{round(seconds / 60)} min"


@register.filter
def span(seconds: float) -> str:
    """Seconds as a length of time: 40 s, 12 min, 3 h 05 min."""
    if seconds < 90:
        return f"{round(seconds)} s"
    minutes = round(seconds / 60)
    return f"{minutes} min" if minutes < 100 else f"{minutes // 60} h {minutes % 60:02d} min"


@register.filter
def exposure_time(seconds: float | None) -> str:
    """An interpolated exposure time, finer than a mark: 1.4 s, 35 s, 4 min 50 s, 2 h 05 min."""
    return "" if seconds is None else notation.between_marks(seconds)


@register.filter
def card(megabytes: float) -> str:
    """Card space: 850 MB, 3.1 GB."""
    return f"{megabytes / 1000:.1f} GB" if megabytes >= 1000 else f"{megabytes:.0f} MB"


@register.filter
def bounded(found: Quantity) -> str:
    """A quantity's value, with ≥ or ≤ before it where it is a bound only: ≥ 1820."""
    return f"{found.bound} {number(found.value)}" if found.bound else number(found.value)


@register.filter
def interval(found: Quantity) -> str:
    """The 95 % interval of a quantity: 11.9 … 12.7; empty where it has none, or is exact."""
    if found.value is None or found.low is None or found.high is None or found.low == found.high:
        return ""
    return f"{number(found.low)} … {number(found.high)}"


@register.filter
def with_interval(found: Quantity) -> str:
    """A quantity with its 95 % interval: 12.3 (11.9 … 12.7); a dash where there is none."""
    if found.value is None:
        return "–"
    ends = interval(found)
    return f"{bounded(found)} ({ends})" if ends else bounded(found)


@register.filter
def dial_mark(limit: Limit) -> str:
    """A limit as its dial mark: ISO 3200, at least ISO 102400, none."""
    return limit.words


@register.filter
def iso_range(limit: Limit) -> str:
    """The interpolated crossing and its interval: 3410 (3200 … 3650)."""
    if limit.crossing is None:
        return ""
    middle = _iso(limit.crossing)
    if limit.low is None or limit.high is None or limit.low == limit.high:
        return middle
    return f"{middle} ({_iso(limit.low)} … {_iso(limit.high)})"


def _iso(value: float) -> str:
    """An interpolated ISO to three digits, written like a dial mark."""
    return f"{float(f'{value:.3g}'):.0f}"


@register.filter
def explained(key: str) -> bool:
    """Whether the glossary explains a line."""
    return key in LINES


@register.filter
def aperture(f_number: float) -> str:
    """f/8, f/5.6."""
    return f"f/{f_number:g}"


@register.filter
def apart(stops_apart: float) -> str:
    """How the graded limit lies to the measured one: graded 2 stops lower."""
    word = "higher" if stops_apart > 0 else "lower"
    count = f"{abs(stops_apart):.1f}".removesuffix(".0")
    return f"graded {count} stop{'' if count == '1' else 's'} {word} than measured"
