"""Noise of raw frames: from two frames, bands, fixed pattern, and smoothing that a body applies to its files."""
