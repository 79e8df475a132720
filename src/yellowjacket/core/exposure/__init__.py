"""Exposure arithmetic: stops and APEX values, marks of a dial, how times and apertures are written, lamps that flicker.

Entry points: ``dial.exact_exposure_s``, ``dial.iso_mark``, ``notation.shutter_label``, ``apex.stops_between``.
"""
