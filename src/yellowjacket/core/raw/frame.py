"""What a raw frame is: its mosaic, its channels, its claims, and why a file is none."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

BAYER, QUAD, LARGE_TILE, MONOCHROME, LINEAR = "2×2", "4×4", "6×6", "monochrome", "linear"
# What a camera or a converter has rendered already: linear light of its sRGB codes, white at the top code.
PICTURE = "picture"
# What is read as a picture where it is no raw file.
PICTURE_SUFFIXES = (".jpg", ".jpeg", ".png", ".tif", ".tiff", ".heic", ".heif")
# The first green of any layout: what stands for luminance where one channel must.
GREENS = ("G1", "G", "M")
# Every name a channel can have, in the order they are shown in.
CHANNEL_NAMES = ("R", "G1", "G2", "G", "B", "M")
_HASH_BLOCK_BYTES = 1 << 20


Value = TypeVar("Value")


# Code of the error for a file that LibRaw does not know.
NOT_RAW = "not-raw"


class FrameError(Exception):
    """A file that cannot be used as a frame: ``code`` for programs, ``reason`` and ``remedy`` for people."""

    def __init__(self, path: Path, code: str, reason: str, remedy: str) -> None:
        super().__init__(f"{path.name}: {reason} {remedy}")
        self.path, self.code, self.reason, self.remedy = path, code, reason, remedy

    def __reduce__(self) -> tuple[type[FrameError], tuple[Path, str, str, str]]:
        # Errors travel from worker processes; the default would call __init__ with the message alone.
        return FrameError, (self.path, self.code, self.reason, self.remedy)


@dataclass(frozen=True, slots=True)
class Site:
    """Where pixels of a channel lie in the mosaic: the first one, and the steps to the next down and across."""

    row: int
    column: int
    row_step: int
    column_step: int


@dataclass(frozen=True, slots=True)
class Layout:
    """Which channel every pixel of a mosaic belongs to.

    ``tile``: names of the channels, row by row, as they repeat from the upper left of the full raw area: R, G1, G2, B of
    2×2 tiles, R, G, B of larger ones, M without filters. ``samples``: numbers to a pixel; three-sample linear raw has them
    side by side, and a tile of one row of three. Channels come in the order R, G, B.
    """

    name: str
    tile: tuple[tuple[str, ...], ...]
    samples: int = 1

    @classmethod
    def from_plain(cls, plain: Mapping[str, Any]) -> Layout:
        """From what ``plain`` gave, or from what was stored before other layouts than 2×2 were: the place of each channel."""
        if "tile" in plain:
            return cls(str(plain["name"]), tuple(tuple(map(str, row)) for row in plain["tile"]), int(plain["samples"]))
        at = {tuple(place): channel for channel, place in plain.items()}
        return cls(BAYER, ((at[0, 0], at[0, 1]), (at[1, 0], at[1, 1])))

    @property
    def plain(self) -> dict[str, Any]:
        """As JSON has it."""
        return {"name": self.name, "tile": [list(row) for row in self.tile], "samples": self.samples}

    @property
    def channels(self) -> tuple[str, ...]:
        """Names of the channels."""
        return _channels_of(self)

    @property
    def greens(self) -> tuple[str, ...]:
        """The channels that carry luminance: both greens, the green, or the only one."""
        return tuple(name for name in self.channels if name[0] in "GM")

    @property
    def coloured(self) -> bool:
        """Whether there are filters: without, there is no colour, and no noise of it."""
        return len(self.channels) > 1

    @property
    def demosaiced(self) -> bool:
        """Whether somebody interpolated the numbers before they were written: no pixel has its own noise any more."""
        return self.samples > 1

    @property
    def rendered(self) -> bool:
        """Whether a camera or converter made a picture of it: no number of it is one of the sensor."""
        return self.name == PICTURE

    @property
    def step(self) -> int:
        """Raw pixels after which the layout repeats, along both sides."""
        return len(self.tile)

    @property
    def cell(self) -> int:
        """Side in raw pixels of the smallest square that holds all channels wherever it lies on the tile's grid."""
        return _cell_of(self)

    def sites(self, channel: str) -> tuple[Site, ...]:
        """All sites of a channel in the tile, row by row."""
        return _sites_of(self)[channel]

    def at(self, x: int, y: int) -> str:
        """The channel of the pixel at ``x``, ``y`` of the full raw area."""
        return self.tile[y % len(self.tile)][x % len(self.tile[0])]


@lru_cache(maxsize=64)
def _channels_of(layout: Layout) -> tuple[str, ...]:
    there = {name for row in layout.tile for name in row}
    return tuple(name for name in CHANNEL_NAMES if name in there)


@lru_cache(maxsize=64)
def _sites_of(layout: Layout) -> dict[str, tuple[Site, ...]]:
    rows, columns = len(layout.tile), len(layout.tile[0])
    found: dict[str, list[Site]] = {channel: [] for channel in layout.channels}
    for y, row in enumerate(layout.tile):
        for x, channel in enumerate(row):
            found[channel].append(Site(y, x, rows, columns))
    return {channel: tuple(sites) for channel, sites in found.items()}


