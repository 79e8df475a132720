"""The simulated bodies: every number of the sensor model, all invented."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.export.dng import Storage


@dataclass(frozen=True, slots=True)
class GainMode:
    """One conversion gain of the pixel: from ISO ``from_iso`` up, with its well and noise before the gain."""

    from_iso: float
    full_well_e: float
    read_noise_before_gain_e: float


@dataclass(frozen=True, slots=True)
class BodyModel:
    """A camera body as the simulation knows it.

    Noise before the gain in e⁻, after it in DN. ``xyz_to_camera`` gives the channel response for
    CIE XYZ; ``width_px`` × ``height_px`` is the full sensor, of which the demo reads a window.
    """

    key: str
    make: str
    model: str
    serial: str
    firmware: str
    width_px: int
    height_px: int
    sensor_width_mm: float
    sensor_height_mm: float
    bits: int
    black_dn: int
    base_iso: float
    lowest_iso: int
    highest_iso: int
    native_lowest_iso: int
    native_highest_iso: int
    fastest_shutter_s: float
    slowest_shutter_s: float
    gain_modes: tuple[GainMode, ...]
    read_noise_after_gain_dn: float
    row_noise_e: float
    prnu: float
    dsnu_e: float
    dark_current_e_per_s: float
    # Pixels per megapixel that gather more than 1 e⁻/s at the reference temperature; of x e⁻/s and more there are 1/x of them.
    hot_over_1_e_per_mpix: float
    xyz_to_camera: tuple[tuple[float, float, float], ...]
    # Colours of the filters over one square tile, row by row; none for a sensor that sees no colours.
    filters: tuple[str, ...] = ("R", "G", "G", "B")
    # How its files hold the numbers.
    storage: Storage = Storage.PLAIN
    # What the tester reads in the handbook: exposure minutes and frames a battery lasts, LENR from (s).
    battery_minutes: float = 150.0
    battery_frames: int = 600
    lenr_from_s: float = 1.0
    # What the unit really does: battery minutes, the sensor's rise over the room (°C) under endless work, its time
    # constant (s), the sensor temperature (°C) at which the body stops.
    true_battery_minutes: float = 128.0
    heat_rise_c: float = 14.0
    heat_constant_s: float = 1100.0
    heat_limit_c: float = 58.0

    # What the converter's range would hold at base ISO, in e⁻; None when it is just the well.
    converter_full_e: float | None = None
    # From this ISO on numbers are multiplied after the converter (None: never).
    digital_from_iso: float | None = None
    # From this ISO on each channel is smoothed by [s, 1 − 2s, s] along rows and columns (None: never).
    smoothed_from_iso: float | None = None
    smoothing: float = 0.0
    # True black less the file's black, in DN at the converter, for R, G, G, B.
    black_error_dn: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    # Dark signal that creeps in from the right edge, e⁻/s at the edge, and how far it reaches (share of the width).
    glow_e_per_s: float = 0.0
    glow_reach: float = 0.1
    # Pixels that jump between two levels from frame to frame, as random telegraph noise does: their share, the chance of
    # standing high, and the step in e⁻/s (it comes with the dark current).
    blinking_share: float = 0.0
    blinking_chance: float = 0.5
    blinking_e_per_s: float = 6.0
    # Charged particles: hits per megapixel and hour, and what one leaves in e⁻ over its few pixels.
    hits_per_mpix_hour: float = 40.0
    hit_e: float = 2500.0

    @property
    def hot_pixel_share(self) -> float:
        """Share of the pixels that gather as much again as ordinary ones, and more."""
        return self.hot_over_1_e_per_mpix / 1e6 / self.dark_current_e_per_s

    @property
    def white_dn(self) -> int:
        """Highest code of the converter."""
        return 2**self.bits - 1

    @property
    def tile_side(self) -> int:
        """Pixels after which the filters repeat; 1 without."""
        return max(1, math.isqrt(len(self.filters)))

    @property
    def matrix(self) -> NDArray[np.float64]:
        """XYZ → camera as an array."""
        return np.array(self.xyz_to_camera)

    def gain_mode(self, iso: float) -> GainMode:
        """The conversion gain in force at an ISO setting."""
        return [mode for mode in self.gain_modes if iso >= mode.from_iso][-1]

    def gain_dn_per_e(self, iso: float) -> float:
        """DN per electron in the file; it follows ISO, by the amplifier or by multiplication afterwards."""
        full_e = self.converter_full_e or self.gain_modes[0].full_well_e
        return (self.white_dn - self.black_dn) / full_e * iso / self.base_iso

    def multiplied(self, iso: float) -> float:
        """By how much numbers are multiplied after the converter at an ISO setting; 1 for none."""
        return max(1.0, iso / self.digital_from_iso) if self.digital_from_iso else 1.0

    def smooths(self, iso: float) -> bool:
        """Whether the raw is smoothed at an ISO setting."""
        return self.smoothed_from_iso is not None and iso >= self.smoothed_from_iso

    def saturation_e(self, iso: float) -> float:
        """Electrons at which a pixel stops: the full well, or the end of the converter's range."""
        return min(self.gain_mode(iso).full_well_e, (self.white_dn - self.black_dn) / self.gain_dn_per_e(iso))

    def read_noise_e(self, iso: float) -> float:
        """Read noise referred to electrons, root of the squares before and after the gain."""
        after_e = self.read_noise_after_gain_dn * self.multiplied(iso) / self.gain_dn_per_e(iso)
        return float(np.hypot(self.gain_mode(iso).read_noise_before_gain_e, after_e))


