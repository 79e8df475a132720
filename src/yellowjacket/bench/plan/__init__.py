"""Sittings and their plans.

Entry points: ``sittings.create_sitting``, ``uses.offered_uses``, ``plan_files.repeat``.
"""
