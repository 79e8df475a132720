"""Raw files of layouts that the product's own writer does not make: 6×6 mosaics, monochrome, linear, masked borders.

Tag numbers of TIFF 6 and DNG 1.4, from memory; LibRaw reads the result.
"""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np

BLACK, WHITE, GAIN, READ_DN = 512, 16383, 1.6, 3.0
# Columns of the scene: eight steps, each half as bright as the one before, behind neutral filters of these strengths.
FILTERS = {0: 0.6, 1: 1.0, 2: 0.75}
BAYER = ((2, 2), (0, 1, 1, 2))
LARGE_TILE = (
    (6, 6),
    (1, 1, 0, 1, 1, 2, 1, 1, 2, 1, 1, 0, 2, 0, 1, 0, 2, 1, 1, 1, 2, 1, 1, 0, 1, 1, 0, 1, 1, 2, 0, 2, 1, 2, 0, 1),
)
QUAD = ((4, 4), (0, 0, 1, 1, 0, 0, 1, 1, 1, 1, 2, 2, 1, 1, 2, 2))
_FORMATS = {1: "B", 2: "B", 3: "H", 4: "I", 5: "I", 10: "i"}
_LINEAR_RAW, _MOSAIC = 34892, 32803


def write(
    path: Path,
    data: np.ndarray,
    tile=None,
    *,
    active=None,
    iso: int = 100,
    exposure_s: float = 0.125,
    named: bool = True,
) -> Path:
    """A DNG on disk. ``data``: uint16, 2-D, or with three samples. ``tile``: (shape, colours), None without filters."""
    samples = 1 if data.ndim == 2 else 3
    identity = [v for n in range(9) for v in (10000 if n % 4 == 0 else 0, 10000)]
    tags = [
        (254, 4, [0]), (256, 4, [data.shape[1]]), (257, 4, [data.shape[0]]), (258, 3, [16] * samples), (259, 3, [1]),
        (262, 3, [_MOSAIC if tile else _LINEAR_RAW]), (273, 4, [0]),
        (277, 3, [samples]), (278, 4, [data.shape[0]]), (279, 4, [data.nbytes]), (284, 3, [1]),
        (33434, 5, [round(exposure_s * 10000), 10000]), (33437, 5, [8, 1]), (34855, 3, [iso]),
        (50706, 1, [1, 4, 0, 0]), (50707, 1, [1, 1, 0, 0]), (50714, 5, [BLACK, 1] * samples),
        (50717, 4, [WHITE] * samples), (50721, 10, identity), (50728, 5, [60, 100, 100, 100, 75, 100]),
    ]  # fmt: skip
    if named:
        tags += [(271, 2, b"Ostrel\0"), (272, 2, b"Test\0"), (50708, 2, b"Ostrel Test\0")]
    if tile:
        shape, colours = tile
        tags += [(33421, 3, list(shape)), (33422, 1, list(colours)), (50710, 1, [0, 1, 2])]
    if active:
        tags.append((50829, 4, list(active)))
    tags.sort()
    at = 8 + 2 + 12 * len(tags) + 4
    directory, extra, place = b"", b"", 0
    for tag, kind, values in tags:
        packed = bytes(values) if kind in (1, 2) else struct.pack(f"<{len(values)}{_FORMATS[kind]}", *values)
        count = len(values) // (2 if kind in (5, 10) else 1)
        if tag == 273:
            place = len(directory) + 8
        if len(packed) > 4:
            directory += struct.pack("<HHII", tag, kind, count, at + len(extra))
            extra += packed + b"\0" * (len(packed) % 2)
        else:
            directory += struct.pack("<HHI", tag, kind, count) + packed.ljust(4, b"\0")
    directory = directory[:place] + struct.pack("<I", at + len(extra)) + directory[place + 4 :]
    path.write_bytes(
        b"II*\0" + struct.pack("<IH", 8, len(tags)) + directory + b"\0" * 4 + extra + data.astype("<u2").tobytes()
    )
    return path


def light(shape: tuple[int, int], colours: np.ndarray) -> np.ndarray:
    """Mean signal in DN of the eight-step scene behind filters; ``colours``: colour code of every pixel."""
    steps = 6000 * 2.0 ** -(np.arange(shape[1]) // (shape[1] // 8))
    return np.broadcast_to(steps, shape) * through(colours)


def through(colours: np.ndarray) -> np.ndarray:
    """What the filters of these codes let through, same shape."""
    return np.array([FILTERS[code] for code in range(3)])[colours]


def numbers(mean_dn: np.ndarray, rng: np.random.Generator, read_dn: float = READ_DN, gain: float = GAIN) -> np.ndarray:
    """Photons, read noise, black, rounding."""
    electrons = rng.poisson(mean_dn * gain)
    return np.clip(np.rint(electrons / gain + rng.normal(BLACK, read_dn, mean_dn.shape)), 0, WHITE).astype(np.uint16)
