"""Frames held against their plan, and what is done about what is found.

Entry points: ``audit.audit``, ``open_count.open_count``, ``how_far.HowFar``, ``remedies.delete_spot``.
"""
