"""Tolerance profiles."""
