"""The darks of one exposure time, measured: tiles, outstanding pixels, noise and bands. A pure function of files."""

from __future__ import annotations

import math
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from yellowjacket.core.banding import banding_of
from yellowjacket.core.dark_current import DarkTiles, dark_tiles
from yellowjacket.core.frames import CHANNELS, FrameError, RawFrame, read_frame
from yellowjacket.core.hot_pixels import PixelTable, hot_pixels
from yellowjacket.core.inspection import looks_dark
from yellowjacket.core.quantity import Quantity, missing, with_relative_error

# Frames of one time that are read; more add little.
MOST_FRAMES = 4
# Bands are told from the central part of a dark, in pixels of a channel.
_BAND_SIDE_PX = 1024
# No dark stands this far up the range, unless its channels stand there together.
_BRIGHT_SHARE = 0.02


@dataclass(frozen=True, slots=True)
class DarkGroup:
    """Darks of one exposure time at one temperature (None: not known), LENR off or on."""

    exposure_s: float
    temperature_c: float | None
    paths: tuple[str, ...]
    lenr: bool = False


@dataclass(frozen=True, slots=True)
class TimeTask:
    """A group to measure. ``shortest``: path of a dark of the shortest time. ``key`` is handed back."""

    group: DarkGroup
    gain_e_per_dn: float | None
    shortest: str | None = None
    key: int = 0


@dataclass(frozen=True, slots=True, eq=False)
class TimeFindings:
    """What one time gave. ``noise_dn``: temporal, of ordinary pixels, over the channels; ``pixels`` None from one frame;
    ``frames``: how many were read; ``problems``: files that could not be."""

    group: DarkGroup
    tiles: DarkTiles
    pixels: PixelTable | None
    noise_dn: Quantity
    rows_dn: Quantity
    columns_dn: Quantity
    frames: int
    range_dn: float
    problems: tuple[FrameError, ...] = ()


def measure_time(task: TimeTask) -> TimeFindings:
    """Read the darks of a group and measure them. A file that cannot be read becomes a problem.

    Raises FrameError when none can be read, or when the frames are of several sizes or no darks.
    """
    frames, problems = _readable(task.group.paths[:MOST_FRAMES])
    if len({frame.mosaic.shape for frame in frames}) != 1:
        raise FrameError(
            Path(task.group.paths[0]), "size", "and its repeats differ in size.", "Use darks of one raw mode only."
        )
    shortest = read_frame(Path(task.shortest)) if task.shortest and len(frames) > 1 else None
    if shortest is not None and shortest.mosaic.shape != frames[0].mosaic.shape:
        shortest = None
    return measured(task.group, frames, task.gain_e_per_dn, shortest, problems)


def measured(
    group: DarkGroup, frames: Sequence[RawFrame], gain: float | None, shortest: RawFrame | None = None,
    problems: Sequence[FrameError] = (),
) -> TimeFindings:  # fmt: skip
    """The same from frames that are read already. Raises FrameError for frames that are no darks."""
    for frame, path in zip(frames, group.paths, strict=False):
        if _bright(frame) and not looks_dark(frame, group.exposure_s):
            raise FrameError(
                Path(path), "not-dark", "is a light frame among darks.", "Assign it to a light shot, or leave it out."
            )
    with ThreadPoolExecutor(2) as pool:
        tiling = pool.submit(dark_tiles, group.exposure_s, frames)
        pixels = None
        if len(frames) > 1:
            try:
                pixels = hot_pixels(frames, gain, shortest)
            except ValueError as error:
                raise FrameError(
                    Path(group.paths[0]), "not-dark", f"cannot be read as a dark: {error}.", "Leave it out."
                ) from error
        tiles = tiling.result()
    rows, columns = _bands(frames)
    white = frames[0].white_dn - min(frames[0].black_dn.values())
    return TimeFindings(
        group, tiles, pixels, _noise(tiles), rows, columns, len(frames), white, tuple(problems)
    )  # fmt: skip


def _readable(paths: Sequence[str]) -> tuple[list[RawFrame], list[FrameError]]:
    frames, problems = [], []
    for path in paths:
        try:
            frames.append(read_frame(Path(path)))
        except FrameError as error:
            problems.append(error)
    if not frames:
        raise problems[0]
    return frames, problems


def _bright(frame: RawFrame) -> bool:
    """Whether a frame stands so high over black that only light, or a very warm sensor, explains it."""
    span = frame.white_dn - max(frame.black_dn.values())
    return any(
        float(np.median(frame.plane(channel)[::16, ::16])) - frame.black_dn[channel] > _BRIGHT_SHARE * span
        for channel in frame.offsets
    )


def _noise(tiles: DarkTiles) -> Quantity:
    """σ of ordinary pixels over the channels, from the middle tile; its error from the scatter of tiles."""
    variances = np.concatenate([one.ravel() for one in tiles.variances.values()])
    if not np.isfinite(variances).all() or not variances.size:
        return missing("one dark alone: its noise needs a second one")
    middle = float(np.median(variances))
    if middle <= 0:
        return missing("both darks are equal")
    spread = 1.4826 * float(np.median(np.abs(variances - middle)))
    relative = 1.2533 * spread / middle / math.sqrt(variances.size)
    return with_relative_error(math.sqrt(middle), max(relative / 2, 1e-4), variances.size)


def _bands(frames: Sequence[RawFrame]) -> tuple[Quantity, Quantity]:
    """Row and column noise of the channel that has most."""
    if len(frames) < 2:
        nothing = missing("one dark alone: bands need a second one")
        return nothing, nothing
    found = []
    for channel in CHANNELS:
        first, second = (frame.plane(channel) for frame in frames[:2])
        top, left = (max(0, (length - _BAND_SIDE_PX) // 2) for length in first.shape)
        part = np.s_[top : top + _BAND_SIDE_PX, left : left + _BAND_SIDE_PX]
        found.append(banding_of(first[part], second[part]))
    rows = max((one.row_dn for one in found), key=lambda q: q.value or 0.0)
    return rows, max((one.column_dn for one in found), key=lambda q: q.value or 0.0)
