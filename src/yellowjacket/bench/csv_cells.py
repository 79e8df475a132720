"""Cells of a table that a spreadsheet must not carry out."""

from __future__ import annotations


def safe_text(value: object) -> object:
    """Text that a spreadsheet would run as a formula gets an apostrophe in front."""
    return f"'{value}" if isinstance(value, str) and value[:1] in "=+-@\t\r" and value else value