HEATH = BodyModel(
    key="heath", make="Ostrel", model="Heath", serial="OH-20417", firmware="1.10",
    width_px=8832, height_px=5888, sensor_width_mm=36.0, sensor_height_mm=24.0, bits=14, black_dn=2048,
    base_iso=100.0, lowest_iso=50, highest_iso=102400, native_lowest_iso=100, native_highest_iso=25600,
    fastest_shutter_s=1 / 8000, slowest_shutter_s=30.0,
    gain_modes=(GainMode(0.0, 48_000.0, 2.7), GainMode(800.0, 12_000.0, 1.2)),
    read_noise_after_gain_dn=1.9, row_noise_e=0.12, prnu=0.006, dsnu_e=0.35,
    dark_current_e_per_s=0.25, hot_over_1_e_per_mpix=300.0, blinking_share=1.2e-5,
    xyz_to_camera=((0.72, -0.21, -0.08), (-0.42, 1.21, 0.23), (-0.06, 0.21, 0.58)),
)  # fmt: skip

FEN = BodyModel(
    key="fen", make="Ostrel", model="Fen", serial="OF-00733", firmware="2.04",
    width_px=3872, height_px=2592, sensor_width_mm=36.0, sensor_height_mm=24.0, bits=12, black_dn=128,
    base_iso=100.0, lowest_iso=100, highest_iso=6400, native_lowest_iso=100, native_highest_iso=3200,
    fastest_shutter_s=1 / 8000, slowest_shutter_s=30.0,
    gain_modes=(GainMode(0.0, 66_000.0, 11.0),),
    read_noise_after_gain_dn=1.15, row_noise_e=3.0, prnu=0.009, dsnu_e=2.0,
    dark_current_e_per_s=0.6, hot_over_1_e_per_mpix=60.0,
    xyz_to_camera=((0.80, -0.25, -0.09), (-0.50, 1.25, 0.28), (-0.08, 0.24, 0.62)),
    storage=Storage.PACKED,
    battery_minutes=110.0, battery_frames=450, true_battery_minutes=96.0, heat_rise_c=9.0, heat_constant_s=1500.0,
)  # fmt: skip

