"""What is true of a simulated body, for holding measurements against; no estimator reads it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from yellowjacket.simcam.bodies import BodyModel


def truth_of(body: BodyModel, isos: Sequence[int]) -> dict[str, Any]:
    """Gain, read noise as a short dark pair shows it (rows and rounding included), saturation and habits by ISO."""
    return {
        "schema": "yellowjacket-truth/1", "make": body.make, "model": body.model, "serial": body.serial,
        "black_dn": body.black_dn, "prnu": body.prnu, "dark_current_e_per_s": body.dark_current_e_per_s,
        "second_base_iso": body.gain_modes[1].from_iso if len(body.gain_modes) > 1 else None,
        "isos": [_at(body, iso) for iso in isos],
    }  # fmt: skip


def _at(body: BodyModel, iso: int) -> dict[str, Any]:
    gain, multiplied = 1 / body.gain_dn_per_e(iso), body.multiplied(iso)
    squares = (math.hypot(body.read_noise_e(iso), body.row_noise_e) / gain) ** 2
    # Rounded once by the converter, and once more after a multiplication.
    squares += multiplied**2 / 12 + (1 / 12 if multiplied > 1 else 0)
    noise_dn = math.sqrt(squares)
    return {
        "iso": iso, "gain_e_per_dn": gain, "read_noise_dn": noise_dn, "read_noise_e": noise_dn * gain,
        "saturation_e": body.saturation_e(iso), "smoothed": body.smooths(iso), "multiplied": multiplied,
    }  # fmt: skip
