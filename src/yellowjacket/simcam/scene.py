"""The computed scene: a specimen drawer, as linear reflectance.

Moths on felt, a label in fine print, a 16-step one-stop wedge, a grey card, a black trap, 30 colour
patches, fine random texture, a slanted edge and glass-headed pins with bright reflections. Shapes
are drawn twice as large and averaged down, so edges are soft as through a lens.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

WIDTH_PX, HEIGHT_PX = 1824, 1216
# The eye-spot of the first moth's right forewing, in raw pixels.
EYE_SPOT = (466, 330)
_OVERSAMPLE = 2
GREY_REFLECTANCE = 0.18
WEDGE_STEPS = 16
_WEDGE_TOP_REFLECTANCE = 0.8
_BLACK_REFLECTANCE = 0.0008
_SPECULAR_REFLECTANCE = 6.0
# The lamp stands to the left and above: the far corner gets this share less light.
_LAMP_FALLOFF = 0.06
# A good lens a few stops down, spread over the pixels: standard deviation of its blur.
_LENS_BLUR_PX = 0.65

FloatImage = NDArray[np.float32]
Box = tuple[int, int, int, int]  # left, top, width, height in scene pixels

WEDGE_BOX: Box = (64, 40, 16 * 80, 84)
GREY_BOX: Box = (1400, 40, 168, 168)
BLACK_BOX: Box = (1604, 40, 168, 168)
PATCHES_BOX: Box = (64, 924, 10 * 88, 3 * 84)
TEXTURE_BOX: Box = (1000, 930, 240, 240)
COLOUR_TEXTURE_BOX: Box = (1252, 930, 120, 240)
EDGE_BOX: Box = (1404, 930, 168, 240)
LABEL_BOX: Box = (1400, 250, 372, 236)


@dataclass(frozen=True, slots=True)
class MothPlumage:
    """Colours of a drawn moth, display-referred 0–255."""

    wing: tuple[int, int, int]
    tip: tuple[int, int, int]
    band: tuple[int, int, int]
    ring: tuple[int, int, int]
    body: tuple[int, int, int]


_PLUMAGES = (
    MothPlumage((196, 168, 118), (150, 134, 150), (96, 74, 58), (232, 210, 120), (120, 96, 74)),
    MothPlumage((150, 84, 62), (196, 120, 70), (60, 36, 40), (240, 190, 90), (84, 50, 40)),
    MothPlumage((128, 140, 112), (170, 176, 140), (62, 70, 54), (214, 120, 110), (90, 92, 70)),
    MothPlumage((206, 200, 188), (160, 150, 140), (70, 66, 70), (196, 60, 56), (110, 100, 96)),
    MothPlumage((92, 88, 112), (126, 112, 130), (46, 42, 60), (120, 160, 200), (70, 64, 80)),
)
_MOTHS = ((330, 400, 1.12, 0), (800, 384, 1.0, 1), (1180, 420, 0.74, 3), (300, 736, 0.84, 2), (720, 744, 0.92, 4),
          (1110, 742, 0.82, 0))  # fmt: skip


@dataclass(frozen=True, slots=True, eq=False)
class Scene:
    """What stands before the camera: linear reflectance in sRGB primaries, shape (height, width, 3).

    Diffuse white is 1; reflections of the lamp go beyond. The array is read-only.
    """

    name: str
    reflectance: FloatImage


@lru_cache(maxsize=1)
def specimen_drawer() -> Scene:
    """The specimen drawer, HEIGHT_PX × WIDTH_PX; always the same."""
    rng = np.random.default_rng(20260314)
    scene = _linear(_drawn_layer())
    scene *= _felt_fibres(rng)
    _paint_wedge(scene)
    _fill(scene, GREY_BOX, (GREY_REFLECTANCE,) * 3)
    _fill(scene, BLACK_BOX, (_BLACK_REFLECTANCE,) * 3)
    _paint_patches(scene)
    _paint_texture(scene, rng)
    _paint_reflections(scene)
    rows = np.linspace(0.0, 1.0, HEIGHT_PX, dtype=np.float32)[:, None, None]
    columns = np.linspace(0.0, 1.0, WIDTH_PX, dtype=np.float32)[None, :, None]
    scene *= 1.0 - _LAMP_FALLOFF * 0.5 * (rows + columns) ** 2 / 2
    from scipy.ndimage import gaussian_filter

    scene = gaussian_filter(scene, sigma=(_LENS_BLUR_PX, _LENS_BLUR_PX, 0), mode="nearest", output=np.float32)
    scene.setflags(write=False)
    return Scene("specimen drawer", scene)


def disturbed(scene: Scene, shift_px: tuple[int, int] = (0, 0), blur_px: float = 0.0) -> Scene:
    """The scene as seen after a nudge by (x, y) pixels or through a lens out of focus by ``blur_px`` (σ)."""
    picture = np.roll(scene.reflectance, (shift_px[1], shift_px[0]), axis=(0, 1))
    if blur_px:
        from scipy.ndimage import gaussian_filter

        picture = gaussian_filter(picture, sigma=(blur_px, blur_px, 0), mode="nearest", output=np.float32)
    return Scene(scene.name, picture)


def _linear(picture: Image.Image) -> FloatImage:
    """sRGB-encoded drawing to linear reflectance, averaged down to scene pixels."""
    levels = np.arange(256) / 255.0
    table = np.where(levels <= 0.04045, levels / 12.92, ((levels + 0.055) / 1.055) ** 2.4).astype(np.float32)
    drawn = np.asarray(picture)
    # Line by line of the larger drawing: a mean over axes of two takes ten times as long.
    parts = (drawn[y::_OVERSAMPLE, x::_OVERSAMPLE] for y in range(_OVERSAMPLE) for x in range(_OVERSAMPLE))
    return sum((table[part] for part in parts), np.zeros((), np.float32)) / np.float32(_OVERSAMPLE**2)


def _drawn_layer() -> Image.Image:
    picture = Image.new("RGB", (WIDTH_PX * _OVERSAMPLE, HEIGHT_PX * _OVERSAMPLE), (74, 76, 74))
    draw = ImageDraw.Draw(picture)
    _draw_mounts(draw)
    for x, y, size, plumage in _MOTHS:
        _draw_moth(draw, x * _OVERSAMPLE, y * _OVERSAMPLE, size * _OVERSAMPLE, _PLUMAGES[plumage])
    _draw_label(draw)
    _draw_edge(draw)
    _draw_pins(draw)
    return picture


def _rectangle(draw: ImageDraw.ImageDraw, box: Box, fill: tuple[int, int, int], margin: int = 0) -> None:
    left, top, width, height = box
    draw.rectangle(
        [(left - margin) * _OVERSAMPLE, (top - margin) * _OVERSAMPLE,
         (left + width + margin) * _OVERSAMPLE - 1, (top + height + margin) * _OVERSAMPLE - 1], fill=fill,
    )  # fmt: skip


def _draw_mounts(draw: ImageDraw.ImageDraw) -> None:
    """Dark cards behind the charts, and a light card as the light background."""
    for box in (WEDGE_BOX, GREY_BOX, BLACK_BOX, PATCHES_BOX, TEXTURE_BOX, COLOUR_TEXTURE_BOX, EDGE_BOX):
        _rectangle(draw, box, (38, 38, 38), margin=10)
    _rectangle(draw, (1400, 520, 372, 372), (205, 203, 198))
    _rectangle(draw, (1604, 930, 168, 240), (205, 203, 198), margin=10)


def _curve(points: list[tuple[float, float]], steps: int = 14) -> list[tuple[float, float]]:
    """A closed Catmull-Rom outline through the points."""
    outline = []
    count = len(points)
    for i in range(count):
        p0, p1, p2, p3 = (points[(i + k) % count] for k in (-1, 0, 1, 2))
        for step in range(steps):
            t = step / steps
            outline.append(
                tuple(
                    0.5 * (2 * p1[a] + (p2[a] - p0[a]) * t + (2 * p0[a] - 5 * p1[a] + 4 * p2[a] - p3[a]) * t**2
                           + (3 * p1[a] - p0[a] - 3 * p2[a] + p3[a]) * t**3)
                    for a in (0, 1)
                )
            )  # fmt: skip
    return outline  # type: ignore[return-value]


_FOREWING = [(6, -18), (60, -64), (128, -112), (176, -112), (178, -70), (150, -22), (88, 4), (20, 4)]
_HINDWING = [(10, 0), (84, 8), (132, 26), (134, 70), (98, 104), (50, 92), (18, 48)]


def _draw_moth(draw: ImageDraw.ImageDraw, x: float, y: float, size: float, plumage: MothPlumage) -> None:
    for side in (-1, 1):
        for wing, spot in ((_HINDWING, (86, 56)), (_FOREWING, (122, -62))):
            _draw_wing(draw, (x, y, size * side, size), wing, spot, plumage)
    for n in range(9):
        top = y + size * (-34 + 12 * n)
        half = size * (11 - 0.8 * abs(n - 3))
        shade = plumage.body if n % 2 else tuple(int(0.7 * c) for c in plumage.body)
        draw.ellipse([x - half, top, x + half, top + 16 * size], fill=shade)
    for side in (-1, 1):
        points = [
            (x + side * size * (3 + 7 * t), y + size * (-34 - 46 * math.sin(t * 0.9))) for t in np.linspace(0, 1.4, 12)
        ]
        draw.line(points, fill=(40, 34, 30), width=max(1, round(1.6 * abs(size))))


def _draw_wing(
    draw: ImageDraw.ImageDraw, place: tuple[float, float, float, float], outline: list[tuple[int, int]],
    spot: tuple[int, int], plumage: MothPlumage,
) -> None:  # fmt: skip
    x, y, across, down = place

    def at(point: tuple[float, float]) -> tuple[float, float]:
        return (x + across * point[0], y + down * point[1])

    root = (10.0, -4.0)
    smooth = _curve([(float(a), float(b)) for a, b in outline])
    layers = 16
    for n in range(layers):
        share = 1 - n / layers
        tone = tuple(round(w + (t - w) * share**1.5) for w, t in zip(plumage.wing, plumage.tip, strict=True))
        if n in (2, 6):
            tone = plumage.band
        reach = 0.35 + 0.65 * share
        shape = [at((root[0] + (p[0] - root[0]) * reach, root[1] + (p[1] - root[1]) * reach)) for p in smooth]
        draw.polygon(shape, fill=tone)
    for p in smooth[::5]:
        draw.line([at(root), at(p)], fill=plumage.band, width=max(1, round(0.9 * down)))
    for n, p in enumerate(smooth):
        if n % 2 == 0 and math.hypot(p[0] - root[0], p[1] - root[1]) > 70:
            outer = at((root[0] + 1.045 * (p[0] - root[0]), root[1] + 1.045 * (p[1] - root[1])))
            draw.line([at(p), outer], fill=(214, 208, 196), width=max(1, round(1.4 * down)))
    cx, cy = at(spot)
    rings = ((17, (44, 38, 40)), (13, plumage.ring), (8.5, (74, 62, 92)), (3.4, (240, 238, 232)))
    for radius, fill in rings:
        r = radius * down
        draw.ellipse([cx - r, cy - r, cx + r, cy + r], fill=fill)


def _draw_label(draw: ImageDraw.ImageDraw) -> None:
    _rectangle(draw, LABEL_BOX, (228, 224, 212))
    left, top = LABEL_BOX[0] * _OVERSAMPLE + 28, LABEL_BOX[1] * _OVERSAMPLE + 22
    lines = ("Drawer 12  lamp room", "Noctuid trap, site 7, ridge path", "leg. survey team  14 March  18 °C",
             "det. by wing venation; see card 231", "abdomen checked under glass, slide 9-044",
             "wingspan 38 mm; left hindwing torn at vein 3",
             "light trap 125 W, dusk to 23:40, wind from west")  # fmt: skip
    for n, text in enumerate(lines):
        size = 40 - 4.6 * n
        draw.text((left, top), text, fill=(30, 28, 30), font=ImageFont.load_default(size=size))
        top += int(size * 1.62)


def _draw_edge(draw: ImageDraw.ImageDraw) -> None:
    _rectangle(draw, EDGE_BOX, (196, 196, 196))
    left, top, width, height = (value * _OVERSAMPLE for value in EDGE_BOX)
    slant = math.radians(5.0)
    shift = math.tan(slant) * height
    middle = left + width / 2
    draw.polygon(
        [(middle + shift / 2, top), (left + width - 1, top), (left + width - 1, top + height - 1),
         (middle - shift / 2, top + height - 1)], fill=(52, 52, 52),
    )  # fmt: skip


def _pins() -> list[tuple[int, int, tuple[int, int, int]]]:
    heads = ((176, 30, 34), (30, 60, 160), (24, 24, 26), (220, 190, 40), (236, 236, 230), (34, 120, 70))
    pins = [(x, y - round(36 * size), heads[n % 6]) for n, (x, y, size, _) in enumerate(_MOTHS)]
    return pins + [(1470 + 60 * n, 600 + 44 * (n % 3), heads[n % 6]) for n in range(5)]


def _draw_pins(draw: ImageDraw.ImageDraw) -> None:
    for x, y, head in _pins():
        cx, cy, r = x * _OVERSAMPLE, y * _OVERSAMPLE, 11 * _OVERSAMPLE
        draw.line([cx, cy, cx + 14 * _OVERSAMPLE, cy + 52 * _OVERSAMPLE], fill=(120, 122, 126), width=3 * _OVERSAMPLE)
        draw.ellipse([cx - r, cy - r, cx + r, cy + r], fill=head)


def _paint_reflections(scene: FloatImage) -> None:
    """The lamp mirrored in every glass head: a small disc far brighter than white."""
    for x, y, _ in _pins():
        rows, columns = np.ogrid[y - 12 : y + 6, x - 12 : x + 6]
        disc = np.clip(3.2 - np.hypot(rows - (y - 4), columns - (x - 4)), 0.0, 1.0)[..., None]
        area = scene[y - 12 : y + 6, x - 12 : x + 6]
        area += (disc * _SPECULAR_REFLECTANCE).astype(np.float32)


def _felt_fibres(rng: np.random.Generator) -> FloatImage:
    """Multiplicative fibre structure over the whole drawing, a few per cent."""
    fine = rng.normal(0.0, 0.05, (HEIGHT_PX, WIDTH_PX, 1)).astype(np.float32)
    return 1.0 + 0.5 * (fine + np.roll(fine, 1, axis=1))


def _fill(scene: FloatImage, box: Box, reflectance: tuple[float, float, float]) -> None:
    left, top, width, height = box
    scene[top : top + height, left : left + width] = reflectance


def wedge_reflectance(step: int) -> float:
    """Reflectance of wedge step 0 (lightest) to WEDGE_STEPS − 1, one stop apart."""
    return float(_WEDGE_TOP_REFLECTANCE * 2.0**-step)


def _paint_wedge(scene: FloatImage) -> None:
    left, top, width, height = WEDGE_BOX
    step_px = width // WEDGE_STEPS
    for step in range(WEDGE_STEPS):
        _fill(scene, (left + step * step_px, top, step_px, height), (wedge_reflectance(step),) * 3)


def patch_colours() -> NDArray[np.float64]:
    """Thirty patch reflectances in linear sRGB, shape (30, 3): a hue circle in two strengths, and neutrals."""
    colours = []
    for row, (chroma, level) in enumerate(((0.75, 0.30), (0.40, 0.22))):
        for n in range(10):
            angle = 2 * math.pi * (n + 0.5 * row) / 10
            weights = [0.5 + 0.5 * math.cos(angle - 2 * math.pi * c / 3) for c in range(3)]
            colours.append([level * ((1 - chroma) + chroma * 1.6 * w) for w in weights])
    colours += [[0.72 * 2.0 ** (-0.62 * n)] * 3 for n in range(6)]
    colours += [[0.40, 0.27, 0.20], [0.21, 0.13, 0.09], [0.62, 0.46, 0.36], [0.10, 0.07, 0.05]]
    return np.array(colours)


def _paint_patches(scene: FloatImage) -> None:
    left, top, width, height = PATCHES_BOX
    across, down = width // 10, height // 3
    for n, colour in enumerate(patch_colours()):
        box = (left + (n % 10) * across, top + (n // 10) * down, across - 6, down - 6)
        _fill(scene, box, (float(colour[0]), float(colour[1]), float(colour[2])))


def _paint_texture(scene: FloatImage, rng: np.random.Generator) -> None:
    """Fine random texture, neutral and coloured, log-normal around mid-grey with blurred grain of ~1 px."""
    for box, coloured in ((TEXTURE_BOX, False), (COLOUR_TEXTURE_BOX, True)):
        left, top, width, height = box
        grain = rng.normal(0.0, 1.0, (height, width, 3 if coloured else 1))
        grain = (grain + np.roll(grain, 1, 0) + np.roll(grain, 1, 1) + np.roll(grain, (1, 1), (0, 1))) / 2
        scene[top : top + height, left : left + width] = GREY_REFLECTANCE * np.exp(0.35 * grain)
