"""Colour: what a sensor sees as CIELAB and back, and casts, with the direction they go."""
