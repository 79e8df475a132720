"""A body on a tripod before the scene: set it, release it, get a DNG file."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from fractions import Fraction
from pathlib import Path

import numpy as np
from PIL import Image

from yellowjacket.core.export.dng import CaptureData, DngImage, Storage, write_dng
from yellowjacket.core.exposure.dial import SHUTTER_MARKS, mark_from_nominal
from yellowjacket.simcam.bodies import BodyModel
from yellowjacket.simcam.scene import Scene, specimen_drawer
from yellowjacket.simcam.sensor import ExposureSettings, Lamp, expose, neutral_response


@dataclass(frozen=True, slots=True)
class SimulatedCamera:
    """A body, its lamp and its scene. The same seed and frame number give the same frame, bit for bit."""

    body: BodyModel
    seed: int = 1
    lamp: Lamp = field(default_factory=Lamp)
    scene: Scene = field(default_factory=specimen_drawer)

    def shoot(self, settings: ExposureSettings, path: Path, frame_number: int, captured_at: datetime) -> None:
        """Take frame ``frame_number`` and write it to ``path`` as DNG.

        Raises ValueError when the body has no such ISO or shutter time.
        """
        self.check(settings)
        rng = np.random.default_rng([self.seed, frame_number])
        body = self.body
        capture = CaptureData(
            body.make, body.model, body.serial, body.firmware, round(settings.iso),
            _printed_time(settings.exposure_s), Fraction(settings.f_number).limit_denominator(10), captured_at,
        )  # fmt: skip
        neutral = neutral_response(body, self.lamp)
        shift = max(0, body.bits - (settings.bits or body.bits))
        black, white = (body.black_dn >> shift,) * 4, body.white_dn >> shift
        mosaic = expose(body, self.scene, settings, self.lamp, rng)
        filters = () if settings.linear else body.filters
        image = DngImage(
            mosaic,
            filters,
            black,
            white,
            body.matrix,
            neutral.tolist(),
            capture,
            Storage.PLAIN if settings.linear else body.storage,
        )
        write_dng(path, image)

    def write_jpeg(self, path: Path) -> None:
        """What a body writes whose quality setting was left on JPEG: a small rendered picture."""
        step = 4
        light = np.clip(self.scene.reflectance[::step, ::step] / 0.9, 0, 1) ** (1 / 2.2)
        Image.fromarray(np.rint(255 * light).astype(np.uint8)).save(path, "JPEG")

    def check(self, settings: ExposureSettings) -> None:
        """Raise ValueError, with a sentence, for settings the dial does not have."""
        body = self.body
        if not body.lowest_iso <= settings.iso <= body.highest_iso:
            raise ValueError(
                f"{body.make} {body.model} has ISO {body.lowest_iso} to {body.highest_iso}, not {settings.iso:g}"
            )
        # A printed mark may be a rounding below the fastest time (1/8000 stands for 1/8192).
        if settings.exposure_s < body.fastest_shutter_s * 0.97:
            raise ValueError(f"{body.make} {body.model} has no shutter time as short as {settings.exposure_s:g} s")


def _printed_time(exposure_s: float) -> Fraction:
    """The time as the body writes it into the file: the printed mark, not the exact power of two."""
    mark = mark_from_nominal(SHUTTER_MARKS, exposure_s)
    nominal = mark.nominal if mark else exposure_s
    if nominal < 0.3:
        return Fraction(1, round(1 / nominal))
    return Fraction(nominal).limit_denominator(10)
