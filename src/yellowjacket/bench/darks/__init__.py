"""Darks of a sitting: measured, kept, averaged into masters.

Entry points: ``measure.measured``, ``masters.make_masters``, ``sensor_temperature.warmth_of``.
"""
