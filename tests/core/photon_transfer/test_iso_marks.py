"""Marks to avoid or prefer along ISO."""

from yellowjacket.core.metrology.estimate import missing, with_relative_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.core.photon_transfer.iso_marks import AVOID, PREFER, MarkHabits, advice_on

NONE = missing(Missing.NOT_MEASURED)


def mark(iso, saturation_e, **habits):
    return MarkHabits(iso, with_relative_error(saturation_e, 0.005, 1000), **habits)


def test_a_ladder_of_true_marks_has_none_to_avoid():
    assert advice_on([mark(100, 48000), mark(200, 24000), mark(400, 12000)], NONE) == ()


def test_a_low_mark_that_holds_no_more_light_is_extended():
    # Common practice, no source: the mark under base is base overexposed and pulled back.
    (found,) = advice_on([mark(50, 48100), mark(100, 48000), mark(200, 24000)], NONE)
    assert (found.iso, found.advice, found.habit) == (50, AVOID, Remark.LOW_EXTENDED)
    assert found.reason == "holds no more light than ISO 100"


def test_a_smoothed_mark_says_nothing_of_the_one_below_it():
    # Smoothing makes its gain, and with it its saturation, read too high: the mark below would seem to hold no more.
    (found,) = advice_on([mark(3200, 1500), mark(6400, 1480, smoothed=True), mark(12800, 375)], NONE)
    assert found.habit is Remark.SMOOTHED_HERE
    assert advice_on([mark(3200, 1500), mark(6400, 1480)], NONE)[0].habit is Remark.LOW_EXTENDED


def test_what_was_not_measured_is_not_judged():
    unknown = MarkHabits(50, missing(Missing.NO_LIGHT_FRAME))
    assert advice_on([unknown, mark(100, 48000)], NONE) == ()


def test_a_second_base_is_preferred_and_the_mark_below_it_avoided():
    found = advice_on([mark(400, 12000), mark(800, 6000)], with_relative_error(800, 1e-6, 1))
    assert [(one.iso, one.advice) for one in found] == [(800, PREFER), (400, AVOID)]


def test_smoothed_and_digital_marks_are_avoided_with_the_reason():
    found = advice_on([mark(6400, 900, smoothed=True), mark(12800, 450, digital=Note(Remark.CODES_MISSING))], NONE)
    assert {(one.iso, one.habit) for one in found} == {(6400, Remark.SMOOTHED_HERE), (12800, Remark.DIGITAL)}
    assert "codes are missing" in next(one.reason for one in found if one.habit is Remark.DIGITAL)
