"""Measure pages."""
