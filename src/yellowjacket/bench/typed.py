"""Numbers as people and addresses write them: one set of decoders for everything that is typed or sent."""

from __future__ import annotations

import math
import re

# What a database can hold of a number, and no longer.
MOST_ID = 10**18 - 1
_WHOLE = re.compile(r"[0-9]{1,18}", re.ASCII)
_LONGEST = 40


def whole(text: object, least: int = 0, most: int = MOST_ID) -> int | None:
    """A whole number in plain digits, None for anything else and for what lies outside."""
    found = _WHOLE.fullmatch(str(text or "").strip())
    if found is None:
        return None
    number = int(found.group())
    return number if least <= number <= most else None


def decimal(text: object, least: float = -1e12, most: float = 1e12) -> float | None:
    """A number as it is written by hand or by our pages: a comma or a point, a minus or a true minus sign. None for anything
    else, for what is not finite, and for what lies outside."""
    plain = str("" if text is None else text).strip().replace(",", ".").replace("−", "-")
    if not plain or len(plain) > _LONGEST or "_" in plain:
        return None
    try:
        number = float(plain)
    except ValueError:
        return None
    return number if math.isfinite(number) and least <= number <= most else None


def identity(text: object) -> int:
    """The number of a row as an address or a form names it; 0, which no row has, for anything else."""
    return whole(text) or 0
