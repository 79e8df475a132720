"""One filter per kind of value: digits and units are decided here and nowhere else."""

from __future__ import annotations

from datetime import timedelta

from django import template

from yellowjacket.core import stops
from yellowjacket.core.limits import GRADE_LETTERS, Limit

register = template.Library()
_MANY = 1000


def _number(value: float, digits: int = 3) -> str:
    """``digits`` significant digits without an exponent; thousands with a thin space from 10 000."""
    if value == 0:
        return "0"
    text = f"{value:.{digits}g}"
    if "e" in text or abs(value) >= 10 ** (digits - 1):
        whole = f"{value:,.0f}".replace(",", "\u2009")
        text = whole if abs(value) >= 10 * _MANY else whole.replace("\u2009", "")
    return text.replace("-", "−")


@register.filter
def number(value: float | None, digits: int = 3) -> str:
    """A plain measured number."""
    return "" if value is None else _number(float(value), digits)


@register.filter
def stops_signed(value: float | None) -> str:
    """Stops with sign and two digits: +0.31."""
    return "" if value is None else stops.format_stops(value)


@register.filter
def share(value: float | None) -> str:
    """A share as per cent: 0 %, 0.03 %, 12 %."""
    if value is None:
        return ""
    return f"{_number(100 * value, 2)} %"


@register.filter
def shutter(value: float) -> str:
    """Exposure time: 1/60 s."""
    return stops.shutter_label(value)


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
def megabytes(value: int | None) -> str:
    """Bytes as MB or GB."""
    if value is None:
        return ""
    return f"{value / 1e9:.1f} GB" if value >= 1e9 else f"{value / 1e6:.0f} MB"


@register.filter
def dial_mark(limit: Limit) -> str:
    """A limit as its dial mark: ISO 3200, at least ISO 102400, none."""
    if limit.mark is None:
        return "none" if limit.criterion else "–"
    return f"at least ISO {limit.mark}" if limit.at_least else f"ISO {limit.mark}"


@register.filter
def iso_range(limit: Limit) -> str:
    """The interpolated crossing and its interval: 3410 (3200 … 3650)."""
    if limit.crossing is None:
        return ""
    middle = _number(round(limit.crossing), 3)
    if limit.low is None or limit.high is None or limit.low == limit.high:
        return middle
    return f"{middle} ({_number(limit.low, 3)} … {_number(limit.high, 3)})"
