"""Sittings and their plans."""
