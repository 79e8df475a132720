"""Shoot pages."""
