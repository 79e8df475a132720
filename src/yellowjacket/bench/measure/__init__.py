"""Measuring what changed, and nothing twice."""
