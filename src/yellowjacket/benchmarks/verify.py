"""Accuracy and coverage against simulated truth: every estimator that limits rest on, on fresh bodies whose numbers are known."""

from __future__ import annotations

import math
import random
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from yellowjacket.core.colour.colorimetry import lab_of_linear_srgb
from yellowjacket.core.image_quality.visual_noise import appearance
from yellowjacket.core.judging.psychometrics import fitted, next_stimulus
from yellowjacket.core.metrology.estimate import Quantity, with_relative_error
from yellowjacket.core.noise.banding import banding_of
from yellowjacket.core.noise.level import level_of
from yellowjacket.core.noise.two_frame import joint_noise, pair_noise
from yellowjacket.core.photon_transfer.dual_gain import NoiseAt, second_base_of
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
_SEED = 20260314


@dataclass(frozen=True, slots=True)
class Row:
    """One line of the table: what is held against what, the goal and what was found in words, and whether it holds."""

    what: str
    condition: str
    goal: str
    found: str
    holds: bool


def rows(share: float = 1.0) -> Iterator[Row]:
    """All checks, one after the other. ``share``: of the bodies, frames and graders of the whole run."""
    checks: Sequence[Callable[[np.random.Generator, float], Iterator[Row]]] = (
        _noise_at_size, _lines_and_levels, _bands, _second_bases, _graders,
    )  # fmt: skip
    for n, check in enumerate(checks):
        yield from check(np.random.default_rng([_SEED, n]), share)


def _many(count: int, share: float, least: int = 1) -> int:
    return max(least, round(count * share))


def _noise_at_size(rng: np.random.Generator, share: float) -> Iterator[Row]:
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
            yield _ratio(name, f"{at}, against whole frames averaged", own, truth, 0.03)
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


def _ratio(what: str, condition: str, own: Quantity, truth: float, within: float) -> Row:
    ratio = (own.value or math.nan) / truth
    return Row(what, condition, f"within {within:.0%}", f"{ratio:.3f} of it", abs(ratio - 1) <= within)


def _lines_and_levels(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Black and read noise of fresh bodies: how many of the 95 % intervals hold."""
    for rows_share in (0.0, 0.1, 0.2, 0.4):
        held: dict[str, list[bool]] = {"Black level": [], "Read noise": []}
        for _ in range(_many(150, share, 10)):
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
                    held[name].append((own.low or 0.0) <= true <= (own.high or math.inf))
        for name, inside in held.items():
            part = float(np.mean(inside))
            yield Row(
                name, f"{len(inside) // 4} bodies, row noise {rows_share:g} of the pixel's", "92 to 98 %", f"{part:.1%}",
                0.92 <= part <= 0.98 or share < 1,
            )  # fmt: skip


def _bands(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Row noise of bands of one to thirty lines."""
    lines, columns, sigma = 1536, 256, 4.0
    for width in (1, 3, 9, 20, 30):
        squares = []
        for _ in range(_many(40, share, 6)):
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


def _second_bases(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Ladders of every spacing and switch: how many are missed, and how many of one gain are accused."""
    count = _many(500, share)
    missed = sum(
        second_base_of(ladder).value != truth for ladder, truth in (_switched(rng, True) for _ in range(count))
    )
    accused = sum(second_base_of(_switched(rng, False)[0]).known for _ in range(count))
    yield Row(
        "Second base ISO", f"{count} ladders, drops of 15 % and more", "none missed", f"{missed} missed", missed == 0
    )
    yield Row(
        "Second base ISO",
        f"{count} ladders of one gain",
        "under 1 %",
        f"{accused} accused",
        accused < max(1, count / 100),
    )


def _switched(rng: np.random.Generator, switches: bool) -> tuple[list[NoiseAt], float | None]:
    while True:
        step = 2.0 ** float(rng.choice([1 / 3, 1, 2]))
        count = int(rng.integers(4, 13 if step < 2 else 9))
        isos = [round(100 * step**n) for n in range(count)]
        first, before_e, converter_dn = int(rng.integers(1, count)), rng.uniform(1.5, 12), rng.uniform(0.3, 3)
        gains = rng.uniform(0.5, 5) * 100 / np.array(isos)
        noise = np.hypot(before_e, converter_dn * gains)
        square = ((1 - rng.uniform(0.15, 0.7)) * noise[first]) ** 2 - (converter_dn * gains[first]) ** 2
        if not switches or square >= 0.01:
            break
    if switches:
        noise[first:] = np.sqrt(square + (converter_dn * gains[first:]) ** 2)
    error = rng.uniform(0.0005, 0.0015)
    ladder = []
    for iso, gain, electrons in zip(isos, gains.tolist(), noise.tolist(), strict=True):
        seen = electrons * rng.normal(1, error)
        parts = [with_relative_error(value, error, 1000) for value in (gain, seen / gain, seen)]
        ladder.append(NoiseAt(iso, *parts))
    return ladder, float(isos[first]) if switches else None


def _graders(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Blind rounds of simulated graders whose line is known; noise grows by 0.6 stops with a stop of ISO."""
    grows, answers = 0.6, 60
    for rungs in (7, 12, 20):
        isos = np.linspace(0, min(rungs - 1, 12), rungs)
        levels, near, held = (grows * isos).tolist(), 0, 0
        graders = _many(300, share, 12)
        for n in range(graders):
            truth, width = grows * rng.uniform(0.15, 0.85) * isos[-1], grows * rng.choice([0.25, 0.5, 0.8])
            chance = random.Random(n)  # noqa: S311 - what is shown, no secret
            shown: list[int] = []
            accepted: list[bool] = []
            for _ in range(answers):
                shown.append(next_stimulus(levels, shown, accepted, chance))
                yes = 0.02 + 0.96 / (1 + math.exp((levels[shown[-1]] - truth) / width))
                accepted.append(bool(rng.random() < yes))
            found = fitted([levels[k] for k in shown], accepted).noise_log2
            near += found.value is not None and abs(found.value - truth) / grows < 1 / 3
            held += found.known and (found.low or -math.inf) <= truth <= (found.high or math.inf)
        condition = f"{rungs} rungs, {answers} answers, {graders} graders"
        yield Row(
            "A tester's line", condition, "75 % within ⅓ ISO stop", f"{near / graders:.0%}", near / graders >= 0.75
        )
        whole = held / graders
        yield Row(
            "A tester's line",
            condition,
            "intervals hold 93 to 98 %",
            f"{whole:.1%}",
            0.93 <= whole <= 0.98 or share < 1,
        )


def table(found: Sequence[Row]) -> str:
    """The rows as Markdown."""
    head = ["| Quantity | Condition | Goal | Found | |", "| --- | --- | --- | --- | --- |"]
    body = [
        f"| {r.what} | {r.condition} | {r.goal} | {r.found} | {'holds' if r.holds else '**missed**'} |" for r in found
    ]
    return "\n".join([*head, *body])


def run(share: float, report: Callable[[str], None]) -> int:
    """Report the table; 1 where something is missed."""
    found = list(rows(share))
    report(table(found))
    return 0 if all(one.holds for one in found) else 1
