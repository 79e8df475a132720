"""Noise of raw frames: from two frames, bands, fixed pattern, and smoothing that a body applies to its files.

Entry points: ``two_frame.pair_noise``, ``smoothing.verdict``, ``banding.banding_of``.
"""
