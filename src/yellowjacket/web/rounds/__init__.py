"""Blind rounds: crops without labels, and what they tell at the end."""
