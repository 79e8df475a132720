"""What a use shows of a picture: its pixels, how much of the frame, how large on paper, and from how far."""

from __future__ import annotations

import math
from dataclasses import dataclass

# A normal eye tells apart one arc minute (the definition of visual acuity 1, ISO 8596; from memory).
_EYE_RAD = math.radians(1 / 60)
_ASPECT = 1.5
# Where no size on paper is known, prints are made so (common practice, no source).
DEFAULT_PRINT_PPI = 300.0
_CM_PER_INCH = 2.54
# A picture looked at pixel by pixel is on a screen of 100 pixels to the inch, half a metre away (common practice, no source).
_SCREEN_PPI, _SCREEN_CM = 100.0, 50.0
_SCREEN_PER_DEGREE = _SCREEN_PPI / _CM_PER_INCH * _SCREEN_CM * math.tan(math.radians(1))
# A picture whose distance nobody named is seen from as far as its diagonal is long (common practice, no source): how wide it is
# in distances.
_WIDTH_IN_DIAGONALS = _ASPECT / math.hypot(_ASPECT, 1)


@dataclass(frozen=True, slots=True)
class LookedAt:
    """How output pixels are looked at: how many fall on a degree in the middle of the picture, and whether in colour."""

    pixels_per_degree: float
    coloured: bool = True


AT_PIXEL_LEVEL = LookedAt(_SCREEN_PER_DEGREE)


@dataclass(frozen=True, slots=True)
class UseView:
    """A use beyond its pixel count. ``output_pixels`` None is pixel level; ``crop_share``: share of the frame's area that is
    kept; sizes in cm, None where they do not matter."""

    output_pixels: int | None
    crop_share: float = 1.0
    print_width_cm: float | None = None
    viewing_cm: float | None = None
    monochrome: bool = False

    @property
    def eye_pixels(self) -> float | None:
        """Pixels the eye tells apart on the print from where it is seen, of a picture 3 : 2; None without both sizes."""
        if not (self.print_width_cm and self.viewing_cm):
            return None
        across = self.print_width_cm / (self.viewing_cm * math.tan(_EYE_RAD))
        return across**2 / _ASPECT

    @property
    def whole_frame_pixels(self) -> int | None:
        """Output pixels if the whole frame were shown at this scale, no more than the eye tells apart: what noise is
        averaged to. None at pixel level."""
        if self.output_pixels is None:
            return None
        shown = float(self.output_pixels)
        if self.eye_pixels is not None:
            shown = min(shown, self.eye_pixels)
        return max(1, round(shown / self.crop_share))

    @property
    def looked_at(self) -> LookedAt:
        """How pixels of ``whole_frame_pixels`` are looked at."""
        pixels = self.whole_frame_pixels
        if pixels is None:
            return LookedAt(_SCREEN_PER_DEGREE, not self.monochrome)
        width_cm = self.print_width_cm
        if self.viewing_cm and not width_cm:
            width_cm = math.sqrt((self.output_pixels or 0) * _ASPECT) / DEFAULT_PRINT_PPI * _CM_PER_INCH
        in_distances = width_cm / self.viewing_cm if width_cm and self.viewing_cm else _WIDTH_IN_DIAGONALS
        across = math.sqrt(pixels * self.crop_share * _ASPECT)
        return LookedAt(across / in_distances * math.tan(math.radians(1)), not self.monochrome)

    @property
    def limited_by_eye(self) -> bool:
        """Whether the eye, not the output, sets how fine it is seen."""
        return self.output_pixels is not None and self.eye_pixels is not None and self.eye_pixels < self.output_pixels

    @property
    def print_ppi(self) -> float:
        """Output pixels to the inch on paper."""
        if self.output_pixels is None or not self.print_width_cm:
            return DEFAULT_PRINT_PPI
        return math.sqrt(self.output_pixels * _ASPECT) / (self.print_width_cm / _CM_PER_INCH)

    @property
    def words(self) -> str:
        """ "24 MP, half the frame, 60 cm wide seen from 100 cm (6.3 MP to the eye), black and white"."""
        parts = ["each pixel" if self.output_pixels is None else f"{self.output_pixels / 1e6:g} MP"]
        if self.crop_share < 1 and self.output_pixels is not None:
            half = math.isclose(self.crop_share, 0.5)
            parts.append("half the frame" if half else f"{100 * self.crop_share:.0f} % of the frame")
        if self.print_width_cm:
            seen = f" seen from {self.viewing_cm:g} cm" if self.viewing_cm else ""
            eye = f" ({(self.eye_pixels or 0) / 1e6:.2g} MP to the eye)" if self.limited_by_eye else ""
            parts.append(f"{self.print_width_cm:g} cm wide{seen}{eye}")
        if self.monochrome:
            parts.append("black and white")
        return ", ".join(parts)


def preview_scale(use: UseView, screen_ppi: float, screen_cm: float) -> float:
    """Screen pixels for one output pixel, so that the screen from ``screen_cm`` shows what the print shows from where it is
    seen: equal angles. Raises ValueError for sizes that are not positive."""
    if min(screen_ppi, screen_cm) <= 0:
        raise ValueError("the screen's resolution and distance must be positive")
    from_cm = use.viewing_cm or screen_cm
    return (screen_ppi * screen_cm) / (use.print_ppi * from_cm)


def use_noise_factor(picture_pixels: int, output_pixels: int | None) -> tuple[float, str]:
    """By how much SNR rises at a use's size, √(P/P_out), and a remark when the use is not smaller.

    ``output_pixels`` None is pixel level. Never enlarge: a larger use is measured per pixel and says so.
    Raises ValueError for a picture without pixels.

    >>> use_noise_factor(24_000_000, 6_000_000)[0]
    2.0
    """
    if picture_pixels <= 0:
        raise ValueError("the picture needs a positive pixel count")
    if output_pixels is None:
        return 1.0, ""
    if output_pixels >= picture_pixels:
        return 1.0, "larger than the picture: measured per pixel"
    return float((picture_pixels / output_pixels) ** 0.5), ""
