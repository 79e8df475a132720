"""A folder of frames without a plan: sorted by body and setting, single frames, ladders and darks found in it.

Entry points: ``sort.sort_cards``, ``single_frame.measure_file``, ``exposure_ladders.exposure_ladder``,
``dark_series.conclude``.
"""
