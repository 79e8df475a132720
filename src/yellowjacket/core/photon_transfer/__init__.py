"""Photon transfer: gain, read noise, saturation and range of a body from its frames, and what its ISO marks are.

Entry points: ``characterise.characterise_iso``, ``dynamic_range.dynamic_range_stops``, ``iso_marks.habits_of``.
"""
