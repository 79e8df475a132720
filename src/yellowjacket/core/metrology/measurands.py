"""The registry of measurands: everything that is measured of a rung, with its symbol, unit, words and place on the sheet.

A quantity that is not described here is not stored, shown or exported; how to add one is told in CONTRIBUTING.md.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from yellowjacket.core.metrology.estimate import Quantity

GREEN = "G"
ALL = "all"


class Measurand(StrEnum):
    """What is measured. The values are what records, exports and documents say."""

    SNR = "snr"
    SHADOW_SNR = "shadow_snr"
    NOISE_CHROMA = "noise_chroma"
    NOISE_LUMA = "noise_luma"
    GRAIN_PX = "grain_px"
    NOISE_VISUAL = "noise_visual"
    DETAIL_SHARE = "detail_share"
    DETAIL = "detail"
    COLOUR_DETAIL_SHARE = "colour_detail_share"
    COLOUR_DETAIL = "colour_detail"
    RANGE_SNR1 = "range_snr1"
    RANGE_SNR2 = "range_snr2"
    RANGE_SNR4 = "range_snr4"
    RANGE_SNR10 = "range_snr10"
    RANGE_ENGINEERING = "range_engineering"
    WEDGE_SNR1 = "wedge_snr1"
    WEDGE_SNR2 = "wedge_snr2"
    WEDGE_SNR4 = "wedge_snr4"
    WEDGE_SNR10 = "wedge_snr10"
    WEDGE_START = "wedge_start"
    WEDGE_TOLD_APART = "wedge_told_apart"
    WEDGE_FLOOR = "wedge_floor"
    HEADROOM_STOPS = "headroom_stops"
    READ_NOISE_E = "read_noise_e"
    READ_NOISE_DN = "read_noise_dn"
    SATURATION_DN = "saturation_dn"
    GAIN_E_PER_DN = "gain_e_per_dn"
    SATURATION_E = "saturation_e"
    PRNU = "prnu"
    ROW_NOISE_DN = "row_noise_dn"
    COLUMN_NOISE_DN = "column_noise_dn"
    FLAGS = "flags"
    EXPOSURE_ERROR_STOPS = "exposure_error_stops"
    NEUTRAL_DRIFT_DE00 = "neutral_drift_de00"
    NEUTRAL_DRIFT_CORRECTED_DE00 = "neutral_drift_corrected_de00"
    NEUTRAL_DRIFT_DUV = "neutral_drift_duv"
    DRIFT_RED_STOPS = "drift_red_stops"
    DRIFT_BLUE_STOPS = "drift_blue_stops"
    PATCH_DE00 = "patch_de00"
    COLOUR_DE00 = "colour_de00"
    COLOUR_NOISE = "colour_noise"
    COLOUR_SEPARATION = "colour_separation"
    BLACK_LIFT = "black_lift"
    CLIPPED_SHARE = "clipped_share"
    SIGNAL_DN = "signal_dn"
    NOISE_DN = "noise_dn"
    BLACK_DN = "black_dn"
    CLIP_DN = "clip_dn"
    NEIGHBOUR_CORRELATION = "neighbour_correlation"
    CODES_EMPTY = "codes_empty"
    CODES_EMPTY_LOW = "codes_empty_low"
    CODES_EMPTY_HIGH = "codes_empty_high"
    CODES_DOUBLED = "codes_doubled"
    STEP_STOPS = "step_stops"
    BLACK_ERROR_DN = "black_error_dn"
    LINEARITY = "linearity"
    CAST_DE00 = "cast_de00"
    CAST_CORRECTED_DE00 = "cast_corrected_de00"
    ROW_NOISE_SHARE = "row_noise_share"
    CLIPS_AT_STOPS = "clips_at_stops"
    SAME_EQUAL = "same_equal"
    SAME_EDGE = "same_edge"
    SAME_LUMA = "same_luma"
    SAME_CHROMA = "same_chroma"
    SAME_DETAIL = "same_detail"
    DARK_SIGNAL_E = "dark_signal_e"
    DARK_NOISE_DN = "dark_noise_dn"
    HOT_PER_MPIX = "hot_per_mpix"
    HOT_SHOWING_PER_MPIX = "hot_showing_per_mpix"
    HOT_REPAIRED_PER_MPIX = "hot_repaired_per_mpix"
    LIFTED_SHADOW_SNR = "lifted_shadow_snr"
    DARK_ROWS_DN = "dark_rows_dn"
    DARK_COLUMNS_DN = "dark_columns_dn"

    @property
    def described(self) -> Described:
        """Its line of the registry."""
        return REGISTRY[self]


class Style(StrEnum):
    """How a value is written."""

    THREE_DIGITS = "three digits"
    TWO_DIGITS = "two digits"
    PER_CENT = "per cent"
    STOPS = "stops with their sign"
    REMARK = "the remark, in words"


class Better(StrEnum):
    """Which way is better for the tester."""

    HIGHER = "higher"
    LOWER = "lower"
    NEITHER = "neither"


class Shown(StrEnum):
    """How its line of the sheet begins, or that it has none."""

    CHART = "chart"
    NUMBERS = "numbers"
    FOLDED = "folded"
    NOWHERE = "nowhere"


@dataclass(frozen=True, slots=True)
class Described:
    """One line of the registry.

    ``symbol`` as formulas write it, ``unit`` as exports name it, ``words`` as pages call it and ``said_in`` what stands
    under them. ``short_unit`` stands beside numbers. ``sized``: reads otherwise at the size of a use. ``channel`` and
    ``role``: which reading stands for the rung; no role is the rung as a whole. ``linear``: its axis is no logarithm.
    """

    words: str
    symbol: str
    unit: str
    said_in: str = ""
    short_unit: str = ""
    style: Style = Style.THREE_DIGITS
    better: Better = Better.NEITHER
    shown: Shown = Shown.NOWHERE
    sized: bool = False
    channel: str = ALL
    role: str = ""
    linear: bool = False


_RATIO, _SHARE, _STOPS, _DN, _E, _DE00, _L = "ratio", "share 0–1", "stops", "DN", "e⁻", "ΔE00", "L*"
_HIGHER, _LOWER = Better.HIGHER, Better.LOWER
_CHART, _NUMBERS, _FOLDED = Shown.CHART, Shown.NUMBERS, Shown.FOLDED
_TWO, _PER_CENT, _SIGNED = Style.TWO_DIGITS, Style.PER_CENT, Style.STOPS

# In the order of the sheet's lines.
REGISTRY: Mapping[Measurand, Described] = {
    Measurand.SNR: Described(
        "Grey SNR", "SNR", _RATIO, "luminance", better=_HIGHER, shown=_CHART, sized=True, role="grey"
    ),
    Measurand.SHADOW_SNR: Described(
        "Shadow SNR", "SNR", _RATIO, "3 stops under the grey", better=_HIGHER, shown=_NUMBERS, sized=True
    ),
    Measurand.NOISE_CHROMA: Described(
        "Chroma noise",
        "σ_ab",
        "ΔE of a*b*",
        "σ of a*b*",
        "ΔE of a*b*",
        better=_LOWER,
        shown=_NUMBERS,
        sized=True,
        role="grey",
    ),
    Measurand.NOISE_LUMA: Described(
        "Luma noise", "σ_L", _L, "σ of L*", _L, better=_LOWER, shown=_FOLDED, sized=True, role="grey"
    ),
    Measurand.GRAIN_PX: Described(
        "Grain", "w", "output pixels", "px wide", "px", _TWO, _LOWER, _FOLDED, sized=True, role="grey"
    ),
    Measurand.NOISE_VISUAL: Described(
        "Visual noise", "V", "L*u*v*", "as the eye weighs it", better=_LOWER, shown=_FOLDED, sized=True, role="grey"
    ),
    Measurand.DETAIL_SHARE: Described(
        "Detail",
        "f/f_base",
        "share of base",
        "of the base rung's",
        style=_PER_CENT,
        better=_HIGHER,
        shown=_NUMBERS,
        sized=True,
        role="texture",
    ),
    Measurand.DETAIL: Described(
        "Finest detail",
        "f",
        "line pairs per picture height",
        "line pairs a height",
        "lp/ph",
        better=_HIGHER,
        shown=_FOLDED,
        sized=True,
        role="texture",
    ),
    Measurand.COLOUR_DETAIL_SHARE: Described(
        "Colour detail",
        "f/f_base",
        "share of base",
        "of the base rung's",
        style=_PER_CENT,
        better=_HIGHER,
        shown=_FOLDED,
        sized=True,
        role="colour_texture",
    ),
    Measurand.COLOUR_DETAIL: Described(
        "Finest colour detail",
        "f",
        "line pairs per picture height",
        "",
        "lp/ph",
        better=_HIGHER,
        sized=True,
        role="colour_texture",
    ),
    Measurand.RANGE_SNR1: Described(
        "Dynamic range", "DR", _STOPS, "stops to SNR 1", _STOPS, better=_HIGHER, shown=_NUMBERS, sized=True
    ),
    Measurand.RANGE_SNR2: Described("Range to SNR 2", "DR", _STOPS, "", _STOPS, better=_HIGHER),
    Measurand.RANGE_SNR4: Described("Range to SNR 4", "DR", _STOPS, "", _STOPS, better=_HIGHER),
    Measurand.RANGE_SNR10: Described("Range to SNR 10", "DR", _STOPS, "", _STOPS, better=_HIGHER),
    Measurand.RANGE_ENGINEERING: Described(
        "Dynamic range, saturation to read noise", "DR", _STOPS, "", _STOPS, better=_HIGHER
    ),
    Measurand.WEDGE_SNR1: Described(
        "Wedge", "DR", _STOPS, "stops to SNR 1, seen", _STOPS, better=_HIGHER, shown=_FOLDED, channel=GREEN
    ),
    Measurand.WEDGE_SNR2: Described("Wedge to SNR 2", "DR", _STOPS, "", _STOPS, better=_HIGHER, channel=GREEN),
    Measurand.WEDGE_SNR10: Described("Wedge to SNR 10", "DR", _STOPS, "", _STOPS, better=_HIGHER, channel=GREEN),
    Measurand.WEDGE_START: Described("Wedge begins", "", _STOPS, "stops under saturation", _STOPS, channel=GREEN),
    Measurand.WEDGE_SNR4: Described("Wedge to SNR 4", "DR", _STOPS, "", _STOPS, better=_HIGHER, channel=GREEN),
    Measurand.WEDGE_TOLD_APART: Described("Steps told apart", "DR", _STOPS, "", _STOPS, better=_HIGHER, channel=GREEN),
    Measurand.WEDGE_FLOOR: Described(
        "Wedge floor", "DR", _STOPS, "stops to stray light", _STOPS, better=_HIGHER, shown=_FOLDED, channel=GREEN
    ),
    Measurand.HEADROOM_STOPS: Described(
        "Headroom", "H", _STOPS, "stops over the grey", _STOPS, better=_HIGHER, shown=_FOLDED, linear=True
    ),
    Measurand.READ_NOISE_E: Described("Read noise", "σ_d", _E, "e⁻, all channels", _E, better=_LOWER, shown=_NUMBERS),
    Measurand.READ_NOISE_DN: Described("Read noise", "σ_d", _DN, "", _DN, better=_LOWER),
    Measurand.SATURATION_DN: Described("Saturation above black", "μ_y.sat", _DN, "", _DN, better=_HIGHER),
    Measurand.GAIN_E_PER_DN: Described("Gain", "1/K", "e⁻/DN", "e⁻/DN", "e⁻/DN", shown=_FOLDED),
    Measurand.SATURATION_E: Described(
        "Saturation", "μ_e.sat", _E, "e⁻, mean of channels", _E, better=_HIGHER, shown=_FOLDED
    ),
    Measurand.PRNU: Described("Pixel response non-uniformity", "PRNU", _SHARE, style=_PER_CENT, better=_LOWER),
    Measurand.ROW_NOISE_DN: Described("Row noise", "σ_row", _DN, "DN, in the darks", _DN, _TWO, _LOWER, _FOLDED),
    Measurand.COLUMN_NOISE_DN: Described("Column noise", "σ_col", _DN, "DN, in the darks", _DN, _TWO, _LOWER, _FOLDED),
    Measurand.FLAGS: Described(
        "Watch out", "", "count", "findings in the raw file", style=Style.REMARK, better=_LOWER, shown=_NUMBERS
    ),
    Measurand.EXPOSURE_ERROR_STOPS: Described(
        "Exposure error", "ΔEV", _STOPS, "stops, ±1/6 allowed", _STOPS, _SIGNED, shown=_NUMBERS, linear=True
    ),
    Measurand.NEUTRAL_DRIFT_DE00: Described(
        "Neutral drift", "ΔE00", _DE00, "ΔE00, black as the file says", _DE00, _TWO, _LOWER, _NUMBERS
    ),
    Measurand.NEUTRAL_DRIFT_CORRECTED_DE00: Described(
        "Neutral drift, corrected", "ΔE00", _DE00, "ΔE00, black as measured", _DE00, _TWO, _LOWER, _FOLDED
    ),
    Measurand.NEUTRAL_DRIFT_DUV: Described("Neutral drift", "Δu′v′", "Δu′v′", "", "Δu′v′", better=_LOWER),
    Measurand.DRIFT_RED_STOPS: Described(
        "Red drift", "ΔR", _STOPS, "stops against green", _STOPS, _SIGNED, shown=_FOLDED, linear=True
    ),
    Measurand.DRIFT_BLUE_STOPS: Described(
        "Blue drift", "ΔB", _STOPS, "stops against green", _STOPS, _SIGNED, shown=_FOLDED, linear=True
    ),
    Measurand.PATCH_DE00: Described("Colour shift of the patch", "ΔE00", _DE00, "", _DE00, _TWO, _LOWER),
    Measurand.COLOUR_DE00: Described(
        "Colour patches", "ΔE00", _DE00, "mean ΔE00 from base", _DE00, _TWO, _LOWER, _FOLDED
    ),
    Measurand.COLOUR_NOISE: Described(
        "Chroma noise of a coloured detail", "σ_ab", "ΔE of a*b*", "", "ΔE of a*b*", better=_LOWER, sized=True
    ),
    Measurand.COLOUR_SEPARATION: Described(
        "Colour separation", "d′", _RATIO, "near colours, in noise", better=_HIGHER, shown=_NUMBERS, sized=True
    ),
    Measurand.BLACK_LIFT: Described("Black lift", "ΔL*", _L, "L* from base", _L, _TWO, shown=_FOLDED, linear=True),
    Measurand.CLIPPED_SHARE: Described(
        "Clipped",
        "",
        _SHARE,
        "share of the grey patch",
        style=_PER_CENT,
        better=_LOWER,
        shown=_FOLDED,
        role="grey",
        linear=True,
    ),
    Measurand.SIGNAL_DN: Described("Signal", "μ", "DN above black", "", _DN, role="grey"),
    Measurand.NOISE_DN: Described("Noise", "σ", _DN, "", _DN, better=_LOWER, role="grey"),
    Measurand.BLACK_DN: Described("Black level", "μ_y.dark", _DN, "", _DN),
    Measurand.CLIP_DN: Described("Clip level", "μ_y.sat", _DN, "", _DN, better=_HIGHER),
    Measurand.NEIGHBOUR_CORRELATION: Described("Pixel-to-pixel correlation", "ρ", "−1 to 1"),
    Measurand.CODES_EMPTY: Described("Empty codes", "", _SHARE, style=_PER_CENT, better=_LOWER),
    Measurand.CODES_EMPTY_LOW: Described("Empty codes, lower half", "", _SHARE, style=_PER_CENT, better=_LOWER),
    Measurand.CODES_EMPTY_HIGH: Described("Empty codes, upper half", "", _SHARE, style=_PER_CENT, better=_LOWER),
    Measurand.CODES_DOUBLED: Described("Doubled codes", "", _SHARE, style=_PER_CENT, better=_LOWER),
    Measurand.STEP_STOPS: Described("Exposure step", "ΔEV", _STOPS, "", _STOPS, _SIGNED, linear=True),
    Measurand.BLACK_ERROR_DN: Described("Black error", "", _DN, "", _DN),
    Measurand.LINEARITY: Described(
        "Deviation from linear", "LE", _SHARE, "bright patches", style=_PER_CENT, better=_LOWER
    ),
    Measurand.CAST_DE00: Described("Cast", "ΔE00", _DE00, "ΔE00 of the grey", _DE00, _TWO, _LOWER, role="grey"),
    Measurand.CAST_CORRECTED_DE00: Described(
        "Black corrected", "ΔE00", _DE00, "cast of the grey, ΔE00", _DE00, _TWO, _LOWER, role="grey"
    ),
    Measurand.ROW_NOISE_SHARE: Described(
        "Row noise", "σ_row/μ", "share of grey", "share of the grey", style=_PER_CENT, better=_LOWER
    ),
    Measurand.CLIPS_AT_STOPS: Described("Clips at", "ΔEV", _STOPS, "", _STOPS, _SIGNED, _HIGHER, linear=True),
    Measurand.SAME_EQUAL: Described(
        "Noise at equal sharpness", "σ/µ", "of display white", "below a common frequency", "", better=_LOWER
    ),
    Measurand.SAME_EDGE: Described(
        "Edge sharpness", "C/C₀", "of the full mode's", "contrast of edges", "", better=_HIGHER
    ),
    Measurand.SAME_LUMA: Described("Luma noise", "σ_L", _L, "σ of L*", _L, better=_LOWER),
    Measurand.SAME_CHROMA: Described("Chroma noise", "σ_ab", "ΔE of a*b*", "σ of a*b*", "ΔE of a*b*", better=_LOWER),
    Measurand.SAME_DETAIL: Described(
        "Detail", "f", "line pairs per picture height", "line pairs a height", "lp/ph", better=_HIGHER
    ),
    Measurand.DARK_SIGNAL_E: Described("Dark signal", "μ_d", _E, "e⁻, ordinary pixels", _E, better=_LOWER),
    Measurand.DARK_NOISE_DN: Described("Noise", "σ_d", _DN, "DN, ordinary pixels", _DN, better=_LOWER),
    Measurand.HOT_PER_MPIX: Described(
        "Out of the dark", "", "per megapixel", "hot pixels per megapixel of sensor", "/MP", better=_LOWER
    ),
    Measurand.HOT_SHOWING_PER_MPIX: Described(
        "Hot pixels", "", "per megapixel", "per megapixel, that show", "/MP", better=_LOWER
    ),
    Measurand.HOT_REPAIRED_PER_MPIX: Described(
        "After repair", "", "per megapixel", "per megapixel, that show", "/MP", better=_LOWER
    ),
    Measurand.LIFTED_SHADOW_SNR: Described("Lifted shadow", "SNR", _RATIO, "SNR at +2 stops", better=_HIGHER),
    Measurand.DARK_ROWS_DN: Described("Row noise", "σ_row", _DN, "DN", _DN, better=_LOWER),
    Measurand.DARK_COLUMNS_DN: Described("Column noise", "σ_col", _DN, "DN", _DN, better=_LOWER),
}
# Of darks along time; measuring patches leaves them alone.
DARK_MEASURANDS = (
    Measurand.DARK_SIGNAL_E, Measurand.DARK_NOISE_DN, Measurand.HOT_PER_MPIX, Measurand.HOT_SHOWING_PER_MPIX,
    Measurand.HOT_REPAIRED_PER_MPIX, Measurand.LIFTED_SHADOW_SNR, Measurand.DARK_ROWS_DN, Measurand.DARK_COLUMNS_DN,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Reading:
    """One measured quantity of a rung; ``patch`` is None for what belongs to the rung as a whole.

    ``method`` says how it was made, in words for the provenance line. ``use`` is the key of the use at whose size it
    was read, empty per pixel.
    """

    patch: str | None
    channel: str
    quantity: Measurand
    result: Quantity
    method: str = ""
    excluded: int = 0
    use: str = ""
