"""Noise of pairs: at the size that is seen, as the eye weighs it, by lines, under smoothing."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from yellowjacket.benchmarks.truths.row import Row, coverage_row, holds, many, ratio_row
from yellowjacket.core.colour.colorimetry import SRGB_TO_XYZ, WHITE, lab_of_linear_srgb
from yellowjacket.core.image_quality.eye import WEIGHTS, colour_sensitivity, light_sensitivity, visual_noise
from yellowjacket.core.image_quality.visual_noise import appearance
from yellowjacket.core.noise.autocorrelation import lag_sums
from yellowjacket.core.noise.banding import banding_of
from yellowjacket.core.noise.level import level_of
from yellowjacket.core.noise.smoothing import noise_hidden_stops, verdict
from yellowjacket.core.noise.two_frame import joint_noise, pair_noise
from yellowjacket.core.raw.frame import BAYER, Layout
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import (
    GRADIENT,
    LUMINANCE,
    Development,
    developed_crop,
    gains_from_grey,
)
from yellowjacket.simcam.bodies import HEATH

_TILE = (("R", "G1"), ("G2", "B"))
_LAYOUT = Layout(BAYER, _TILE)


def noise_at_size(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Developed noise of the Heath's grey at true sizes, against frames that were enlarged and averaged, and against Lanczos."""
    iso, megapixels = 1600, HEATH.width_px * HEATH.height_px / 1e6
    pair, side = _developed_pair(rng, iso, 1216 if share >= 1 else 608)
    for times, block in ((4, 6), (1, 5)):
        factor = block / times
        found = appearance(pair[0], pair[1], factor, coloured=True)
        whole = side // block * block
        large = [picture[:whole, :whole].repeat(times, axis=0).repeat(times, axis=1) for picture in pair]
        exact = [one.reshape(whole * times // block, block, -1, block, 3).mean(axis=(1, 3)) for one in large]
        chroma, snr = _of_pictures(exact)
        at = f"ISO {iso}, {megapixels / factor**2:.1f} MP of {megapixels:.0f}"
        for name, own, truth in (("Chroma noise", found.chroma, chroma), ("Luminance SNR", found.snr, snr)):
            yield ratio_row(name, f"{at}, against whole frames averaged", own, truth, 0.03)
        lanczos = [_lanczos(picture, round(side / factor)) for picture in pair]
        chroma, snr = _of_pictures([picture[3:-3, 3:-3] for picture in lanczos])
        ratio = (found.chroma.value or math.nan) / chroma
        yield Row("Chroma noise", f"{at}, against Lanczos", "told, no goal", f"{ratio:.3f} of it", True)


def _developed_pair(rng: np.random.Generator, iso: int, side: int) -> tuple[list[NDArray[np.float32]], int]:
    gain, white = HEATH.gain_dn_per_e(iso), HEATH.white_dn - HEATH.black_dn
    response = HEATH.matrix @ np.array([0.9505, 1.0, 1.089])
    levels = {c: 0.127 * white * response["RGB".index(c[0])] / response[1] for row in _TILE for c in row}
    mean = np.tile(np.array([[levels[c] for c in row] for row in _TILE]), (side // 2 + 4, side // 2 + 4))
    black = dict.fromkeys(levels, float(HEATH.black_dn))
    how = Development(_LAYOUT, black, gains_from_grey(levels), HEATH.matrix, GRADIENT)
    pair = []
    for _ in range(2):
        numbers = rng.poisson(mean / gain) * gain + rng.normal(
            HEATH.black_dn, HEATH.read_noise_e(iso) * gain, mean.shape
        )
        mosaic = np.clip(np.rint(numbers), 0, HEATH.white_dn).astype(np.uint16)
        pair.append(developed_crop(mosaic, Rect(4, 4, side, side), how))
    return pair, side


def _of_pictures(pair: Sequence[NDArray[np.floating]]) -> tuple[float, float]:
    noise = (
        lab_of_linear_srgb(pair[0].astype(np.float64)) - lab_of_linear_srgb(pair[1].astype(np.float64))
    ) / math.sqrt(2)
    light = ((pair[0] - pair[1]) @ LUMINANCE) / math.sqrt(2)
    return float(np.hypot(noise[..., 1].std(), noise[..., 2].std())), float((pair[0] @ LUMINANCE).mean() / light.std())


def _lanczos(picture: NDArray[np.float32], side: int) -> NDArray[np.float64]:
    planes = [Image.fromarray(picture[..., n]).resize((side, side), Image.Resampling.LANCZOS) for n in range(3)]
    return np.stack([np.asarray(plane, np.float64) for plane in planes], axis=-1)


def lines_and_levels(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Black and read noise of fresh bodies: how many of the 95 % intervals hold."""
    for rows_share in (0.0, 0.1, 0.2, 0.4):
        held: dict[str, list[bool]] = {"Black level": [], "Read noise": []}
        for _ in range(many(150, share, 4)):
            sigma, shape = 3.0, (512, 768)
            fixed = rng.normal(0, 0.9, shape) + rng.normal(0, 0.3, (1, shape[1]))
            frames = [
                np.rint(512 + fixed + rng.normal(0, sigma, shape) + rng.normal(0, rows_share * sigma, (shape[0], 1)))
                for _ in range(2)
            ]
            one, other = (frame.astype(np.uint16) for frame in frames)
            truth = math.sqrt(sigma**2 * (1 + rows_share**2) + 1 / 12)
            for y, x in ((0, 0), (0, 1), (1, 0), (1, 1)):
                planes = one[y::2, x::2], other[y::2, x::2]
                black = level_of([[plane] for plane in planes])
                noise = joint_noise([pair_noise(*planes, 512.0, dark=True)]).noise
                for name, own, true in (("Black level", black, 512.0), ("Read noise", noise, truth)):
                    held[name].append(holds(own, true))
        for name, inside in held.items():
            condition = f"{len(inside) // 4} bodies, row noise {rows_share:g} of the pixel's"
            yield coverage_row(name, condition, inside, share)


def bands_of_lines(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Row noise of bands of one to thirty lines."""
    lines, columns, sigma = 1536, 256, 4.0
    for width in (1, 3, 9, 20, 30):
        squares = []
        for _ in range(many(40, share, 6)):
            frames = []
            for _ in range(2):
                bands = rng.normal(0, 1.2, 2 * lines // width + 2).repeat(width)[int(rng.integers(width)) :][
                    : 2 * lines : 2
                ]
                frames.append(np.rint(rng.normal(512, sigma, (lines, columns)) + bands[:, None]).astype(np.uint16))
            squares.append((banding_of(frames[0], frames[1]).row_dn.value or 0.0) ** 2)
        ratio = math.sqrt(float(np.mean(squares))) / 1.2
        condition = f"bands of {width} lines, {len(squares)} pairs"
        yield Row("Row noise", condition, "within 5 %", f"{ratio:.3f} of it", abs(ratio - 1) <= 0.05 or share < 1)


def noise_as_seen(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Visual noise by slopes of CIELUV, against a frame that is filtered and carried through CIELUV pixel by pixel."""
    pair, side = _developed_pair(rng, 1600, 1024 if share >= 1 else 512)
    for per_degree in (30.0, 60.0):
        own = visual_noise(pair[0].astype(float), pair[1].astype(float), per_degree, coloured=True)
        xyz = pair[0].astype(np.float64) @ (SRGB_TO_XYZ / WHITE[:, None]).T
        middle = xyz.mean(axis=(0, 1))
        x, y, z = np.moveaxis(xyz - middle, -1, 0)
        cycles = np.fft.fftfreq(side)
        fineness = per_degree * np.hypot(cycles[:, None], cycles[None, :])
        eye = (light_sensitivity(fineness), *colour_sensitivity(fineness))
        # Light, red against green, yellow against blue, each as the eye passes it on, and back.
        light, red_green, yellow_blue = (
            np.fft.ifft2(np.fft.fft2(plane) * seen).real
            for plane, seen in zip((y, x - y, 0.4 * (y - z)), eye, strict=True)
        )
        seen_xyz = np.stack([red_green + light, light, light - yellow_blue / 0.4], axis=-1) + middle
        truth = float(WEIGHTS @ _luv(seen_xyz).std(axis=(0, 1)))
        yield ratio_row("Visual noise", f"ISO 1600, {per_degree:.0f} pixels to a degree", own, truth, 0.03)


def _luv(share: NDArray[np.float64]) -> NDArray[np.float64]:
    """CIE 1976 L*u*v* (CIE 15:2018) of XYZ with white at 1."""
    weights = np.array([1.0, 15.0, 3.0])
    xyz = share * WHITE
    whole, grey = xyz @ weights, float(WHITE @ weights)
    light = 116 * np.cbrt(share[..., 1]) - 16
    u = 13 * light * (4 * xyz[..., 0] / whole - 4 * WHITE[0] / grey)
    v = 13 * light * (9 * xyz[..., 1] / whole - 9 * WHITE[1] / grey)
    return np.stack([light, u, v], axis=-1)


def smoothed_noise(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """What smoothing hides of noise, told from the correlation of neighbours, against the noise before it."""
    for part in (0.03, 0.06, 0.12, 0.2):
        apart = []
        for _ in range(many(40, share, 3)):
            before = rng.normal(0, 8, (600, 600))
            after = before
            for axis in (0, 1):
                after = (1 - 2 * part) * after + part * (np.roll(after, 1, axis) + np.roll(after, -1, axis))
            found = noise_hidden_stops(verdict(lag_sums(after)).lag1)
            apart.append((found.value or math.nan) - math.log2(before.std() / after.std()))
        worst = float(np.abs(apart).max())
        condition = f"a filter with {part:g} of each neighbour, {len(apart)} frames"
        yield Row(
            "Noise hidden by smoothing", condition, "within 0.05 stop", f"{worst:.3f} stop at most", worst <= 0.05
        )
