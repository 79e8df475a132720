"""Exposure latitude: how far a frame may be pushed or pulled, and when raising ISO is no better than pushing.

Entry points: ``exposure_ladder.relate_exposures``, ``push_pull.push_limits``, ``iso_invariance.penalties``.
"""
