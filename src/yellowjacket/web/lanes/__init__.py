"""Lanes: pictures that something else rendered."""
