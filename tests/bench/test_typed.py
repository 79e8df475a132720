"""Numbers as people write them."""

import pytest

from yellowjacket.bench.typed import decimal, identity, whole


@pytest.mark.parametrize(
    ("text", "number"),
    [("1.5", 1.5), ("1,5", 1.5), ("−3", -3.0), ("-3", -3.0), (" 2 ", 2.0), ("1e3", 1000.0), (".5", 0.5)],
)
def test_decimals(text, number):
    assert decimal(text) == number


@pytest.mark.parametrize(
    "text", ["", None, "inf", "nan", "1e400", "x", "1 2", "1,2,3", "9" * 5000, "1_0", "²", "0x10", "\0"]
)
def test_what_is_no_decimal(text):
    assert decimal(text) is None


def test_ranges():
    assert decimal("5", 0, 4) is None
    assert decimal("4", 0, 4) == 4.0
    assert whole("7", 8) is None
    assert whole("8", 8, 8) == 8


@pytest.mark.parametrize("text", ["", None, "-1", "1.0", "²", "٣", "1_0", "9" * 19, "9" * 5000, "x", "+1", "1 1"])
def test_what_is_no_whole_number(text):
    assert whole(text) is None
    assert identity(text) == 0


def test_the_largest_fits_a_database():
    """SQLite's integers have 63 bits and a sign (sqlite.org/datatype3.html)."""
    assert whole("9" * 18) == 10**18 - 1 < 2**63
