"""Tolerance profiles: made, exchanged, put in force."""
