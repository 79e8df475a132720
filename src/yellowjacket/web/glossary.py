"""What the lines of the sheets and the product's own words mean, in plain English."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Explained:
    """A line: its name, what it is, what is good, and what a tester sees when it gets worse."""

    name: str
    what: str
    good: str
    worse: str


TERMS: tuple[tuple[str, str], ...] = (
    ("Body", "One camera, told apart by make, model and serial number."),
    ("Sitting", "One scene, one light, one place and day, and the bodies tested there."),
    ("Ladder", "A series of frames in which one setting changes: ISO, exposure, time, or something else on the body."),
    ("Rung", "One setting of a ladder, with its light frames and its dark frames (lens cap on)."),
    ("Frame", "One raw file."),
    ("Patch", "An even or textured part of the scene that is measured in every frame."),
    ("Use", "What pictures are for: a size, such as the web or a large print. Limits are found for each use."),
    ("Grade", "What a person says of a rung for a use: A clean, B good, C usable, D only in an emergency, E lost."),
    ("Tolerance", "What you accept: a threshold for each criterion, in three levels: clean, usable, emergency."),
    ("Lane", "Finished pictures of a ladder, from a converter or from the camera, beside the raw frames."),
    ("Stave", "The sheet on every page: rungs as columns one stop apart, everything known about a rung below it."),
    ("Stop", "A factor of two in light. A third of a stop is one click on most dials."),
    ("DN, e⁻", "The number stored in a raw file, and the electrons that it stands for."),
    ("LENR", "Long-exposure noise reduction: the camera takes a dark frame after a long exposure and subtracts it."),
    ("95 % interval", "Where the true value lies, in 95 of 100 such measurements."),
)  # fmt: skip
LINES: Mapping[str, Explained] = {
    "snr": Explained(
        "Grey SNR", "How far a mid-grey patch stands above its noise, at the size of the use.",
        "Above 16 nobody sees noise; from about 8 on it is usable.", "Even areas look grainy.",
    ),
    "shadow_snr": Explained(
        "Shadow SNR", "The same in a shadow three stops under the grey, where noise is seen first.",
        "Above 5 shadows are clean; at 2.5 they are usable.", "Shadows look dirty and lose their shape when brightened.",
    ),
    "noise_chroma": Explained(
        "Chroma noise", "Spread of colour in an even patch (a*b* of CIELAB).", "Below about 4 it is not noticed.",
        "Coloured blotches that stay after the picture is made smaller.",
    ),
    "noise_luma": Explained(
        "Luma noise", "Spread of lightness in an even patch (L* of CIELAB).", "Below 1 to 2 it looks like fine film grain.",
        "A gritty texture over everything.",
    ),
    "grain_px": Explained(
        "Grain", "Width of the noise's grain in pixels of the finished picture.", "1 to 1.5: fine grain.",
        "Coarse grain is seen from further away, and sharpens into clumps.",
    ),
    "noise_visual": Explained(
        "Visual noise", "Noise weighed as the eye sees it at the use's size and distance.", "Below 1 it is not seen.",
        "Noise is seen at the normal viewing distance.",
    ),
    "detail_share": Explained(
        "Detail", "How much of the texture of the base rung is still told from noise.", "Above 90 % nothing is missed.",
        "Fine texture turns into noise, then into smears.",
    ),
    "detail": Explained(
        "Finest detail", "The finest texture that two frames agree on, in line pairs per picture height.",
        "As many as the sensor has.", "Fine lines disappear.",
    ),
    "colour_detail_share": Explained(
        "Colour detail", "How much coloured texture of the base rung is still told from noise.", "Above 90 %.",
        "Fine coloured texture turns grey.",
    ),
    "range_snr1": Explained(
        "Dynamic range", "Stops from the brightest tone that does not clip to where the signal equals its noise.",
        "More than the scene has: 10 to 12 stops for most.", "Shadows have to be given up, or highlights clip.",
    ),
    "wedge_snr1": Explained(
        "Wedge", "The same, seen on a step wedge in the scene, with its stray light.", "Close to the dynamic range.",
        "Stray light in the lens or the scene hides the shadows.",
    ),
    "wedge_floor": Explained(
        "Wedge floor", "Where stray light stands under the brightest step.", "Further down than the sensor reaches.",
        "Blacks are grey, whatever the sensor can do.",
    ),
    "headroom_stops": Explained(
        "Headroom", "Stops between mid-grey and clipping.", "About three at normal ISO settings.", "Highlights clip sooner.",
    ),
    "read_noise_e": Explained(
        "Read noise", "Noise of reading a pixel, without any light.", "1 to 3 e⁻; lower from a second base ISO on.",
        "Shadows are noisy, above all when they are brightened.",
    ),
    "gain_e_per_dn": Explained(
        "Gain", "Electrons for one number in the raw file.", "Halves with every stop of ISO.",
        "If it stays the same from some ISO on, higher settings only multiply the numbers.",
    ),
    "saturation_e": Explained(
        "Saturation", "Electrons at which a pixel clips.", "More; it halves with every stop of ISO.", "Highlights clip sooner.",
    ),
    "row_noise_dn": Explained(
        "Row noise", "How much whole rows differ in dark frames.", "Less than a tenth of the pixel's own noise.",
        "Horizontal bands in brightened shadows.",
    ),
    "column_noise_dn": Explained(
        "Column noise", "How much whole columns differ in dark frames.", "Less than a tenth of the pixel's own noise.",
        "Vertical stripes in brightened shadows.",
    ),
    "flags": Explained(
        "Watch out", "What the raw file hides: smoothing, multiplied numbers, extended settings.", "Empty.",
        "Numbers of that setting are not what they seem.",
    ),
    "exposure_error_stops": Explained(
        "Exposure error", "By how much a frame is brighter or darker than planned.", "Within a sixth of a stop.",
        "Rungs cannot be compared.",
    ),
    "neutral_drift_de00": Explained(
        "Neutral drift", "How far grey moves from neutral against the base rung (CIEDE2000).", "Below 2 nobody sees it.",
        "Greys and shadows turn magenta or green.",
    ),
    "neutral_drift_corrected_de00": Explained(
        "Neutral drift, corrected", "The same with the black level as measured instead of as the file says.", "Below 2.",
        "If this is small and the line above is not, the file's black level is wrong.",
    ),
    "drift_red_stops": Explained("Red drift", "Red against green, against the base rung.", "0.", "A red or cyan cast."),
    "drift_blue_stops": Explained("Blue drift", "Blue against green, against the base rung.", "0.", "A blue or yellow cast."),
    "colour_de00": Explained(
        "Colour patches", "Mean colour difference of the chart's patches from the base rung (CIEDE2000).", "Below 2.",
        "Colours look different at this ISO.",
    ),
    "colour_separation": Explained(
        "Colour separation", "How far neighbouring colours lie apart, in units of their noise.", "Above 4 they are apart.",
        "Similar colours run together.",
    ),
    "black_lift": Explained(
        "Black lift", "How much lighter black is than at base ISO.", "0.", "Shadows look foggy.",
    ),
    "clipped_share": Explained(
        "Clipped", "Share of the patch that is at the end of the range.", "0 %.", "Nothing can be measured there.",
    ),
    "cast_de00": Explained(
        "Cast", "Colour error of the grey after the frame was brought back (CIEDE2000).", "Below 2.",
        "A pushed picture turns magenta or green.",
    ),
    "linearity": Explained(
        "Deviation from linear", "How far signals are from following the light.", "Below 1 %.",
        "Brightness and colour change with exposure.",
    ),
    "hot": Explained(
        "Hot pixels", "Pixels that stand out of a shadow brightened by two stops, per megapixel.", "Below 10.",
        "Coloured dots in the shadows.",
    ),
    "signal": Explained(
        "Dark signal", "Electrons that an ordinary pixel gathers without light.", "Far below the shadow's own signal.",
        "Shadows are lifted and noisy; it doubles every 6 to 8 °C.",
    ),
}  # fmt: skip
