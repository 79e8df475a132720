"""Advice that follows from what was found.

Entry points: ``exposure.known_of``.
"""
