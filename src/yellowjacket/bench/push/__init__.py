"""Pushing, pulling, and whether ISO is worth raising."""
