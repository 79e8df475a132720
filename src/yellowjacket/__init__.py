"""Yellowjacket: for people who test stills cameras."""

__version__ = "0.1.0"
