"""Yellowjacket: for people who test stills cameras."""

__version__ = "0.2.0"
