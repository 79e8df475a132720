"""The simulated bodies: every number of the sensor model, all invented."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


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
    hot_pixel_share: float
    hot_pixel_scale_e_per_s: float
    xyz_to_camera: tuple[tuple[float, float, float], ...]
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

    @property
    def white_dn(self) -> int:
        """Highest code of the converter."""
        return 2**self.bits - 1

    @property
    def matrix(self) -> NDArray[np.float64]:
        """XYZ → camera as an array."""
        return np.array(self.xyz_to_camera)

    def gain_mode(self, iso: float) -> GainMode:
        """The conversion gain in force at an ISO setting."""
        return [mode for mode in self.gain_modes if iso >= mode.from_iso][-1]

    def gain_dn_per_e(self, iso: float) -> float:
        """DN per electron; at base ISO the full well just fills the converter, and it follows ISO."""
        base_well_e = self.gain_modes[0].full_well_e
        return (self.white_dn - self.black_dn) / base_well_e * iso / self.base_iso

    def read_noise_e(self, iso: float) -> float:
        """Read noise referred to electrons, root of the squares before and after the gain."""
        after_e = self.read_noise_after_gain_dn / self.gain_dn_per_e(iso)
        return float(np.hypot(self.gain_mode(iso).read_noise_before_gain_e, after_e))


HEATH = BodyModel(
    key="heath", make="Ostrel", model="Heath", serial="OH-20417", firmware="1.10",
    width_px=8832, height_px=5888, sensor_width_mm=36.0, sensor_height_mm=24.0, bits=14, black_dn=2048,
    base_iso=100.0, lowest_iso=50, highest_iso=102400, native_lowest_iso=100, native_highest_iso=25600,
    fastest_shutter_s=1 / 8000, slowest_shutter_s=30.0,
    gain_modes=(GainMode(0.0, 48_000.0, 2.7), GainMode(800.0, 12_000.0, 1.2)),
    read_noise_after_gain_dn=1.9, row_noise_e=0.12, prnu=0.006, dsnu_e=0.35,
    dark_current_e_per_s=0.25, hot_pixel_share=4e-4, hot_pixel_scale_e_per_s=40.0,
    xyz_to_camera=((0.72, -0.21, -0.08), (-0.42, 1.21, 0.23), (-0.06, 0.21, 0.58)),
)  # fmt: skip

BODIES: dict[str, BodyModel] = {HEATH.key: HEATH}
