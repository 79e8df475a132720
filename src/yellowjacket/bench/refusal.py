"""The one error that services raise for people to read."""

from __future__ import annotations


class Refusal(Exception):
    """Something asked for cannot be done; the message is one sentence with the remedy."""
