"""Frames held against their plan, and what is done about what is found."""
