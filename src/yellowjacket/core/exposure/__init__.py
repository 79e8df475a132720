"""Exposure arithmetic: stops and APEX values, marks of a dial, how times and apertures are written, lamps that flicker."""
