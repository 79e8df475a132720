"""The day: shots taken and undone, instruments read.

Entry points: ``shots.due``, ``undo_log.act``, ``conditions.supplies_of``.
"""
