"""Darks: ordinary pixels and outstanding ones, how both grow with time and warmth, masters, and what a night needs.

One exposure time is measured in ``exposure_group``, a whole run of them in ``series``; ``usable_exposure`` answers the longest
usable exposure.

Entry points: ``exposure_group.measure_time``, ``series.DarkLadder``, ``hot_pixels.hot_pixels``, ``master.make_master``.
"""
