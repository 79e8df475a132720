"""Photon transfer: gain, read noise, saturation and range of a body from its frames, and what its ISO marks are."""
