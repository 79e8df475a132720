"""Numbers that change only with the version of the method that made them.

``python -m tests.golden`` writes golden.json anew, after a version was raised.
"""

from __future__ import annotations

import json
import os
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from tests import darks, making
from yellowjacket.core.darks.exposure_group import DarkGroup, TimeTask, measure_time
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungTask, measure_rung

PATH = Path(__file__).with_name("golden.json")
_STEP_PX = making.WIDTH // making.STEPS
# Patches whose readings are told; the others serve the fit.
_TOLD = (None, *(f"{step}-0" for step in (making.GREY_STEP, making.GREY_STEP + 3, making.STEPS - 1)))
_ROLES = {making.GREY_STEP: "grey", making.GREY_STEP + 3: "shadow", making.STEPS - 1: "black"}


def made(folder: Path) -> dict[str, Any]:
    """Readings of a made rung and findings of made darks, with the versions of the methods."""
    from yellowjacket.bench.darks import measure as darks_measure
    from yellowjacket.bench.measure import run

    return {
        "readings": {"version": run.METHOD_VERSION.rpartition("/")[2], "values": _readings(folder)},
        "darks": {"version": darks_measure.METHOD_VERSION.rpartition("/")[2], "values": _darks(folder)},
    }


def _readings(folder: Path) -> dict[str, list[float | None]]:
    rng = np.random.default_rng(20260314)
    names = [str(making.write(folder / f"G{n}.DNG", making.shot(200, rng, dark=n > 1), iso=200)) for n in range(4)]
    patches = tuple(
        PatchSpec(
            f"{step}-{row}", "field" if row else _ROLES.get(step, "field"),
            Rect(step * _STEP_PX + 8, 8 + row * 72, 64, 64),
        )
        for step in range(making.STEPS) for row in range(4)
    )  # fmt: skip
    found = measure_rung(RungTask(1, tuple(names[:2]), tuple(names[2:]), patches))
    return {
        f"{r.patch or ''} {r.channel} {r.quantity} {r.use}".strip(): _rounded(r.result)
        for r in found.readings
        if r.patch in _TOLD
    }


def _darks(folder: Path) -> dict[str, list[float | None]]:
    rng = np.random.default_rng(20260315)
    hot = [(30 + 12 * n, 60, 3.0 + n) for n in range(20)]
    paths = darks.write_darks(folder, rng, 60.0, 2, rate_e=0.05, hot=hot)
    found = measure_time(TimeTask(DarkGroup(60.0, 20.0, tuple(map(str, paths)), False), 2.0, str(paths[0]), 0))
    assert found.pixels is not None
    told = {"noise": found.noise_dn, "rows": found.rows_dn, "columns": found.columns_dn}
    values = {name: _rounded(quantity) for name, quantity in told.items()}
    kinds, counts = np.unique(found.pixels.rows["kind"], return_counts=True)
    values["kinds"] = [float(number) for pair in zip(kinds, counts, strict=True) for number in pair]
    values["excess"] = [float(f"{float(np.sum(found.pixels.rows['excess_dn'])):.6g}")]
    return values


def _rounded(quantity: Quantity) -> list[float | None]:
    ends = (quantity.value, quantity.low, quantity.high)
    return [None if end is None else float(f"{end:.6g}") for end in ends]


def main() -> None:
    """Write the numbers anew."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yellowjacket.settings.test")
    import django

    django.setup()
    with tempfile.TemporaryDirectory() as folder:
        PATH.write_text(json.dumps(made(Path(folder)), indent=1, ensure_ascii=False) + "\n")


if __name__ == "__main__":
    main()
