"""Readings: everything that is read of a rung and of a ladder, by patch, sensor, scene and size."""
