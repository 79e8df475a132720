"""Blind rounds of graders whose line is known."""

from __future__ import annotations

import math
import random
from collections.abc import Iterator

import numpy as np

from yellowjacket.benchmarks.truths.row import Row, many
from yellowjacket.core.judging.psychometrics import fitted, next_stimulus


def graders_with_a_line(rng: np.random.Generator, share: float) -> Iterator[Row]:
    """Blind rounds of simulated graders whose line is known; noise grows by 0.6 stops with a stop of ISO."""
    grows, answers = 0.6, 60
    for rungs in (7, 12, 20):
        isos = np.linspace(0, min(rungs - 1, 12), rungs)
        levels, near, held = (grows * isos).tolist(), 0, 0
        graders = many(300, share, 6)
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
            "A tester's line",
            condition,
            "75 % within ⅓ ISO stop",
            f"{near / graders:.0%}",
            near / graders >= 0.75 or share < 1,
        )
        whole = held / graders
        yield Row(
            "A tester's line",
            condition,
            "intervals hold 93 to 98 %",
            f"{whole:.1%}",
            0.93 <= whole <= 0.98 or share < 1,
        )
