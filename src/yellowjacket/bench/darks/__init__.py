"""Darks of a sitting: measured, kept, averaged into masters."""
