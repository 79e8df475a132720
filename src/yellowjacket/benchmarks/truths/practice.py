"""What testers call clean, usable and the last resort, looking pixel by pixel, on bodies with as many pixels on as much sensor as
theirs: the defaults must come out there (common practice, no source; the bodies are invented)."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from yellowjacket.benchmarks.truths.row import Row
from yellowjacket.core.exposure import dial
from yellowjacket.core.limits.iso_limits import Limit, RungFindings, measured_limits
from yellowjacket.core.limits.tolerance import LEVELS, Profile
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Reading
from yellowjacket.core.raw.frame import BAYER, LARGE_TILE, Layout, RawFrame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.ladder import relate_rungs, rung_signals
from yellowjacket.core.readings.output_size import UseSize
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungTask, measure_frames
from yellowjacket.simcam.bodies import HEATH, HOLT, BodyModel
from yellowjacket.simcam.scene import Scene, patch_colours
from yellowjacket.simcam.sensor import ExposureSettings, Lamp, expose

FULL_FRAME_45 = replace(HEATH, width_px=8256, height_px=5504)
SMALLER_26 = HOLT
# Clean: no compromise. Usable: until definition of colour goes, or noise wants work. Emergency: until little is left.
PRACTICE = {FULL_FRAME_45.key: (1600, 6400, 25600), SMALLER_26.key: (1600, 6400, 51200)}
NEAR_STOPS = 2 / 3
USES = (UseSize("print", 24_000_000), UseSize("web", 2_000_000))
# Grey, white, shadow and black areas above, colours below; pixels.
_AREA, _CELL = 192, 72
_GREYS = {"grey": 0.18, "shadow": 0.18 / 8, "highlight": 0.7, "black": 0.002}


def _scene() -> tuple[Scene, tuple[PatchSpec, ...]]:
    reflectance = np.full((_AREA + 3 * _CELL, 10 * _CELL, 3), 0.18, np.float32)
    patches = []
    for n, (role, light) in enumerate(_GREYS.items()):
        reflectance[:_AREA, n * 180 : n * 180 + 180] = light
        patches.append(PatchSpec(role, role, Rect(n * 180 + 6, 6, 168, 180)))
    for n, colour in enumerate(patch_colours()):
        x, y = n % 10 * _CELL, _AREA + n // 10 * _CELL
        reflectance[y : y + _CELL, x : x + _CELL] = colour
        patches.append(PatchSpec(f"colour {n}", "colour", Rect(x + 4, y + 2, _CELL - 8, _CELL - 6)))
    return Scene("areas", reflectance), tuple(patches)


SCENE, PATCHES = _scene()
ROLES = {patch.name: patch.role for patch in PATCHES}


def _frame(body: BodyModel, settings: ExposureSettings, rng: np.random.Generator) -> RawFrame:
    side = body.tile_side
    tile = [list(body.filters[n * side : n * side + side]) for n in range(side)]
    if side == 2:
        tile = [["R", "G1"], ["G2", "B"]]
    layout = Layout(BAYER if side == 2 else LARGE_TILE, tuple(map(tuple, tile)))
    black = dict.fromkeys(layout.channels, float(body.black_dn))
    mosaic = expose(body, SCENE, settings, Lamp(), rng)
    return RawFrame(mosaic, layout, black, float(body.white_dn), body.matrix, None)


def ladder_of(body: BodyModel, rng: np.random.Generator) -> dict[int, tuple[Reading, ...]]:
    """Readings of every full stop at correct exposure, by ISO."""
    base = int(body.base_iso)
    isos = [int(dial.iso_mark(base * 2.0**n).nominal) for n in range(10)]
    readings = {}
    for iso in isos:
        shot = ExposureSettings(iso, 1 / 8 * 100 / dial.exact_iso(iso), 8.0)
        light, dark = ([_frame(body, replace(shot, capped=capped), rng) for _ in range(2)] for capped in (False, True))
        task = RungTask(iso, (), (), PATCHES, USES, (body.width_px, body.height_px))
        readings[iso] = measure_frames(light, dark, task)
    signals = [rung_signals(iso, own, ROLES, 0.0, {}) for iso, own in readings.items()]
    related = relate_rungs(signals, isos[0], body.matrix)
    return {iso: (*own, *related[iso]) for iso, own in readings.items()}


def limits_of(readings: Mapping[int, Sequence[Reading]], profile: Profile, use: str = "") -> Mapping[str, Limit]:
    """The limits of a ladder by level, per pixel or for a use."""

    def findings(rows: Sequence[Reading]) -> dict[str, Quantity]:
        found = {}
        for criterion in profile.criteria:
            told = criterion.quantity.described
            for size in dict.fromkeys(("", use)):
                for one in rows:
                    place = (one.quantity, one.use, one.channel, ROLES.get(one.patch or "", ""))
                    if place == (criterion.quantity, size, told.channel, told.role):
                        found[criterion.key] = one.result
        return found

    rungs = [RungFindings(dial.exact_iso(iso), iso, findings(rows)) for iso, rows in readings.items()]
    return measured_limits(rungs, profile)


def limits_of_testers(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """The default profile on both bodies; nothing less than the whole of it tells anything."""
    if share < 1:
        return
    for body, name in ((FULL_FRAME_45, "45 MP, full frame"), (SMALLER_26, "26 MP, the smaller format")):
        found = limits_of(ladder_of(body, rng), Profile("Default"))
        for level, iso in zip(LEVELS, PRACTICE[body.key], strict=True):
            crossing = found[level].crossing
            apart = math.log2(crossing / iso) if crossing else math.inf
            yield Row(
                f"Default {level} limit", f"{name}, practice says ISO {iso}", "within ⅔ stop", f"{apart:+.2f} stop",
                abs(apart) < NEAR_STOPS,
            )  # fmt: skip
