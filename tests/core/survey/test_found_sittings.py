"""What was shot together, told from clocks and bodies alone."""

from datetime import datetime, timedelta

import pytest

from yellowjacket.core.survey.found_sittings import Claimed, FoundSitting, could_be_frame, others_in_words, sittings_in

BEGIN = datetime(2026, 3, 14, 20, 0)


def file(name: str, minutes: float | None, body: str = "Ostrel Heath", iso: int = 100, seconds: float = 0.1) -> Claimed:
    moment = None if minutes is None else BEGIN + timedelta(minutes=minutes)
    return Claimed(name, body, iso, seconds, moment)


def names(files: list[Claimed]) -> list[list[str]]:
    return [sorted(one.paths) for one in sittings_in(files)]


def test_a_pause_of_hours_begins_another_test_and_a_long_exposure_is_no_pause():
    assert names([file("c", 400), file("a", 0), file("b", 150)]) == [["a", "b"], ["c"]]
    # Four hours on a star, and the next release right after it.
    assert names([file("a", 0, seconds=4 * 3600), file("b", 245)]) == [["a", "b"]]


def test_bodies_in_turn_are_one_test_and_one_after_the_other_are_two():
    turn = [file(str(n), n, ("Heath", "Moor")[n % 2]) for n in range(6)]
    assert names(turn) == [["0", "1", "2", "3", "4", "5"]]
    after = [file(str(n), n, "Heath" if n < 3 else "Moor") for n in range(6)]
    assert names(after) == [["0", "1", "2"], ["3", "4", "5"]]


def test_files_without_a_clock_go_with_the_largest_and_none_is_lost():
    files = [file("a", 0), file("b", 1), file("late", 900), file("x", None), file("y", None)]
    assert names(files) == [["a", "b", "x", "y"], ["late"]]
    assert names([file("x", None), file("y", None)]) == [["x", "y"]]
    assert sittings_in([]) == ()


@pytest.mark.parametrize(
    ("files", "words"),
    [
        ([file(str(n), n, iso=100 * 2**n) for n in range(4)], "4 ISO settings"),
        ([file(str(n), n, seconds=2.0**n) for n in range(4)], "4 exposure times at 1 ISO setting"),
        ([file("a", 0), file("b", 1)], "too few frames for a ladder"),
        ([file(str(n), n) for n in range(3)], "frames of one kind"),
    ],
)  # fmt: skip
def test_what_it_holds_is_said_in_words(files, words):
    (found,) = sittings_in(files)
    assert found.what == words
    assert FoundSitting.from_plain(found.plain) == found


def test_what_says_no_body_gives_no_name_where_another_does():
    (both,) = sittings_in([file("a", 0, ""), file("b", 1, "Moor"), file("c", 2, "")])
    assert (both.title, both.named) == ("Moor, a body without a name", "Moor")
    (neither,) = sittings_in([file("a", 0, ""), file("b", 1, "")])
    assert neither.title == neither.named == "a body without a name"


def test_what_lies_beside_frames_is_passed_over_and_counted():
    beside = ["a.MOV", "b.xmp", "c.XMP", "d.THM"]
    assert not any(could_be_frame(name) for name in beside)
    assert could_be_frame("frame.raw")
    assert could_be_frame("no-ending")
    assert others_in_words(beside) == "2 .xmp, 1 .mov, 1 .thm"
