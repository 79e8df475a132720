"""Desk pages."""
