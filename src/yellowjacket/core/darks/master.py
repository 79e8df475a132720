"""Master darks: the average of many darks without what struck one of them, and taking one off a light frame.

Frames go by once and are not kept: sums, squares and the three most extreme numbers of every pixel are, so that memory
does not grow with their number. What lies far over the others of its pixel is left out.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.exposure.notation import shutter_label
from yellowjacket.core.metadata.capture import FrameMetadata
from yellowjacket.core.metrology.robust import SIGMA_PER_MAD
from yellowjacket.core.raw.dark_or_light import looks_dark
from yellowjacket.core.raw.frame import Layout, RawFrame
from yellowjacket.core.raw.reader import read_with_metadata

# A master of fewer darks has no majority against a struck one.
FEWEST_DARKS = 3
# Left out beyond so many σ of what the other darks of the pixel say; σ never below this.
REJECT_SIGMAS = 5.0
_LEAST_SIGMA_DN = 0.5
_SAME_TIME_SHARE = 0.02
_SAME_WARMTH_C = 2.0
# Scatter is told from every seventh pixel each way, which meets all four channels; of small frames from every one.
_SAMPLE_STEP, _LARGE_PX = 7, 4_000_000


class MasterError(ValueError):
    """Darks that make no master; the sentence says why and what to do."""


@dataclass(frozen=True, slots=True, eq=False)
class MasterDark:
    """The average in DN, black included, float32 of the mosaic's shape; how many darks, how many numbers were left out;
    σ of one dark in DN (the typical pixel); and what the darks were: settings, mean temperature, firmware, file names.
    """

    mean: NDArray[np.float32]
    frames: int
    left_out: int
    sigma_dn: float
    metadata: FrameMetadata
    temperature_c: float | None
    black_dn: dict[str, float]
    white_dn: float
    layout: Layout
    names: tuple[str, ...]


def make_master(paths: Sequence[Path], temperatures: Sequence[float | None] = ()) -> MasterDark:
    """Average darks of one body, ISO, time and warmth, each read once.

    ``temperatures``: of each file, °C, where known. Raises MasterError for too few, mixed or light frames, and
    FrameError for files that cannot be read.
    """
    from yellowjacket.core.darks.pixel_statistics import add_dark, average_without_outliers

    if len(paths) < FEWEST_DARKS:
        raise MasterError(
            f"A master needs {FEWEST_DARKS} darks or more, there {'is' if len(paths) == 1 else 'are'} {len(paths)}: "
            "shoot more of this setting."
        )
    _check_warmth(paths, temperatures)
    first, metadata = read_with_metadata(paths[0])
    shape = first.mosaic.shape
    step = _SAMPLE_STEP if first.mosaic.size > _LARGE_PX else 1
    sampled = np.s_[::step, ::step]
    total = np.zeros(shape, np.uint32)
    highest, second, lowest = (np.zeros(shape, np.uint16) for _ in range(3))
    differences: list[NDArray[np.float32]] = []
    previous: NDArray[np.uint16] | None = None
    for n, path in enumerate(paths):
        frame, own = (first, metadata) if n == 0 else read_with_metadata(path)
        _check_same(path, frame, own, paths[0], first, metadata)
        add_dark(frame.mosaic, total, highest, second, lowest, n == 0)
        sample = frame.mosaic[sampled].copy()
        if previous is not None:
            differences.append(sample.astype(np.float32) - previous)
        previous = sample
    black = float(np.mean(list(first.black_dn.values())))
    sigma, shot = _scatter(differences, total[sampled].astype(np.float64) / len(paths) - black)
    mean = np.empty(shape, np.float32)
    left_out = average_without_outliers(
        total, highest, second, lowest, len(paths), sigma, shot, REJECT_SIGMAS, black, mean
    )
    known = [one for one in temperatures if one is not None]
    return MasterDark(
        mean, len(paths), int(left_out), sigma, metadata, sum(known) / len(known) if known else None, first.black_dn,
        first.white_dn, first.layout, tuple(path.name for path in paths),
    )  # fmt: skip


def _scatter(differences: Sequence[NDArray[np.float32]], signal: NDArray[np.float64]) -> tuple[float, float]:
    """σ of one dark in DN, and DN² of variance per DN of dark signal (one over the gain), 1 where no pixel is bright."""
    spreads = [SIGMA_PER_MAD * float(np.median(np.abs(one - np.median(one)))) / math.sqrt(2) for one in differences]
    sigma = max(_LEAST_SIGMA_DN, float(np.median(spreads)))
    bright = signal > 30 * sigma
    if bright.sum() < 50:
        return sigma, 1.0
    # The middle of the squares of a normal difference is 0.455 of their mean.
    squares = np.median([one[bright] ** 2 for one in differences], axis=0) / 0.455 / 2
    return sigma, float(np.clip(np.median((squares - sigma**2) / signal[bright]), 0.05, 50.0))


def _check_warmth(paths: Sequence[Path], temperatures: Sequence[float | None]) -> None:
    known = [(one, path) for one, path in zip(temperatures, paths, strict=False) if one is not None]
    if known and max(known)[0] - min(known)[0] > _SAME_WARMTH_C:
        raise MasterError(
            f"{max(known)[1].name} is {max(known)[0] - min(known)[0]:.1f} °C warmer than {min(known)[1].name}: a master "
            f"takes darks within {_SAME_WARMTH_C:g} °C. Make two."
        )


def _check_same(
    path: Path, frame: RawFrame, own: FrameMetadata, first_path: Path, first: RawFrame, metadata: FrameMetadata
) -> None:
    """Raise MasterError, naming file and difference, for what does not belong together."""
    if not looks_dark(frame, own.exposure_s):
        raise MasterError(f"{path.name} is a light frame, or light leaked in: leave it out.")
    for what, one, other in (
        ("dimensions", frame.size, first.size),
        ("layout of colour filters", frame.layout.name, first.layout.name),
        ("body", (own.make, own.model, own.serial), (metadata.make, metadata.model, metadata.serial)),
        ("firmware", own.firmware, metadata.firmware),
        ("ISO", own.iso, metadata.iso),
    ):
        if one != other:
            raise MasterError(
                f"{path.name} has another {what} than {first_path.name} ({_shown(one)} against {_shown(other)}): "
                "make a master of each."
            )
    if own.exposure_s is None or metadata.exposure_s is None:
        raise MasterError(f"{path.name} does not say its exposure time: no master can be matched without it.")
    if abs(own.exposure_s / metadata.exposure_s - 1) > _SAME_TIME_SHARE:
        raise MasterError(
            f"{path.name} was exposed {shutter_label(own.exposure_s)}, {first_path.name} "
            f"{shutter_label(metadata.exposure_s)}: make a master of each."
        )


def _shown(value: object) -> str:
    return " × ".join(map(str, value)) if isinstance(value, tuple) else str(value)


def subtracted(
    frame: RawFrame, master: NDArray[np.floating], black: float | None = None, time_ratio: float = 1.0
) -> NDArray[np.float32]:
    """A light frame less a master dark, in DN above zero, float32 of the mosaic's shape; nothing is cut off.

    ``time_ratio``: light's exposure time over the dark's. Other than 1 the dark signal alone is scaled, after ``black``
    (the bias in DN) was taken off both. Raises ValueError for other sizes, or scaling without a bias.
    """
    if frame.mosaic.shape != master.shape:
        raise ValueError("the master dark is of another size than the frame")
    light = frame.mosaic.astype(np.float32)
    if time_ratio == 1.0:
        return light - np.asarray(master, np.float32)
    if black is None:
        raise ValueError("a dark is scaled only after its bias was taken off")
    return light - np.float32(black) - (np.asarray(master, np.float32) - np.float32(black)) * np.float32(time_ratio)


def with_pedestal(signal: NDArray[np.float32], black_dn: float, white_dn: float) -> NDArray[np.uint16]:
    """Subtracted numbers on the black level again, rounded and kept inside the range, for a DNG file.

    Shape (height, width), DN.
    """
    return np.clip(np.rint(signal + np.float32(black_dn)), 0, white_dn).astype(np.uint16)
