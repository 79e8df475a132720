"""Simulated bodies read as a sitting reads them, for comparisons: what speaks for each ISO mark."""

from __future__ import annotations

import math
import sys
import tempfile
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

from yellowjacket.core.exposure import dial
from yellowjacket.core.limits.body_comparison import COMPARED, Effect, Readings, effects
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.patches.uniform import propose_patches
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungTask, measure_rung
from yellowjacket.simcam.bodies import HEATH, BodyModel
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.sensor import ExposureSettings


def with_read_noise(body: BodyModel, factor: float) -> BodyModel:
    """The body with a firmware whose read noise is ``factor`` times as large, before and after the gain."""
    modes = tuple(
        replace(mode, read_noise_before_gain_e=mode.read_noise_before_gain_e * factor) for mode in body.gain_modes
    )
    return replace(body, gain_modes=modes, read_noise_after_gain_dn=body.read_noise_after_gain_dn * factor)


def readings_of(body: BodyModel, seed: int, marks: tuple[int, ...], folder: Path) -> Readings:
    """Two light and two dark frames of each mark at the metered exposure, measured at the areas proposed on the first."""
    camera, number = SimulatedCamera(body, seed=seed), 0
    found: dict[int, dict] = {}
    patches: tuple[PatchSpec, ...] = ()
    for mark in marks:
        seconds = 1 / 8 * marks[0] / dial.exact_iso(mark)
        paths = {}
        for kind in ("light", "dark"):
            for repeat in (1, 2):
                number += 1
                path = folder / f"{body.key}-{seed}-{mark}-{kind}-{repeat}.dng"
                settings = ExposureSettings(mark, seconds, 8.0, capped=kind == "dark")
                camera.shoot(settings, path, number, datetime(2026, 3, 14, 20, tzinfo=UTC) + timedelta(seconds=number))
                paths.setdefault(kind, []).append(str(path))
        if not patches:
            pair = [read_frame(Path(one)) for one in paths["light"]]
            patches = tuple(PatchSpec(f"{n}", one.role, one.rect) for n, one in enumerate(propose_patches(*pair)))
        result = measure_rung(RungTask(mark, tuple(paths["light"]), tuple(paths["dark"]), patches))
        roles = {patch.name: patch.role for patch in patches}
        found[mark] = {}
        for one in result.readings:
            known = one.quantity.described
            if not one.use and (one.channel, roles.get(one.patch or "", "")) == (known.channel, known.role or ""):
                found[mark].setdefault(one.quantity, one.result)
        for path in (*paths["light"], *paths["dark"]):
            Path(path).unlink()
    assert not any(math.isnan(q.value or 0.0) for row in found.values() for q in row.values())
    return found


def main(seeds: int) -> None:
    """How often an unchanged firmware is called different, and a firmware with a quarter more read noise is missed."""
    marks, false, missed = (100, 800, 6400), 0, 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        before = readings_of(HEATH, 0, marks, folder)
        for seed in range(1, seeds + 1):
            same = readings_of(HEATH, seed, marks, folder)
            changed = readings_of(with_read_noise(HEATH, 1.25), 1000 + seed, marks, folder)
            false += any(one.who is not None for one in effects(before, same, COMPARED))
            missed += not worse_in_read_noise(effects(before, changed, COMPARED))
            before = same
    print(f"{seeds} seeds: {false} false alarms, {missed} missed")


def worse_in_read_noise(found: Sequence[Effect]) -> bool:
    """Whether the second body is called worse in read noise."""
    return any(one.quantity is Measurand.READ_NOISE_E and one.who == 1 for one in found)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20)
