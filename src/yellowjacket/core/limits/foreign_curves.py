"""Curves that somebody else measured, read from a CSV: which quantity, in which unit, at which size, how its numbers are written.

Nothing is guessed: a unit that is not named, or a comma that could be either, is refused with the line that shows it.
"""

from __future__ import annotations

import csv
import io
import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from yellowjacket.core.metrology.measurands import Measurand

# Rows of a curve; more is not a curve along ISO.
_MOST_ROWS = 200
_ISO_RANGE = (1.0, 1e8)
# A factor of ten in amplitude is 20 dB, a stop is a factor of two.
_DB_PER_STOP = 20 * math.log10(2)


class ForeignError(ValueError):
    """The file cannot be taken in; the message names the line and the remedy."""


@dataclass(frozen=True, slots=True)
class ForeignQuantity:
    """What a foreign curve may be: its name, the unit it is kept in, units it may come in with what each is turned by, and the
    reading of one's own that it can stand beside, if any."""

    name: str
    unit: str
    units: dict[str, Callable[[float], float]]
    beside: Measurand | None


def _same(value: float) -> float:
    return value


# Shadow and grey SNR depend on how grey is metered, so a foreign SNR stands beside none of one's own.
QUANTITIES: dict[str, ForeignQuantity] = {
    "range": ForeignQuantity(
        "Dynamic range", "stops",
        {"stops": _same, "stop": _same, "ev": _same, "db": lambda value: value / _DB_PER_STOP}, Measurand.RANGE_SNR1,
    ),
    "read_noise": ForeignQuantity(
        "Read noise", "e⁻", {"e-": _same, "e⁻": _same, "e": _same, "electrons": _same, "electron": _same}, Measurand.READ_NOISE_E,
    ),
    "snr": ForeignQuantity(
        "Grey SNR", "", {"": _same, "1": _same, "ratio": _same, "db": lambda value: 10 ** (value / 20)}, None,
    ),
}  # fmt: skip

_TOO_FEW = "a heading and at least one line of numbers are needed: ISO, value"


@dataclass(frozen=True, slots=True)
class ForeignCurve:
    """A curve as it is kept: (ISO as printed, value in the quantity's unit), ISO ascending, and what was done on the way in."""

    points: tuple[tuple[int, float], ...]
    remarks: tuple[str, ...]


def read_curve(text: str, quantity: str, unit: str = "") -> ForeignCurve:
    """A curve from the text of a CSV of two columns, ISO and value, with a line of headings.

    ``quantity``: a key of QUANTITIES. ``unit``: as the tester says; empty: taken from the heading, in brackets or after a
    comma. Separators are comma, semicolon or tab; decimal commas are taken where the separator leaves no doubt. Raises
    ForeignError for anything else, naming the line.
    """
    known = QUANTITIES.get(quantity)
    if known is None:
        raise ForeignError(f"there is no quantity {quantity!r}; there are {', '.join(QUANTITIES)}")
    lines = [line for line in text.lstrip("\ufeff").splitlines() if line.strip() and not line.startswith("#")]
    if len(lines) < 2:
        raise ForeignError(_TOO_FEW)
    if len(lines) > _MOST_ROWS:
        raise ForeignError(f"{len(lines)} lines are not a curve along ISO; at most {_MOST_ROWS} are read")
    separator = next((sign for sign in "\t;," if sign in lines[0]), "")
    if not separator:
        raise ForeignError(
            f"line 1, {lines[0][:40]!r}: two columns are needed, ISO and value, apart by comma, semicolon or tab"
        )
    try:
        rows = list(csv.reader(io.StringIO("\n".join(lines)), delimiter=separator))
    except csv.Error as error:
        raise ForeignError(f"cannot be read as CSV ({error})") from error
    if len(rows[0]) < 2:
        raise ForeignError("line 1: two columns are needed, ISO and value")
    if len(rows) < 2:
        # A quotation mark that is never closed takes the lines after it along.
        raise ForeignError(_TOO_FEW)
    convert, said = _unit_of(known, unit or _named_in(rows[0][1]))
    points: dict[int, float] = {}
    commas = False
    for number, row in enumerate(rows[1:], start=2):
        if len(row) != 2:
            raise ForeignError(_too_many(number, row, separator))
        iso, _ = _number(row[0], number, separator)
        value, comma = _number(row[1], number, separator)
        commas = commas or comma
        mark = _mark(iso, number)
        if mark in points:
            raise ForeignError(f"line {number}: ISO {mark} stands twice")
        points[mark] = _converted(convert, value, number)
    remarks = ([said] if said else []) + (["decimal commas read as such"] if commas else [])
    return ForeignCurve(tuple(sorted(points.items())), tuple(remarks))


def _too_many(number: int, row: Sequence[str], separator: str) -> str:
    if separator == "," and len(row) in (3, 4):
        return (
            f"line {number} has {len(row)} fields: where the comma is also the decimal sign, nobody can tell which is which. "
            "Save with semicolons, or with decimal points."
        )
    return f"line {number} has {len(row)} fields, not two: ISO and value"


def _named_in(heading: str) -> str:
    """The unit in a heading: "read noise (e-)", "range [EV]", "range, stops"."""
    found = re.search(r"[\[(]([^\])]*)[\])]\s*$", heading) or re.search(r",\s*([^,]*)$", heading)
    return found.group(1) if found else ""


def _unit_of(known: ForeignQuantity, unit: str) -> tuple[Callable[[float], float], str]:
    key = unit.strip().lower()
    if key not in known.units:
        offered = ", ".join(name or "none" for name in known.units)
        named = f"the unit {unit.strip()!r}" if key else "no unit"
        hint = " DN cannot be turned into electrons without the gain." if key in ("dn", "adu", "lsb") else ""
        raise ForeignError(f"{known.name} has {named}: say it in the heading in brackets, as one of {offered}.{hint}")
    turned = known.units[key] is not _same
    return known.units[key], f"turned from {unit.strip()} into {known.unit or 'a ratio'}" if turned else ""


def _number(text: str, line: int, separator: str) -> tuple[float, bool]:
    """The number of a field, and whether it has a decimal comma."""
    plain = text.strip().replace("\u2212", "-").replace("\u00a0", "").replace(" ", "")
    comma = "," in plain
    if comma and ("." in plain or plain.count(",") > 1 or separator == ","):
        raise ForeignError(f"line {line}, {text.strip()!r}: points and commas mixed; write 12800 and 3.1")
    try:
        value = float(plain.replace(",", "."))
    except ValueError as error:
        raise ForeignError(f"line {line}, {text.strip()[:40]!r} is not a number") from error
    if not math.isfinite(value):
        raise ForeignError(f"line {line}, {text.strip()[:40]!r} is not a number that can be drawn")
    return value, comma


def _mark(iso: float, line: int) -> int:
    if not _ISO_RANGE[0] <= iso <= _ISO_RANGE[1] or iso != round(iso):
        raise ForeignError(f"line {line}: {iso:g} is no ISO mark; the first column is ISO as printed on the dial")
    return round(iso)


def _converted(convert: Callable[[float], float], value: float, line: int) -> float:
    """Ranges, noises and ratios are above nothing, and none is larger than this in any camera."""
    try:
        found = convert(value)
    except OverflowError as error:
        raise ForeignError(f"line {line}: {value:g} is too large for its unit") from error
    if not 0 < found < 1e6:
        raise ForeignError(f"line {line}: {value:g} cannot be right in this unit; check column and unit")
    return found
