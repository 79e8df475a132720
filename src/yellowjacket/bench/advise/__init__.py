"""Advice that follows from what was found."""
