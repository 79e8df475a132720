"""Which rung of one body looks like which of another: from measurements, and from verdicts on pairs."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import groupby, pairwise

import numpy as np

from yellowjacket.core.exposure.dial import exact_iso, iso_mark
from yellowjacket.core.metrology.estimate import Z95, Quantity, missing, unknown
from yellowjacket.core.metrology.notes import Missing, Note, Remark

# Closer than this two bodies are called level: a third of a stop, the finest mark of a dial.
LEVEL_STOPS = 1 / 3
# Verdicts from clearly worse to clearly better.
CLEARLY, SLIGHTLY, EQUAL = 2, 1, 0
_FEWEST_VERDICTS = 3


@dataclass(frozen=True, slots=True)
class Seen:
    """What is compared of a rung: its mark, where it stands (stops over ISO 100), and a quantity that falls as ISO rises."""

    mark: int
    stops: float
    snr: Quantity


@dataclass(frozen=True, slots=True)
class MatchedRung:
    """The rung of one body and by how many stops higher the other may go for the same noise: positive, the other is better."""

    mark: int
    ahead_stops: Quantity

    @property
    def equal_mark(self) -> int | None:
        """The dial mark of the other, in thirds, that equals this rung; None where it is not known."""
        if self.ahead_stops.value is None:
            return None
        return int(iso_mark(exact_iso(self.mark) * 2.0**self.ahead_stops.value).nominal)


def matched_rungs(one: Sequence[Seen], other: Sequence[Seen]) -> list[MatchedRung]:
    """For every rung of ``one`` the place on ``other``'s ladder with the same quantity, straight in its logarithm.

    Unknown with a reason where it lies outside the other's ladder; nothing is extrapolated.
    """
    curve = [seen for seen in sorted(other, key=lambda seen: seen.stops) if _usable(seen)]
    return [MatchedRung(seen.mark, _ahead(seen, curve)) for seen in sorted(one, key=lambda seen: seen.stops)]


def _usable(seen: Seen) -> bool:
    return seen.snr.value is not None and seen.snr.value > 0


def _ahead(seen: Seen, curve: Sequence[Seen]) -> Quantity:
    if not _usable(seen):
        return unknown(seen.snr)
    if len(curve) < 2:
        return missing(Missing.OTHER_BODY_FEW_RUNGS)
    level = _log(seen)
    for before, after in pairwise(curve):
        if _log(before) >= level >= _log(after) and _log(before) > _log(after):
            share = (_log(before) - level) / (_log(before) - _log(after))
            slope = (_log(before) - _log(after)) / (after.stops - before.stops)
            place = before.stops + share * (after.stops - before.stops)
            parts = (_error(seen), (1 - share) * _error(before), share * _error(after))
            error = math.hypot(*parts) / slope
            ahead = place - seen.stops
            return Quantity(ahead, ahead - Z95 * error, ahead + Z95 * error, seen.snr.n)
    if level > _log(curve[0]):
        return missing(Missing.CLEANER_THAN_ALL, curve[0].mark)
    return missing(Missing.NOISIER_THAN_ALL, curve[-1].mark)


def _log(seen: Seen) -> float:
    return math.log2(seen.snr.value or 1.0)


def _error(seen: Seen) -> float:
    """Standard error of the logarithm, stops."""
    return seen.snr.se / (seen.snr.value or 1.0) / math.log(2)


@dataclass(frozen=True, slots=True)
class Verdict:
    """What was said of a pair: mark of the one, by how many stops the other stood higher, and the score from −CLEARLY (the
    other is clearly better) to CLEARLY (the one is)."""

    mark: int
    apart_stops: float
    score: int


def level_shift(verdicts: Sequence[Verdict]) -> Quantity:
    """By how many stops the other must stand higher to look equal, by a line through the verdicts' scores.

    Unknown with a reason where the verdicts do not enclose it.
    """
    if len(verdicts) < _FEWEST_VERDICTS:
        return missing(Missing.FEW_VERDICTS, len(verdicts), _FEWEST_VERDICTS)
    apart = np.array([one.apart_stops for one in verdicts], np.float64)
    score = np.array([one.score for one in verdicts], np.float64)
    if len(set(apart.tolist())) < 2:
        if not score.any():
            value = float(apart[0])
            return Quantity(value, value - LEVEL_STOPS, value + LEVEL_STOPS, len(verdicts), (Note(Remark.ALL_EQUAL),))
        return missing(Missing.ONE_SHIFT)
    if score.min() > 0 or score.max() < 0:
        better = "one" if score.min() > 0 else "other"
        return missing(Missing.BETTER_AT_EVERY_SHIFT, better)
    middle = apart.mean()
    slope = float(((apart - middle) * score).sum() / ((apart - middle) ** 2).sum())
    if slope <= 0:
        return missing(Missing.VERDICTS_WITHOUT_TREND)
    value = float(middle - score.mean() / slope)
    left = score - slope * (apart - value)
    spread = math.sqrt(float((left**2).sum()) / max(len(verdicts) - 2, 1))
    # A verdict is no finer than half a step of its scale.
    error = max(spread, 0.5) / slope / math.sqrt(len(verdicts))
    return Quantity(value, value - Z95 * error, value + Z95 * error, len(verdicts))


def verdicts_in_words(one: str, other: str, verdicts: Sequence[tuple[int, int]]) -> str:
    """ "level to ISO 800, Heath better from ISO 1600, clearly at ISO 6400". ``verdicts``: mark and score at equal marks."""
    if not verdicts:
        return "no pair judged at equal ISO yet"
    by_mark = [
        (mark, sum(score for _, score in same) / len(same))
        for mark, same in ((mark, list(group)) for mark, group in groupby(sorted(verdicts), key=lambda pair: pair[0]))
    ]
    text = _runs(one, other, by_mark, lambda score: 0 if abs(score) < 0.5 else int(math.copysign(1, score)))
    clearly = [mark for mark, score in by_mark if abs(score) > 1.5]
    return f"{text}, clearly at ISO {', '.join(map(str, clearly))}" if clearly else text


def _runs(one: str, other: str, values: Sequence[tuple[int, float]], side: Callable[[float], int]) -> str:
    """Neighbouring rungs with the same outcome as one phrase: 0 level, 1 the one better, −1 the other."""
    runs = [(which, [mark for mark, _ in group]) for which, group in groupby(values, key=lambda pair: side(pair[1]))]
    words = []
    for n, (which, marks) in enumerate(runs):
        what = {0: "level", 1: f"{one} better", -1: f"{other} better"}[which]
        if len(runs) == 1:
            words.append(f"{what} throughout")
        elif n == 0:
            words.append(f"{what} to ISO {marks[-1]}")
        else:
            words.append(f"{what} from ISO {marks[0]}")
    return ", ".join(words)
