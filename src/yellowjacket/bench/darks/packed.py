"""Measured darks as bytes and back: arrays in NumPy's archive format, the rest as JSON beside them."""

from __future__ import annotations

import io
import json
import math
import zipfile

import numpy as np

from yellowjacket.core.darks.dark_current import DarkTiles
from yellowjacket.core.darks.exposure_group import DarkGroup, TimeFindings
from yellowjacket.core.darks.hot_pixels import PixelTable, completed
from yellowjacket.core.metrology.estimate import Quantity

# Of darks of one exposure time: tiles and outstanding pixels of 150 MP take a fraction of it.
_MOST_BYTES = 256 << 20
_BAYER_CHANNELS = ("R", "G1", "G2", "B")


def packed(found: TimeFindings) -> bytes:
    """All of a time's findings but the problems."""
    arrays: dict[str, np.ndarray] = {}
    channels = tuple(found.tiles.means)
    for channel in channels:
        arrays[f"means-{channel}"] = found.tiles.means[channel].astype(np.float32)
        arrays[f"variances-{channel}"] = found.tiles.variances[channel].astype(np.float32)
    # Sums over thousands of pixels: half a DN in 32 bits would be lost above 2^23, far over any level.
    arrays["medians"] = np.array([found.tiles.medians[channel] for channel in channels])
    if found.pixels is not None:
        arrays["pixels"] = found.pixels.rows
    group = found.group
    facts = {
        "exposure_s": group.exposure_s, "temperature_c": group.temperature_c, "paths": group.paths, "lenr": group.lenr,
        "noise_dn": found.noise_dn.plain, "rows_dn": found.rows_dn.plain,
        "columns_dn": found.columns_dn.plain, "frames": found.frames, "range_dn": found.range_dn,
        "channels": channels,
        "size": found.pixels.size if found.pixels else None, "clip_dn": found.pixels.clip_dn if found.pixels else None,
    }  # fmt: skip
    arrays["facts"] = np.frombuffer(json.dumps(facts).encode(), np.uint8)
    buffer = io.BytesIO()
    np.savez_compressed(buffer, **arrays)  # type: ignore[arg-type]
    return buffer.getvalue()


def unpacked(data: bytes, temperature_c: float | None) -> TimeFindings:
    """The findings again, at the temperature that is known by now. Raises ValueError for what is none, or too large."""
    _require_sizes(data)
    with np.load(io.BytesIO(data), allow_pickle=False) as arrays:
        facts = json.loads(arrays["facts"].tobytes())
        # Before other layouts were known, all were of 2×2.
        channels = tuple(facts.get("channels", _BAYER_CHANNELS))
        tiles = DarkTiles(
            facts["exposure_s"],
            {channel: arrays[f"means-{channel}"].astype(np.float64) for channel in channels},
            {channel: arrays[f"variances-{channel}"].astype(np.float64) for channel in channels},
            dict(zip(channels, arrays["medians"].tolist(), strict=True)),
        )
        pixels = None
        if "pixels" in arrays:
            pixels = PixelTable(
                completed(arrays["pixels"]), (facts["size"][0], facts["size"][1]), facts["clip_dn"], channels
            )
    group = DarkGroup(facts["exposure_s"], temperature_c, tuple(facts["paths"]), facts["lenr"])
    noise, rows, columns = (Quantity.from_plain(facts[name]) for name in ("noise_dn", "rows_dn", "columns_dn"))
    return TimeFindings(group, tiles, pixels, noise, rows, columns, facts["frames"], facts["range_dn"])


def _require_sizes(data: bytes) -> None:
    """Raise ValueError for arrays that would take more memory than darks do, or than their bytes hold.

    NumPy makes room for what a header says before it reads what there is.
    """
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        if sum(info.file_size for info in archive.infolist()) > _MOST_BYTES:
            raise ValueError("measured darks are not so large")
        for info in archive.infolist():
            with archive.open(info) as member:
                version = np.lib.format.read_magic(member)
                read = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
                shape, _, kind = read(member)
                if math.prod(shape) * kind.itemsize > info.file_size or kind.hasobject:
                    raise ValueError(f"{info.filename} says it is larger than it is")
