"""Remarks and reasons are state; their words are made in one place, and nothing compares them."""

import ast
from pathlib import Path

import pytest

from yellowjacket.core.metrology.estimate import Quantity, missing, unknown, with_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark, in_words

SRC = Path(__file__).parents[3] / "src/yellowjacket"


def test_words_are_filled_with_their_details():
    assert str(Note(Missing.PATCH_OUTSIDE_FRAME, ("grey", 400, 300))) == (
        "patch “grey” lies outside this frame of 400 × 300 px: move it"
    )
    assert in_words([Note(Remark.ROUNDING), Note(Remark.LIGHT_CHANGED_A_LITTLE, (-0.051,))]) == (
        "limited by rounding; light changed by −0.05 stop"
    )


def test_what_was_kept_comes_back():
    for found in (
        missing(Missing.NO_LIGHT_FRAMES_OF_ISO, 800),
        with_error(8.0, 0.1, 9, Note(Remark.ROUNDING), Note(Remark.WITH_OUTLIERS, (2.5,))),
        Quantity(1.0),
    ):
        assert Quantity.from_plain(found.plain) == found


def test_words_of_older_records_are_known_again_or_stay_words():
    known = Quantity.from_plain([0.2, 0.1, 0.3, 9, "the raw is smoothed: noise and range read too good"])
    assert known.has(Remark.SMOOTHED)
    told = Quantity.from_plain([None, None, None, 0, "no light frames of ISO 800 were measured on this body"])
    assert told.reason == "no light frames of ISO 800 were measured on this body"
    assert Quantity.from_plain([1.0, None, None, 0, ""]).notes == ()
    # The words may have changed since.
    formerly = Quantity.from_plain([None, None, None, 0, "darks of two exposure times at least are needed"])
    assert formerly.has(Missing.ONE_DARK_TIME)
    assert formerly.reason == Missing.ONE_DARK_TIME.value


@pytest.mark.parametrize("kept", [["NOT_A_NOTE"], ["PATCH_UNDER"], ["NOT_SIGNIFICANT", "much"], [], [7.0]])
def test_what_no_version_kept_is_refused(kept):
    """An archive may say anything; what is taken in can be shown."""
    with pytest.raises(ValueError, match="not a remark this version knows"):
        Note.from_plain(kept)


def test_an_unknown_part_gives_its_reason_and_a_remark_does_not():
    remarked = with_error(8.0, 0.1, 9, Note(Remark.ROUNDING))
    assert unknown(remarked, missing(Missing.CLIPPED)).has(Missing.CLIPPED)
    assert unknown(remarked, otherwise=Missing.NO_PART).has(Missing.NO_PART)


def test_names_and_words_are_said_once():
    kinds = [*Remark, *Missing]
    assert len({one.name for one in kinds}) == len(kinds) == len({one.value for one in kinds})


def test_no_code_compares_sentences():
    """Comparing, searching or filtering by the words of a quantity or a reading."""
    guilty = []
    for path in (one for one in SRC.rglob("*.py") if "migrations" not in one.parts):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Compare):
                sides = [node.left, *node.comparators]
                # A text for a search, an empty one for "nothing is said": both are state in words.
                if any(isinstance(side, ast.Attribute) and side.attr == "reason" for side in sides) and any(
                    isinstance(side, ast.Constant) and isinstance(side.value, str) for side in sides
                ):
                    guilty.append(f"{path.name}:{node.lineno}")
            if isinstance(node, ast.keyword) and (node.arg or "").startswith(("reason__", "notes__", "method__")):
                guilty.append(f"{path.name}:{node.value.lineno}")
    assert guilty == []
