"""The one error that services raise for people to read."""


class Refusal(Exception):
    """Something asked for cannot be done; the message is one sentence with the remedy."""
