"""Small frames whose truth is known, for tests of all rooms."""

from __future__ import annotations

from datetime import datetime, timedelta
from fractions import Fraction
from pathlib import Path

import numpy as np

from yellowjacket.core.export.dng import CaptureData, DngImage, write_dng
from yellowjacket.core.raw.frame import Layout, RawFrame

WIDTH, HEIGHT = 640, 448
BLACK, WHITE = 512, 16383
CFA = ("R", "G", "G", "B")
LAYOUT = Layout("2×2", (("R", "G1"), ("G2", "B")))
CHANNELS = LAYOUT.channels
# Relative response of the channels to neutral light.
RESPONSE = {"R": 0.55, "G": 1.0, "B": 0.7}
MATRIX = np.array([[0.72, -0.21, -0.08], [-0.42, 1.21, 0.23], [-0.06, 0.21, 0.58]])
READ_NOISE_DN = 3.0
GAIN_E_PER_DN = {100: 2.0, 200: 1.0, 400: 0.5}
# Grey card at the metered exposure, green DN above black: 12.7 % of the range.
GREY_DN = 0.127 * (WHITE - BLACK)
# Fields of the test scene: eight columns, each half as bright as the one before; grey is the third.
STEPS = 8
GREY_STEP = 2


def scene() -> np.ndarray:
    """Light on the test scene relative to the grey card: a wedge of eight one-stop steps, full height."""
    columns = GREY_STEP - np.arange(WIDTH) // (WIDTH // STEPS)
    return np.tile(2.0**columns, (HEIGHT, 1))


def mosaic_light(light: np.ndarray) -> np.ndarray:
    """Green-relative light behind the filters of the mosaic."""
    result = light.copy()
    for position, colour in enumerate(CFA):
        result[position // 2 :: 2, position % 2 :: 2] *= RESPONSE[colour]
    return result


def photon_mosaic(
    mean_dn: np.ndarray, gain: float, rng: np.random.Generator, read_dn: float = READ_NOISE_DN
) -> np.ndarray:
    """Numbers of a frame whose photons are Poisson, with Gaussian read noise, rounded and clipped."""
    electrons = rng.poisson(np.maximum(mean_dn, 0) * gain)
    numbers = electrons / gain + rng.normal(0.0, read_dn, mean_dn.shape) + BLACK
    return np.clip(np.rint(numbers), 0, WHITE).astype(np.uint16)


def frame_of(mosaic: np.ndarray, black: float = BLACK, white: float = WHITE) -> RawFrame:
    """A frame in memory."""
    neutral = np.array([RESPONSE["R"], 1.0, RESPONSE["B"]])
    return RawFrame(mosaic, LAYOUT, dict.fromkeys(LAYOUT.channels, black), white, MATRIX, neutral)


def capture(**changes: object) -> CaptureData:
    """Capture data of the test body."""
    values: dict[str, object] = {
        "make": "Ostrel", "model": "Heath", "serial": "OH-1", "firmware": "1.10", "iso": 100,
        "exposure_s": Fraction(1, 8), "f_number": Fraction(8), "captured_at": datetime(2026, 3, 14, 20, 0),
    }  # fmt: skip
    return CaptureData(**(values | changes))  # type: ignore[arg-type]


def write(path: Path, mosaic: np.ndarray, **changes: object) -> Path:
    """A DNG on disk."""
    neutral = (RESPONSE["R"], 1.0, RESPONSE["B"])
    write_dng(path, DngImage(mosaic, CFA, (BLACK,) * 4, WHITE, MATRIX, neutral, capture(**changes)))
    return path


def shot(iso: int, rng: np.random.Generator, *, dark: bool = False, stops: float = 0.0) -> np.ndarray:
    """A frame of the test scene at a rung; grey is equally bright at every ISO."""
    light = np.zeros((HEIGHT, WIDTH)) if dark else mosaic_light(scene()) * GREY_DN * 2.0**stops
    return photon_mosaic(light, GAIN_E_PER_DN[iso], rng)


def write_ladder(folder: Path, isos: tuple[int, ...] = (100, 200, 400)) -> Path:
    """Two light and two dark frames a rung, in the order they would be shot."""
    rng = np.random.default_rng(7)
    number = 0
    for dark in (False, True):
        for iso in isos:
            for _ in range(2):
                number += 1
                moment = datetime(2026, 3, 14, 20, 0) + timedelta(seconds=5 * number)
                write(
                    folder / f"F{number:03d}.DNG", shot(iso, rng, dark=dark), iso=iso,
                    exposure_s=Fraction(1, 8 * iso // 100) if iso != 200 else Fraction(1, 15), captured_at=moment,
                )  # fmt: skip
    return folder