@lru_cache(maxsize=64)
def _cell_of(layout: Layout) -> int:
    side, every = layout.step, set(layout.channels)
    for cell in range(1, side):
        blocks = ((y, x) for y in range(0, side, cell) for x in range(0, side, cell))
        if (
            side % cell == 0
            and layout.samples == 1
            and all({layout.tile[y + j][x + i] for j in range(cell) for i in range(cell)} == every for y, x in blocks)
        ):
            return cell
    return side


@dataclass(frozen=True, slots=True, eq=False)
class RawFrame:
    """The numbers of a sensor in DN with the file's claims.

    ``mosaic``: uint16, the full raw area, shape (height, width × samples). ``black_dn`` by channel; ``white_dn`` for all.
    ``xyz_to_camera``: 3×3 matrix from the file, or None. ``neutral``: camera response to the neutral the body assumed
    (R, G, B; green 1), or None. ``margins``: masked rows above and columns left of the picture. ``unsaid``: of "black" and
    "white" what the file names in a way that is not a number; what stands here for it is LibRaw's guess.
    """

    mosaic: NDArray[np.uint16]
    layout: Layout
    black_dn: dict[str, float]
    white_dn: float
    xyz_to_camera: NDArray[np.float64] | None
    neutral: NDArray[np.float64] | None
    margins: tuple[int, int] = (0, 0)
    unsaid: tuple[str, ...] = ()

    @property
    def channels(self) -> tuple[str, ...]:
        """Names of the channels."""
        return self.layout.channels

    @property
    def size(self) -> tuple[int, int]:
        """Width and height in raw pixels, masked borders included."""
        return self.mosaic.shape[1] // self.layout.samples, self.mosaic.shape[0]

    def planes(self, channel: str) -> tuple[NDArray[np.uint16], ...]:
        """Views of a channel, one for each of its sites in the tile, all of one shape."""
        width, height = self.size
        rows, columns = height // self.layout.step, width * self.layout.samples // len(self.layout.tile[0])
        return tuple(
            self.mosaic[site.row :: site.row_step, site.column :: site.column_step][:rows, :columns]
            for site in self.layout.sites(channel)
        )

    def single_sample(self) -> RawFrame:
        """The frame itself, or of several samples to a pixel the green one alone, as a frame without filters."""
        if not self.layout.demosaiced:
            return self
        green = self.layout.tile[0].index("G")
        layout = Layout(MONOCHROME, (("M",),))
        black = {"M": self.black_dn["G"]}
        return RawFrame(
            self.mosaic[:, green :: self.layout.samples], layout, black, self.white_dn, None, None, self.margins
        )

    def green_cells(self) -> NDArray[np.float32]:
        """What carries luminance, in DN above black, on the grid of cells: the mean of both greens, or the only one."""
        parts = [self.cells(name).astype(np.float32) - np.float32(self.black_dn[name]) for name in self.layout.greens]
        return np.asarray(sum(parts[1:], parts[0]) / np.float32(len(parts)), np.float32)

    def cells(self, channel: str) -> NDArray[np.uint16] | NDArray[np.float32]:
        """A channel on the grid of cells: its pixel of every cell, a view; the mean where a cell has several of them."""
        return cells_of(self.mosaic, self.layout, channel)


def first_green(levels: Mapping[str, Value]) -> Value | None:
    """What the first green has among values by channel, whatever the layout; None where it has none."""
    return next((levels[name] for name in GREENS if name in levels), None)


def cells_of(mosaic: NDArray[np.uint16], layout: Layout, channel: str) -> NDArray[np.uint16] | NDArray[np.float32]:
    """A channel of a mosaic, or of a part that begins on a cell of it, on the grid of cells; shape (height, width) in,
    (height // cell, width // cell) out. See RawFrame.cells."""
    cell, samples = layout.cell, layout.samples
    rows, columns = mosaic.shape[0] // cell, mosaic.shape[1] // samples // cell
    sites = layout.sites(channel)
    if len(sites) == 1:
        site = sites[0]
        return mosaic[site.row :: cell, site.column :: cell * samples][:rows, :columns]
    found = np.zeros((rows, columns), np.float32)
    per_side = layout.step // cell
    for down in range(per_side):
        for across in range(per_side):
            inside = [s for s in sites if (s.row // cell, s.column // cell) == (down, across)]
            block = found[down::per_side, across::per_side]
            for site in inside:
                block += mosaic[site.row :: site.row_step, site.column :: site.column_step][
                    : block.shape[0], : block.shape[1]
                ]
            block /= len(inside)
    return found


def sha256_of(path: Path) -> str:
    """Hex digest of the file's content, read in blocks."""
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while block := file.read(_HASH_BLOCK_BYTES):
            digest.update(block)
    return digest.hexdigest()
