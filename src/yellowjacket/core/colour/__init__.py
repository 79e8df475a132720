"""Colour: what a sensor sees as CIELAB and back, and casts, with the direction they go.

Entry points: ``colorimetry.lab_of_linear_srgb``, ``colorimetry.delta_e_2000``, ``colorimetry.camera_to_srgb``,
``cast.cast_of``.
"""
