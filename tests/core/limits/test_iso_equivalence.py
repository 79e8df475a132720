"""Matched rungs: shifts from measurements and verdicts, and how they are said."""

import math

import pytest

from yellowjacket.core.limits.iso_equivalence import (
    CLEARLY,
    Seen,
    Verdict,
    level_shift,
    matched_rungs,
    verdicts_in_words,
)
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing

MARKS = (100, 200, 400, 800, 1600, 3200, 6400)


def ladder(snr_at_100, fall=0.5, error=0.02, marks=MARKS):
    """SNR falls by ``fall`` of its logarithm a stop: 0.5 is photon noise alone."""
    rows = []
    for mark in marks:
        value = snr_at_100 * 2 ** (-fall * math.log2(mark / 100))
        rows.append(
            Seen(
                mark, math.log2(mark / 100), Quantity(value, value * (1 - 1.96 * error), value * (1 + 1.96 * error), 9)
            )
        )
    return rows


def test_twice_the_light_gathered_is_one_stop():
    """Photon noise: SNR goes with the root of the light, so √2 in SNR is one stop (Poisson statistics)."""
    found = matched_rungs(ladder(40), ladder(40 * math.sqrt(2)))
    known = [rung.ahead_stops for rung in found if rung.ahead_stops.value is not None]
    assert len(known) == 6
    for ahead in known:
        assert ahead.value == pytest.approx(1.0)
        # 2 % of SNR is 0.029 of its log2, over a slope of one half.
        assert (ahead.high - ahead.value) / 1.96 == pytest.approx(0.02 / math.log(2) / 0.5 * math.sqrt(1 + 1), rel=0.35)


def test_nothing_is_extrapolated():
    found = matched_rungs(ladder(40), ladder(20))
    assert "cleaner than the other's lowest rung, ISO 100" in found[0].ahead_stops.reason
    found = matched_rungs(ladder(20), ladder(40, marks=(100, 200)))
    assert "noisier than the other's highest rung" in found[-1].ahead_stops.reason
    blank = [Seen(100, 0.0, missing(Missing.NOT_MEASURED))]
    assert matched_rungs(blank, ladder(40))[0].ahead_stops.reason == "not measured"
    assert "fewer than two" in matched_rungs(ladder(40), blank)[0].ahead_stops.reason


def test_verdicts_are_said_rung_by_rung():
    said = verdicts_in_words("Heath", "Tarn", [(100, 0), (200, 0), (1600, 1), (3200, 1), (6400, 2)])
    assert said == "level to ISO 200, Heath better from ISO 1600, clearly at ISO 6400"
    assert verdicts_in_words("Heath", "Tarn", [(100, -1), (100, -1)]) == "Tarn better throughout"
    assert "no pair judged" in verdicts_in_words("a", "b", [])


def test_the_shift_at_which_both_look_alike_lies_between_the_verdicts():
    verdicts = [Verdict(800, -1, -2), Verdict(800, 0, -1), Verdict(800, 1, 0), Verdict(800, 2, 1), Verdict(1600, 3, 2)]
    found = level_shift(verdicts)
    assert found.value == pytest.approx(1.0)
    assert found.low < 1.0 < found.high
    assert found.high - found.low < 2


@pytest.mark.parametrize(
    ("verdicts", "reason"),
    [
        ([Verdict(100, 0, 1)], "1 of at least 3"),
        ([Verdict(100, 0, CLEARLY)] * 3, "all at one shift"),
        ([Verdict(100, n, 1) for n in range(3)], "the one is better at every shift"),
        ([Verdict(100, n, -1) for n in range(3)], "the other is better at every shift"),
        ([Verdict(100, 0, 1), Verdict(100, 1, 0), Verdict(100, 2, -1)], "do not follow the shift"),
    ],
)
def test_verdicts_that_tell_no_shift(verdicts, reason):
    assert reason in level_shift(verdicts).reason


def test_all_equal_at_one_shift_is_an_answer():
    found = level_shift([Verdict(100, 1, 0)] * 4)
    assert found.value == 1.0
    assert found.low < 1.0 < found.high
