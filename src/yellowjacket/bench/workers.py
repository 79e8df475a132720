"""What worker processes run: pure functions of files and plain values. No Django in here, no database."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from uuid import uuid4

import numpy as np

from yellowjacket.core.darks.hot_pixels import HotPixel
from yellowjacket.core.patches.uniform import Proposal, propose_patches
from yellowjacket.core.raw.first_look import FrameFacts, inspect_file
from yellowjacket.core.raw.picture_file import read_rendered
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.simcam.bodies import BODIES
from yellowjacket.simcam.camera import SimulatedCamera
from yellowjacket.simcam.scene import disturbed, specimen_drawer
from yellowjacket.simcam.sensor import ExposureSettings, Lamp


@dataclass(frozen=True, slots=True)
class Release:
    """One release of the simulated camera."""

    body_key: str
    settings: ExposureSettings
    path: str
    frame_number: int
    captured_at: datetime
    seed: int
    # Light on the sensor against the metered lamp: dimmer, filters.
    light_stops: float = 0.0
    # Mishaps: the camera nudged by (x, y) pixels, out of focus by σ pixels, a JPEG written instead of raw.
    shift_px: tuple[int, int] = (0, 0)
    blur_px: float = 0.0
    jpeg: bool = False


def release(order: Release) -> FrameFacts:
    """Take the shot, write the file, look at it. A file that is there already is not shot again.

    Raises FrameError for what the camera wrote but nobody can use, such as a JPEG.
    """
    path = Path(order.path)
    if not path.exists():
        lamp = Lamp(ev100=Lamp().ev100 + order.light_stops)
        scene = specimen_drawer()
        if order.shift_px != (0, 0) or order.blur_px:
            scene = disturbed(scene, order.shift_px, order.blur_px)
        camera = SimulatedCamera(BODIES[order.body_key], order.seed, lamp, scene)
        if order.jpeg:
            camera.write_jpeg(path)
        else:
            camera.shoot(order.settings, path, order.frame_number, order.captured_at)
    return inspect_file(order.path)


def bright_points_in(path: str) -> list[HotPixel]:
    """Pixels of a light frame that look hot. Raises FrameError."""
    from yellowjacket.core.darks.defects_in_light import bright_points

    return bright_points(read_frame(Path(path)))


def propose_from(files: tuple[str, ...]) -> tuple[Proposal, ...]:
    """Patch proposals from the files of a pair, or from one alone."""
    first, *others = (read_frame(Path(path)) for path in files)
    return propose_patches(first, others[0] if others else None)


@dataclass(frozen=True, slots=True)
class DecodeTask:
    """A file whose pixels are wanted at ``target`` (.npy). ``quarter_turns``: of a rendered picture; None for a raw file."""

    path: str
    target: str
    quarter_turns: int | None = None


def decode_to_file(task: DecodeTask) -> None:
    """What a worker does: decode, and move the array to its place in one step."""
    if task.quarter_turns is None:
        pixels = read_frame(Path(task.path)).mosaic
    else:
        pixels = np.ascontiguousarray(np.rot90(read_rendered(Path(task.path)), task.quarter_turns))
    target = Path(task.target)
    target.parent.mkdir(parents=True, exist_ok=True)
    partial = target.with_name(f".{target.name}.{uuid4().hex}.part")
    try:
        with partial.open("wb") as file:
            np.save(file, pixels)
            file.flush()
        partial.replace(target)
    finally:
        partial.unlink(missing_ok=True)
