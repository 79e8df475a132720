"""One body against another: symmetric, silent where a side has no reading, right as often as it says."""

import numpy as np
import pytest

from yellowjacket.core.limits.body_comparison import COMPARED, effects, in_words
from yellowjacket.core.metrology.estimate import Quantity, missing, with_relative_error
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Missing, Note, Remark

MARKS = (100, 400, 1600, 6400)
TRUE = {
    Measurand.SNR: 40.0, Measurand.SHADOW_SNR: 12.0, Measurand.NOISE_CHROMA: 3.0, Measurand.READ_NOISE_E: 2.5,
    Measurand.RANGE_SNR1: 11.0, Measurand.NEUTRAL_DRIFT_DE00: 1.5, Measurand.DETAIL: 1200.0,
}  # fmt: skip


def body(rng=None, error=0.02, **factors):
    """A body read with this relative error; factors change quantities by their names."""
    found = {}
    for mark in MARKS:
        found[mark] = {}
        for quantity, value in TRUE.items():
            true = value * factors.get(quantity.value, 1.0)
            read = true if rng is None else true * (1 + rng.normal(0, error))
            found[mark][quantity] = with_relative_error(read, error, 1000)
    return found


def told(one, other, **more):
    return {effect.quantity: effect for effect in effects(one, other, COMPARED, **more)}


def test_equal_bodies_are_level_in_everything():
    found = told(body(), body())
    assert set(found) == set(COMPARED)
    assert {effect.who for effect in found.values()} == {None}
    (words,) = in_words("Heath", "Tarn", list(found.values()))
    assert words.startswith("no difference in grey SNR, shadow SNR")


def test_more_read_noise_is_worse_by_so_much_with_its_interval():
    effect = told(body(), body(read_noise_e=1.25))[Measurand.READ_NOISE_E]
    assert effect.who == 1
    assert effect.worse.value == pytest.approx(1.25)
    # 2 % on either side, four marks: 0.02·√2/√4 of the ratio, 1.96 of it either way.
    assert effect.worse.high / 1.25 == pytest.approx(1 + 1.96 * 0.02 * np.sqrt(2) / 2, abs=0.002)
    (words, rest) = in_words("old", "new", [effect, told(body(), body())[Measurand.SNR]])
    assert words == "new is worse than old: 25 % more read noise (22 to 29 %)"
    assert rest == "level in grey SNR"


def test_the_statement_is_the_same_in_either_order():
    rng = np.random.default_rng(3)
    one, other = body(rng), body(rng, read_noise_e=1.25, shadow_snr=0.9, range_snr1=0.9, neutral_drift_de00=2.0)
    assert in_words("Heath", "Tarn", effects(one, other, COMPARED)) == in_words(
        "Tarn", "Heath", effects(other, one, COMPARED)
    )
    worse, level = in_words("Heath", "Tarn", effects(one, other, COMPARED))
    assert worse.startswith("Tarn is worse than Heath: ")
    for amount in (
        "% more read noise (",
        "% less shadow SNR (",
        "ΔE00 more neutral drift (",
        "stops less dynamic range (",
    ):
        assert amount in worse
    assert level.startswith("level in grey SNR")


def test_nothing_is_said_where_a_side_has_no_reading():
    one, other = body(), body(shadow_snr=0.5)
    for mark in (1600, 6400):
        other[mark][Measurand.SHADOW_SNR] = missing(Missing.NO_SHADOW_PATCH)
    effect = told(one, other)[Measurand.SHADOW_SNR]
    assert effect.marks == (100, 400)
    del one[100], one[400]
    assert Measurand.SHADOW_SNR not in told(one, other)
    assert in_words("a", "b", effects({}, other, COMPARED)) == [
        "nothing was read of both at the same ISO: no statement"
    ]


def test_smoothed_marks_and_bounds_are_no_ground_for_a_difference():
    one, other = body(), body()
    other[6400][Measurand.READ_NOISE_E] = with_relative_error(1.0, 0.02, 1000)
    assert told(one, other)[Measurand.READ_NOISE_E].who == 0
    assert told(one, other, left_out=[6400])[Measurand.READ_NOISE_E].who is None
    capped = Quantity(1824.0, 1800.0, 1824.0, 99, (Note(Remark.AT_LEAST_A_CHANNEL),))
    for mark in MARKS:
        other[mark][Measurand.DETAIL] = capped
    assert Measurand.DETAIL not in told(one, other)


def test_a_difference_at_one_mark_only_is_found_there():
    one, other = body(error=0.01), body(error=0.01)
    other[6400][Measurand.NOISE_CHROMA] = with_relative_error(6.0, 0.01, 1000)
    effect = told(one, other)[Measurand.NOISE_CHROMA]
    assert (effect.who, effect.most_mark) == (1, 6400)
    assert effect.worse.value == pytest.approx(2.0)


def test_false_alarms_are_as_rare_as_said_and_a_quarter_of_read_noise_is_not_missed():
    """Errors of 6 % a reading: much larger than what nobody would see, so that chance alone decides."""
    rng = np.random.default_rng(11)
    false = sum(
        any(effect.who is not None for effect in effects(body(rng, 0.06), body(rng, 0.06), COMPARED))
        for _ in range(400)
    )
    assert false / 400 <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / 400)
    found = [told(body(rng, 0.03), body(rng, 0.03, read_noise_e=1.25))[Measurand.READ_NOISE_E] for _ in range(100)]
    assert all(effect.who == 1 for effect in found)
