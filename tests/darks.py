"""Darks made in memory and on disk, with all that spoils them known."""

from __future__ import annotations

from datetime import datetime, timedelta
from fractions import Fraction
from pathlib import Path

import numpy as np

from tests import making

SHAPE = (256, 384)
READ_DN, GAIN = 3.0, 0.5


def dark(rng, seconds=60.0, rate_e=0.0, hot=(), shape=SHAPE, read_dn=READ_DN, extra=()) -> np.ndarray:
    """uint16 mosaic: ``rate_e`` e⁻/s everywhere, ``hot`` as (x, y, e⁻/s), ``extra`` as (x, y, DN) of this frame alone."""
    expected = np.full(shape, rate_e * seconds)
    for x, y, own in hot:
        expected[y, x] += own * seconds
    numbers = rng.poisson(expected) / GAIN + rng.normal(0.0, read_dn, shape) + making.BLACK
    for x, y, dn in extra:
        numbers[y, x] += dn
    return np.clip(np.rint(numbers), 0, making.WHITE).astype(np.uint16)


def frames(rng, count=2, **values) -> list:
    return [making.frame_of(dark(rng, **values)) for _ in range(count)]


def write_darks(folder: Path, rng, seconds: float, count: int, start: int = 0, **values) -> list[Path]:
    """Files of one exposure time, in the order of the clock."""
    changes = {key: values.pop(key) for key in ("iso", "firmware", "model") if key in values}
    paths = []
    for n in range(count):
        moment = datetime(2026, 3, 14, 21, 0) + timedelta(seconds=(start + n) * (seconds + 5))
        path = folder / f"D{seconds:g}-{start + n:02d}.DNG"
        capture = {"exposure_s": Fraction(seconds).limit_denominator(8), "captured_at": moment} | changes
        paths.append(making.write(path, dark(rng, seconds, **values), **capture))
    return paths
