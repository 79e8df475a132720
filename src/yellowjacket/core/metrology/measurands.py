"""The vocabulary of readings: what is measured of a rung, in which unit."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from yellowjacket.core.metrology.estimate import Quantity

GREEN = "G"
ALL = "all"

# Quantity name → unit; the vocabulary of readings, exports and pages.
QUANTITIES: Mapping[str, str] = {
    "signal_dn": "DN above black",
    "noise_dn": "DN",
    "snr": "ratio",
    "clipped_share": "share 0–1",
    "black_dn": "DN",
    "read_noise_dn": "DN",
    "read_noise_e": "e⁻",
    "gain_e_per_dn": "e⁻/DN",
    "shadow_snr": "ratio",
    "exposure_error_stops": "stops",
    "neutral_drift_de00": "ΔE00",
    "clip_dn": "DN",
    "saturation_e": "e⁻",
    "prnu": "share 0–1",
    "range_snr1": "stops",
    "range_engineering": "stops",
    "row_noise_dn": "DN",
    "column_noise_dn": "DN",
    "neighbour_correlation": "−1 to 1",
    "flags": "count",
    "codes_empty": "share 0–1",
    "codes_empty_low": "share 0–1",
    "codes_empty_high": "share 0–1",
    "codes_doubled": "share 0–1",
    "drift_red_stops": "stops",
    "drift_blue_stops": "stops",
    "neutral_drift_duv": "Δu′v′",
    "patch_de00": "ΔE00",
    "colour_de00": "ΔE00",
    "saturation_kept": "share 0–1",
    "black_lift": "L*",
    "headroom_stops": "stops",
    "noise_luma": "L*",
    "noise_chroma": "ΔE of a*b*",
    "grain_px": "output pixels",
    "detail": "line pairs per picture height",
    "detail_share": "share of base",
    "colour_detail": "line pairs per picture height",
    "colour_detail_share": "share of base",
    "wedge_snr1": "stops",
    "wedge_snr4": "stops",
    "wedge_told_apart": "stops",
    "wedge_floor": "stops",
    "step_stops": "stops",
    "black_error_dn": "DN",
    "linearity": "share 0–1",
    "cast_de00": "ΔE00",
    "cast_corrected_de00": "ΔE00",
    "row_noise_share": "share of grey",
    "clips_at_stops": "stops",
    "same_luma": "L*",
    "same_chroma": "ΔE of a*b*",
    "same_detail": "line pairs per picture height",
    "dark_signal_e": "e⁻",
    "dark_noise_dn": "DN",
    "hot_per_mpix": "per megapixel",
    "hot_repaired_per_mpix": "per megapixel",
    "lifted_shadow_snr": "ratio",
    "dark_rows_dn": "DN",
    "dark_columns_dn": "DN",
}
# Of darks along time; measuring patches leaves them alone.
DARK_QUANTITIES = (
    "dark_signal_e", "dark_noise_dn", "hot_per_mpix", "hot_repaired_per_mpix", "lifted_shadow_snr", "dark_rows_dn",
    "dark_columns_dn",
)  # fmt: skip
SMOOTHED = "the raw is smoothed: noise and range read too good"


@dataclass(frozen=True, slots=True)
class Reading:
    """One measured quantity of a rung; ``patch`` is None for what belongs to the rung as a whole.

    ``method`` says how it was made, in words for the provenance line. ``use`` is the key of the use at whose size it
    was read, empty per pixel.
    """

    patch: str | None
    channel: str
    quantity: str
    result: Quantity
    method: str = ""
    excluded: int = 0
    use: str = ""
