"""The uses of a sitting."""
