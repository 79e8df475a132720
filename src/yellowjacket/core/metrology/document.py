"""Estimates as plain values for JSON."""

from __future__ import annotations

import math
from typing import Any

from yellowjacket.core.metrology.estimate import Quantity

Document = dict[str, Any]


def quantity(found: Quantity) -> Document:
    """``value`` with its 95 % interval and n; null with a reason where there is none. A known one may carry a remark."""

    def finite(number: float | None) -> float | None:
        return float(number) if number is not None and math.isfinite(number) else None

    document: Document = {
        "value": finite(found.value), "low": finite(found.low), "high": finite(found.high), "n": int(found.n),
    }  # fmt: skip
    if found.reason or document["value"] is None:
        document["reason"] = found.reason or "not measured"
    return document