TARN = BodyModel(
    key="tarn", make="Quillon", model="Tarn", serial="QT-51180", firmware="3.1",
    width_px=6480, height_px=4320, sensor_width_mm=23.4, sensor_height_mm=15.6, bits=14, black_dn=1024,
    base_iso=160.0, lowest_iso=160, highest_iso=51200, native_lowest_iso=160, native_highest_iso=12800,
    fastest_shutter_s=1 / 4000, slowest_shutter_s=30.0,
    gain_modes=(GainMode(0.0, 31_000.0, 1.9),),
    read_noise_after_gain_dn=1.6, row_noise_e=0.1, prnu=0.007, dsnu_e=0.4,
    dark_current_e_per_s=0.15, hot_over_1_e_per_mpix=120.0,
    xyz_to_camera=((0.70, -0.20, -0.07), (-0.45, 1.22, 0.25), (-0.05, 0.20, 0.60)),
    storage=Storage.COMPRESSED, smoothed_from_iso=6400.0, smoothing=0.16, glow_e_per_s=3.0, glow_reach=0.08,
    heat_rise_c=17.0, heat_constant_s=800.0,
)  # fmt: skip

MOOR = BodyModel(
    key="moor", make="Quillon", model="Moor", serial="QM-08862", firmware="1.02",
    width_px=5760, height_px=3840, sensor_width_mm=36.0, sensor_height_mm=24.0, bits=14, black_dn=512,
    base_iso=100.0, lowest_iso=100, highest_iso=51200, native_lowest_iso=100, native_highest_iso=12800,
    fastest_shutter_s=1 / 8000, slowest_shutter_s=30.0,
    gain_modes=(GainMode(0.0, 26_000.0, 3.1),),
    read_noise_after_gain_dn=2.4, row_noise_e=0.2, prnu=0.008, dsnu_e=0.5,
    dark_current_e_per_s=0.2, hot_over_1_e_per_mpix=200.0,
    xyz_to_camera=((0.75, -0.23, -0.08), (-0.44, 1.20, 0.24), (-0.07, 0.22, 0.60)),
    storage=Storage.PACKED, converter_full_e=30_000.0, digital_from_iso=12800.0, black_error_dn=(1.6, -0.7, -0.7, 1.1),
)  # fmt: skip

# A tile of 6×6 in which every row and column has all three colours.
_WIDE_TILE = tuple("GGRGGBGGBGGRBRGRBGGGBGGRGGRGGBRBGBRG")

HOLT = BodyModel(
    key="holt", make="Quillon", model="Holt", serial="QH-30512", firmware="1.4",
    width_px=6240, height_px=4160, sensor_width_mm=23.5, sensor_height_mm=15.7, bits=14, black_dn=1022,
    base_iso=160.0, lowest_iso=80, highest_iso=51200, native_lowest_iso=160, native_highest_iso=12800,
    fastest_shutter_s=1 / 8000, slowest_shutter_s=30.0,
    gain_modes=(GainMode(0.0, 28_000.0, 2.6), GainMode(800.0, 14_000.0, 1.4)),
    read_noise_after_gain_dn=1.5, row_noise_e=0.15, prnu=0.006, dsnu_e=0.3,
    dark_current_e_per_s=0.18, hot_over_1_e_per_mpix=150.0,
    xyz_to_camera=((0.74, -0.22, -0.08), (-0.43, 1.21, 0.24), (-0.06, 0.22, 0.59)),
    filters=_WIDE_TILE, heat_rise_c=15.0, heat_constant_s=900.0,
)  # fmt: skip

WOLD = BodyModel(
    key="wold", make="Ostrel", model="Wold", serial="OW-00091", firmware="1.00",
    width_px=7200, height_px=4800, sensor_width_mm=36.0, sensor_height_mm=24.0, bits=14, black_dn=2048,
    base_iso=160.0, lowest_iso=160, highest_iso=102400, native_lowest_iso=160, native_highest_iso=51200,
    fastest_shutter_s=1 / 4000, slowest_shutter_s=30.0,
    gain_modes=(GainMode(0.0, 52_000.0, 2.2),),
    read_noise_after_gain_dn=1.7, row_noise_e=0.12, prnu=0.005, dsnu_e=0.3,
    dark_current_e_per_s=0.2, hot_over_1_e_per_mpix=100.0,
    xyz_to_camera=((0.72, -0.21, -0.08), (-0.42, 1.21, 0.23), (-0.06, 0.21, 0.58)),
    filters=(),
)  # fmt: skip

BODIES: dict[str, BodyModel] = {body.key: body for body in (FEN, HEATH, TARN, MOOR, HOLT, WOLD)}
