"""From the files of one ISO setting to what is counted and measured in them, one frame pair at a time.

What is gathered is small: noise by area, sums by tile, histograms. Frames are not kept.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.noise.banding import Banding, banding_of
from yellowjacket.core.noise.fixed_pattern import FixedPattern, fixed_pattern, joint_pattern
from yellowjacket.core.noise.level import level_of
from yellowjacket.core.noise.two_frame import PairNoise, joint_noise, pair_noise
from yellowjacket.core.patches.uniform import uniform_patches
from yellowjacket.core.raw.frame import FrameError, RawFrame
from yellowjacket.core.raw.histograms import CODES, add_histogram, tile_means_and_noise, tile_sums
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect

# Uniform areas taken from one pair; more add nothing but time.
_MOST_PATCHES = 240
# Side of the central part of a dark that is read, in raw pixels.
_DARK_SIDE_PX = 2048
# Masked borders narrower than this say little.
_MASKED_LEAST_PX = 8
# A dark smaller than this says nothing.
_LEAST_SIDE_PX = 32
# Tiles in which temporal noise is held against the light, in pixels of a channel.
_TILE_PX = 8
# Whole-frame counts take every few lines of planes larger than this.
_ENOUGH_PX = 1_500_000


@dataclass(frozen=True, slots=True)
class Exposures:
    """Files of one exposure time, in the order of the clock."""

    exposure_s: float
    paths: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class IsoTask:
    """All frames of a body at one ISO setting, light and dark."""

    iso: int
    light: tuple[Exposures, ...]
    dark: tuple[Exposures, ...]


@dataclass(slots=True)
class Channel:
    """What is gathered for one channel while the files go by."""

    black: Quantity = field(default_factory=lambda: missing(Missing.NO_FRAME))
    light: list[PairNoise] = field(default_factory=list)
    patterns: list[tuple[float, FixedPattern]] = field(default_factory=list)
    dark: list[PairNoise] = field(default_factory=list)
    dark_pattern: FixedPattern | None = None
    dark_counts: NDArray[np.int64] = field(default_factory=lambda: np.zeros(CODES, np.int64))
    light_counts: NDArray[np.int64] = field(default_factory=lambda: np.zeros(CODES, np.int64))
    tiles: list[tuple[NDArray[np.float64], NDArray[np.float64]]] = field(default_factory=list)
    banding: list[Banding] = field(default_factory=list)


@dataclass(slots=True)
class Gathered:
    """What is gathered of one ISO: by channel, and what holds for all of them."""

    channels: dict[str, Channel] = field(default_factory=dict)
    white_dn: float = 0.0
    white_said: bool = True
    size: tuple[int, int] | None = None
    layout: str = ""
    black_source: str = "the file's tag"
    noise_source: str = ""
    patches: int = 0
    problems: list[FrameError] = field(default_factory=list)


def _frames(paths: Iterable[str], gathered: Gathered) -> list[RawFrame]:
    """The frames that could be read and share the size of the first of this ISO; equal mosaics count once."""
    frames: list[RawFrame] = []
    for name in paths:
        try:
            frame = read_frame(Path(name))
        except FrameError as error:
            gathered.problems.append(error)
            continue
        if gathered.size is None:
            gathered.size, gathered.layout, gathered.white_dn = frame.size, frame.layout.name, frame.white_dn
            gathered.white_said = "white" not in frame.unsaid
        if frame.size != gathered.size or frame.layout.name != gathered.layout:
            reason = f"is {frame.size[0]} × {frame.size[1]} px, the others {gathered.size[0]} × {gathered.size[1]}."
            gathered.problems.append(FrameError(Path(name), "size", reason, "Measure one raw mode at a time."))
            continue
        # Flats that clip all over are alike without being copies.
        if frame.mosaic.min() != frame.mosaic.max() and any(
            np.array_equal(frame.mosaic, other.mosaic) for other in frames
        ):
            reason = "holds the same numbers as another file."
            gathered.problems.append(FrameError(Path(name), "duplicate", reason, "Leave the copy out."))
            continue
        frames.append(frame)
        for channel in frame.channels:
            gathered.channels.setdefault(channel, Channel())
    return frames


def pairs_of(frames: Sequence[RawFrame]) -> list[tuple[RawFrame, RawFrame]]:
    """Frames two by two, each in one pair, so that pairs are independent."""
    return [(frames[n], frames[n + 1]) for n in range(0, len(frames) - 1, 2)]


def _centre(frame: RawFrame) -> Rect:
    """The central part of a dark, clear of masked borders, on whole tiles of the layout."""
    width, height = frame.size
    top, left = frame.margins
    unit = 2 * frame.layout.step
    w, h = (min(side, _DARK_SIDE_PX) // unit * unit for side in (width - left, height - top))
    x = left + (width - left - w) // 2 // unit * unit
    y = top + (height - top - h) // 2 // unit * unit
    return Rect(x, y, w, h)


def gather_darks(task: IsoTask, gathered: Gathered) -> None:
    """Black, read noise, neighbours and bands from the darks of the shortest time that has a pair."""
    groups = sorted(task.dark, key=lambda group: (len(group.paths) < 2, group.exposure_s))
    for n, group in enumerate(groups):
        frames = _frames(group.paths, gathered)
        for frame in frames:
            count_codes(frame, gathered, light=False)
        if n == 0:
            take_darks(frames, gathered)


def take_darks(frames: Sequence[RawFrame], gathered: Gathered) -> None:
    """Black, read noise, neighbours and bands from darks of one time; frames too small to tell are passed over."""
    if not frames or min(_centre(frames[0]).w, _centre(frames[0]).h) < _LEAST_SIDE_PX:
        return
    gathered.black_source = counted(len(frames), "dark frame")
    rect = _centre(frames[0])
    for name in frames[0].channels:
        channel = gathered.channels[name]
        channel.black = _level(frames, rect, name)
        for first, second in pairs_of(frames):
            _dark_pair(channel, rect.parts(first, name), rect.parts(second, name), first.layout.step)
    if any(channel.dark for channel in gathered.channels.values()):
        gathered.noise_source = "darks"


def _level(frames: Sequence[RawFrame], rect: Rect, name: str) -> Quantity:
    return level_of([rect.parts(frame, name) for frame in frames])


def _dark_pair(
    channel: Channel, first: Sequence[NDArray[np.uint16]], second: Sequence[NDArray[np.uint16]], step: int
) -> None:
    black = channel.black.value or 0.0
    found = joint_noise([pair_noise(a, b, black, dark=True) for a, b in zip(first, second, strict=True)])
    if not found.noise.known:
        return
    channel.dark.append(found)
    channel.dark_pattern = joint_pattern([fixed_pattern(a, b) for a, b in zip(first, second, strict=True)])
    channel.banding.append(banding_of(first[0], second[0], step))


def count_codes(frame: RawFrame, gathered: Gathered, *, light: bool) -> None:
    """Add a frame to the histograms of its channels, those of light frames or those of darks."""
    for name in frame.channels:
        channel = gathered.channels[name]
        for plane in frame.planes(name):
            # Millions of pixels tell gaps and piles as well as tens of millions.
            rows = plane[:: _every(plane.size)]
            add_histogram(rows, channel.light_counts if light else channel.dark_counts)


def gather_light(task: IsoTask, gathered: Gathered) -> None:
    """Noise by uniform area, sums by tile and histograms from every pair of light frames."""
    for group in task.light:
        frames = _frames(group.paths, gathered)
        for frame in frames:
            count_codes(frame, gathered, light=True)
        if frames and not black_without_darks(frames, gathered):
            gathered.problems.append(no_black(Path(group.paths[0])))
            continue
        if len(frames) == 1:
            gathered.problems.append(
                FrameError(
                    Path(group.paths[0]), "single", f"is the only frame at ISO {task.iso} and its exposure time.",
                    "Noise needs a pair: shoot another.",
                )
            )  # fmt: skip
        for first, second in pairs_of(frames):
            _light_pair(first, second, gathered, uniform_patches(first, second, _MOST_PATCHES))


def no_black(path: Path) -> FrameError:
    """The problem of a file whose black level nobody knows."""
    return FrameError(path, "levels", "names an impossible black level.", "Shoot darks of this ISO: they measure it.")


def black_without_darks(frames: Sequence[RawFrame], gathered: Gathered) -> bool:
    """Masked pixels where there are no darks, else what the file says; both only once. Whether black is known then."""
    frame = frames[0]
    masked = masked_part(frame)
    for name in frame.channels:
        channel = gathered.channels[name]
        if channel.black.known:
            continue
        if masked is None and "black" in frame.unsaid:
            return False
        if masked is None:
            channel.black = Quantity(frame.black_dn[name], notes=(Note(Remark.BLACK_FROM_TAG),))
            continue
        gathered.black_source = "masked pixels"
        channel.black = _level(frames, masked, name)
        for first, second in pairs_of(frames):
            _dark_pair(channel, masked.parts(first, name), masked.parts(second, name), first.layout.step)
    read = any(channel.dark for channel in gathered.channels.values())
    if masked is not None and not gathered.noise_source and read:
        gathered.noise_source = "masked pixels"
    return True


def masked_part(frame: RawFrame) -> Rect | None:
    """The wider of the masked borders, or None when there is none to speak of."""
    top, left = frame.margins
    width, height = frame.size
    unit = 2 * frame.layout.step
    if left >= max(_MASKED_LEAST_PX, unit) and left * (height - top) >= top * width:
        return Rect(0, math.ceil(top / unit) * unit, left // unit * unit, (height - top) // unit * unit - unit)
    if top >= max(_MASKED_LEAST_PX, unit):
        return Rect(0, 0, width // unit * unit, top // unit * unit)
    return None


def _light_pair(first: RawFrame, second: RawFrame, gathered: Gathered, rects: Sequence[Rect]) -> None:
    gathered.patches += len(rects)
    for name in first.channels:
        channel = gathered.channels[name]
        black = channel.black.value or 0.0
        for rect in rects:
            one, other = rect.parts(first, name), rect.parts(second, name)
            pairs = zip(one, other, strict=True)
            keep_area(
                channel, joint_noise([pair_noise(a, b, black, clip_dn=first.white_dn) for a, b in pairs]), one, other
            )
    keep_tiles(first, second, gathered)


def keep_area(
    channel: Channel, noise: PairNoise, one: Sequence[NDArray[np.uint16]], other: Sequence[NDArray[np.uint16]]
) -> None:
    """Keep the noise of an area and what stays from frame to frame in it; ``one``, ``other``: its pixels by site.

    Shapes (height, width), DN.
    """
    if not noise.noise.known:
        return
    channel.light.append(noise)
    pattern = joint_pattern([fixed_pattern(a, b) for a, b in zip(one, other, strict=True)])
    channel.patterns.append((noise.signal.value or 0.0, pattern))


def keep_tiles(first: RawFrame, second: RawFrame, gathered: Gathered) -> None:
    """Level and temporal noise of small tiles over the frame: where wells are full the noise vanishes."""
    for name in first.channels:
        for a, b in zip(first.planes(name), second.planes(name), strict=True):
            step = _every(a.size)
            bands = [_band_of(plane, step) for plane in (a, b)]
            sums = tile_sums(bands[0], bands[1], _TILE_PX)
            gathered.channels[name].tiles.append(tile_means_and_noise(sums, _TILE_PX))


def _every(pixels: int) -> int:
    """Which part of a plane is enough for whole-frame counts: one in so many lines."""
    return max(1, pixels // _ENOUGH_PX)


def _band_of(plane: NDArray[np.uint16], step: int) -> NDArray[np.uint16]:
    """Whole rows of tiles, every so many of them, as a view where all are wanted."""
    if step == 1:
        return plane
    rows = plane.shape[0] // (_TILE_PX * step) * _TILE_PX * step
    parts = plane[:rows].reshape(-1, step, _TILE_PX, plane.shape[1])[:, 0]
    return parts.reshape(-1, plane.shape[1])
