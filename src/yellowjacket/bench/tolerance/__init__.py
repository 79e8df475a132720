"""Tolerance profiles: made, exchanged, put in force.

Entry points: ``profiles.DEFAULT_PROFILE``.
"""
