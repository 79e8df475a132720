"""The darks of one exposure time, measured: tiles, outstanding pixels, noise and bands. A pure function of files."""

from __future__ import annotations

import math
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.darks.dark_current import DarkTiles, dark_tiles
from yellowjacket.core.darks.hot_pixels import PixelTable, hot_pixels
from yellowjacket.core.metrology.estimate import Quantity, missing, with_relative_error
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.metrology.robust import SIGMA_PER_MAD
from yellowjacket.core.noise.banding import banding_of
from yellowjacket.core.raw.dark_or_light import looks_dark
from yellowjacket.core.raw.frame import FrameError, RawFrame
from yellowjacket.core.raw.histograms import CODES, add_histogram, middle_of
from yellowjacket.core.raw.reader import read_frame

# Frames of one time that are read; more add little.
MOST_FRAMES = 4
# Bands are told from the central part of a dark, in pixels of a channel.
_BAND_SIDE_PX = 1024
# Of two darks of one time the one with less than this share of the other's points had a dark taken off.
_POINT_SIGMAS, _FEWEST_POINTS, _GONE_SHARE, _SMALL_PX = 30.0, 15, 1 / 3, 1_000_000
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
    frames, problems = _readable(task.group)
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
        group, tiles, pixels, noise_of(list(tiles.variances.values())), rows, columns, len(frames), white, tuple(problems)
    )  # fmt: skip


def _readable(group: DarkGroup) -> tuple[list[RawFrame], list[FrameError]]:
    """Up to MOST_FRAMES darks of a group, without those from which the body took a dark off while it did not from others:
    a file does not say whether LENR was on, but its hot pixels are gone."""
    frames: list[RawFrame] = []
    problems: list[FrameError] = []
    points: list[tuple[int, str]] = []
    for path in group.paths:
        if len(frames) == MOST_FRAMES:
            break
        try:
            frame = read_frame(Path(path))
        except FrameError as error:
            problems.append(error)
            continue
        frames.append(frame)
        points.append((_bright_points(frame), path))
        if group.lenr:
            continue
        most = max(count for count, _ in points)
        for n in reversed(range(len(points))):
            if most >= _FEWEST_POINTS and points[n][0] < _GONE_SHARE * most:
                problems.append(
                    FrameError(
                        Path(points[n][1]), "lenr", "had LENR on, unlike other darks of its time: its hot pixels are gone.",
                        "Measure darks with LENR in a folder of their own.",
                    )
                )  # fmt: skip
                del frames[n], points[n]
    if not frames:
        raise problems[0]
    return frames, problems


def _bright_points(frame: RawFrame) -> int:
    """How many of a sample of pixels stand far over the rest of their channel."""
    count = 0
    # Small frames have few points: all of them are looked at.
    step = 2 if frame.mosaic.size > _SMALL_PX else 1
    for plane in (plane for name in frame.channels for plane in frame.planes(name)):
        counts = np.zeros(CODES, np.int64)
        add_histogram(plane[::step, ::step], counts)
        codes = np.flatnonzero(counts)
        often = counts[codes]
        apart = codes - middle_of(codes.astype(np.float64), often)
        order = np.argsort(np.abs(apart))
        spread = middle_of(np.abs(apart)[order], often[order])
        count += int(often[apart > _POINT_SIGMAS * max(1.0, SIGMA_PER_MAD * spread)].sum())
    return count


def _bright(frame: RawFrame) -> bool:
    """Whether a frame stands so high over black that only light, or a very warm sensor, explains it."""
    span = frame.white_dn - max(frame.black_dn.values())
    return any(
        float(np.median(frame.planes(channel)[0][::16, ::16])) - frame.black_dn[channel] > _BRIGHT_SHARE * span
        for channel in frame.channels
    )


def noise_of(variances: Sequence[NDArray[np.float64]]) -> Quantity:
    """σ in DN of ordinary pixels from the temporal variances of tiles in DN²: the middle tile, its error from their
    scatter. Shapes (rows of tiles, columns of tiles).
    """
    every = np.concatenate([one.ravel() for one in variances])
    if not every.size or not np.isfinite(every).all():
        return missing(Missing.ONE_DARK_NOISE)
    middle = float(np.median(every))
    if middle <= 0:
        return missing(Missing.EQUAL_DARKS)
    spread = SIGMA_PER_MAD * float(np.median(np.abs(every - middle)))
    relative = 1.2533 * spread / middle / math.sqrt(every.size)
    return with_relative_error(math.sqrt(middle), max(relative / 2, 1e-4), every.size)


def _bands(frames: Sequence[RawFrame]) -> tuple[Quantity, Quantity]:
    """Row and column noise of the channel that has most."""
    if len(frames) < 2:
        nothing = missing(Missing.ONE_DARK_BANDS)
        return nothing, nothing
    found = []
    for channel in frames[0].channels:
        first, second = (frame.planes(channel)[0] for frame in frames[:2])
        top, left = (max(0, (length - _BAND_SIDE_PX) // 2) for length in first.shape)
        part = np.s_[top : top + _BAND_SIDE_PX, left : left + _BAND_SIDE_PX]
        found.append(banding_of(first[part], second[part], frames[0].layout.step))
    rows = max((one.row_dn for one in found), key=lambda q: q.value or 0.0)
    return rows, max((one.column_dn for one in found), key=lambda q: q.value or 0.0)
