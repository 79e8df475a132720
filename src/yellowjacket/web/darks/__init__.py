"""Darks: the library of master darks."""
