"""Rendering for the eye: colours filled in, developed with named switches, written as pictures.

Entry points: ``develop.develop_crop``, ``develop.Development``, ``png.stored_png``.
"""
