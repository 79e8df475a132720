"""How well somebody guesses the ISO of pictures: error in stops, its mean and how large it typically is."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing

_FEWEST = 3


@dataclass(frozen=True, slots=True)
class Guesses:
    """``bias``: mean error, stops, above 0 too high; ``miss``: root mean square of the errors; ``blind``: what ``miss`` would be
    by naming any of the marks without looking."""

    bias: Quantity
    miss: Quantity
    blind: float
    right: int
    count: int


def guesses(true_stops: Sequence[float], said_stops: Sequence[float], marks_stops: Sequence[float]) -> Guesses:
    """From the true and the named ISO of every picture and the marks to choose from, all in stops.

    The interval of the mean is Student's; that of the typical error is from χ² with as many degrees of freedom as answers, for
    errors around nothing (both hold for normal errors; general literature).
    """
    from scipy.stats import chi2
    from scipy.stats import t as student

    errors = np.asarray(said_stops, float) - np.asarray(true_stops, float)
    n = len(errors)
    chance = [(mark - true) ** 2 for true in true_stops for mark in marks_stops]
    blind = math.sqrt(sum(chance) / len(chance)) if chance else 0.0
    right = int((np.abs(errors) < 1 / 6).sum())
    if n < _FEWEST:
        few = missing(Missing.FEW_ANSWERS, _FEWEST)
        return Guesses(few, few, blind, right, n)
    mean, half = float(errors.mean()), float(student.ppf(0.975, n - 1) * errors.std(ddof=1) / math.sqrt(n))
    square = float((errors**2).sum())
    low, high = (math.sqrt(square / chi2.ppf(one, n)) for one in (0.975, 0.025))
    return Guesses(
        Quantity(mean, mean - half, mean + half, n), Quantity(math.sqrt(square / n), low, high, n), blind, right, n
    )
