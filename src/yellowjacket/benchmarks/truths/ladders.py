"""What is read from a whole ladder: a second base ISO, steps and black of exposures, which rungs had equal light."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from yellowjacket.benchmarks.truths.row import Row, coverage_row, holds, many
from yellowjacket.core.latitude.exposure_steps import RungLevels, fit_steps
from yellowjacket.core.latitude.iso_invariance import IsoNoise, ShadowNoise, same_light
from yellowjacket.core.metrology.estimate import Quantity, with_error, with_relative_error
from yellowjacket.core.photon_transfer.dual_gain import NoiseAt, second_base_of

_CHANNELS = {"R": 0.6, "G1": 1.0, "G2": 1.0, "B": 0.7}


def second_bases(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Ladders of every spacing and switch: how many are missed, and how many of one gain are accused."""
    count = many(500, share)
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


def exposure_steps(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """The joint fit of an exposure ladder where columns have offsets of their own, which patches above each other share."""
    for fixed_dn in (0.0, 0.3, 1.0):
        blacks: list[bool] = []
        steps: list[bool] = []
        bodies = many(75, share, 4)
        for _ in range(bodies):
            stops = np.arange(-5.0, 4.0)
            true = stops + np.where(stops == 0, 0.0, rng.normal(0, 0.05, len(stops)))
            black = {channel: 512 + rng.normal(0, 0.3) for channel in _CHANNELS}
            rungs = _exposed(rng, true, black, fixed_dn / math.sqrt(40))
            found = fit_steps(rungs, 5, dict.fromkeys(_CHANNELS, 512.0))
            blacks += [holds(found.black_dn[channel], truth) for channel, truth in black.items()]
            steps += [holds(found.steps[n], truth) for n, truth in enumerate(true) if n != 5]
        condition = f"exposure ladders of {bodies} bodies, columns off by {fixed_dn:g} DN"
        yield coverage_row("Black by the joint fit", condition, blacks, share)
        yield coverage_row("Exposure steps", condition, steps, share)


def _exposed(
    rng: np.random.Generator, stops: NDArray[np.float64], black: dict[str, float], column_dn: float
) -> list[RungLevels]:
    """Rungs of a wedge in columns of its own and colours in three rows of ten, in DN at 2 e⁻ to each."""
    places = [(n, 0.8 * 2.0**-n) for n in range(16)] + [(16 + n % 10, rng.uniform(0.05, 0.6)) for n in range(30)]
    offset = {channel: rng.normal(0, column_dn, 26) for channel in black}
    rungs = []
    for key, moved in enumerate(stops):
        levels: dict[str, dict[str, Quantity]] = {}
        for n, (column, reflectance) in enumerate(places):
            own = levels[f"{n}"] = {}
            for channel, response in _CHANNELS.items():
                signal = 3750 * reflectance * 2.0**moved * response
                if signal > 14000:
                    continue
                se = math.sqrt((signal * 0.5 + 4.0) / 1600)
                own[channel] = with_error(
                    black[channel] + signal + offset[channel][column] + rng.normal(0, se), se, 1600
                )
        rungs.append(RungLevels(key, float(round(moved)), levels))
    return rungs


def equal_light(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Rungs whose shutter says the same, under light that differs by aperture or filter: which are held against each other."""
    wrong = 0
    pairs = many(500, share, 50)
    for _ in range(pairs):
        apart = float(rng.choice([0.0, rng.uniform(-0.06, 0.06), rng.choice([-1, 1]) * rng.uniform(0.14, 3)]))
        rungs = []
        for iso, stops in ((100, 0.0), (800, apart)):
            gain = 4.0 * 100 / iso
            patches = {}
            for n in range(8):
                electrons = 4000 * 2.0 ** (stops - n) * rng.normal(1, 0.003)
                signal = with_error(electrons / gain + rng.normal(0, 0.1), 0.1, 4000)
                patches[f"{n}", "G1"] = ShadowNoise(signal, with_error(1.0, 0.01, 4000))
            known = with_relative_error(gain, 0.01, 1000)
            rungs.append(IsoNoise(iso, with_error(3.0, 0.1, 9), with_error(5e4, 9.0, 9), known, patches))
        wrong += same_light(*rungs) != (abs(apart) < 0.1)
    yield Row(
        "Equal light", f"{pairs} pairs of rungs, 0 to 3 stops apart", "none taken wrongly", f"{wrong} wrong", wrong == 0
    )
