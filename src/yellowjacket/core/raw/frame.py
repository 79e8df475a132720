"""What a raw frame is: its mosaic, its channels, its claims, and why a file is none."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

CHANNELS = ("R", "G1", "G2", "B")
BAYER, LARGE_TILE, MONOCHROME, LINEAR = "2×2", "6×6", "monochrome", "linear"
_HASH_BLOCK_BYTES = 1 << 20


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
    """Where a channel's pixels lie in the mosaic: the first one, and the steps to the next down and across."""

    row: int
    column: int
    row_step: int
    column_step: int


@dataclass(frozen=True, slots=True, eq=False)
class RawFrame:
    """The numbers of a sensor in DN with the file's claims.

    ``mosaic``: uint16, the full raw area, shape (height, width × ``samples``); three-sample linear raw has its
    samples side by side. ``offsets``: for each channel of a 2×2 mosaic the (row, column) of its site in the
    tile; empty for other layouts. ``sites``: for each channel all its sites; worked out from ``offsets`` for a
    2×2 mosaic. ``black_dn`` by channel; ``white_dn`` for all. ``xyz_to_camera``: 3×3 matrix from the file, or
    None. ``neutral``: camera response to the neutral the body assumed (R, G, B; green 1), or None.
    ``margins``: masked rows above and columns left of the picture.
    """

    mosaic: NDArray[np.uint16]
    offsets: dict[str, tuple[int, int]]
    black_dn: dict[str, float]
    white_dn: float
    xyz_to_camera: NDArray[np.float64] | None
    neutral: NDArray[np.float64] | None
    sites: dict[str, tuple[Site, ...]] = field(default_factory=dict)
    samples: int = 1
    margins: tuple[int, int] = (0, 0)
    layout: str = BAYER

    @property
    def channels(self) -> tuple[str, ...]:
        """Names of the channels: R, G1, G2, B of a 2×2 mosaic; R, G, B of other colour layouts; M without colour."""
        return tuple(self.sites) if self.sites else CHANNELS

    @property
    def size(self) -> tuple[int, int]:
        """Width and height in raw pixels, masked borders included."""
        return self.mosaic.shape[1] // self.samples, self.mosaic.shape[0]

    @property
    def step(self) -> int:
        """Raw pixels after which the layout repeats."""
        return next(iter(self.sites.values()))[0].row_step if self.sites else 2

    def plane(self, channel: str) -> NDArray[np.uint16]:
        """A view of one channel's sites of a 2×2 mosaic, shape (height // 2, width // 2)."""
        row, column = self.offsets[channel]
        height, width = self.mosaic.shape
        return self.mosaic[row : height - height % 2 : 2, column : width - width % 2 : 2]

    def planes(self, channel: str) -> tuple[NDArray[np.uint16], ...]:
        """Views of a channel, one for each of its sites in the tile, all of one shape."""
        if not self.sites:
            return (self.plane(channel),)
        step = self.step
        width, height = self.size
        rows, columns = height // step, width // step
        return tuple(
            self.mosaic[site.row :: site.row_step, site.column :: site.column_step][:rows, :columns]
            for site in self.sites[channel]
        )


def sha256_of(path: Path) -> str:
    """Hex digest of the file's content, read in blocks."""
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while block := file.read(_HASH_BLOCK_BYTES):
            digest.update(block)
    return digest.hexdigest()
