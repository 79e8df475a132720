"""Readings: everything that is read of a rung and of a ladder, by patch, sensor, scene and size.

Entry points: ``rung.measure_rung``, ``ladder.relate_rungs``, ``patch.PatchSpec``.
"""
