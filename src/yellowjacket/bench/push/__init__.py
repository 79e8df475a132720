"""Pushing, pulling, and whether ISO is worth raising.

Entry points: ``latitude.exposed``, ``iso_invariance.iso_against_push``, ``raw_modes.setting_effects``.
"""
