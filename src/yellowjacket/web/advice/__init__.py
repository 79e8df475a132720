"""Advice: a body's records put to use in the field."""
