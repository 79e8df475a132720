"""The record: limits as measured and as decided, signed, with their evidence.

Entry points: ``proposals.proposals``, ``record.decide``, ``other_limits.of_ladder``.
"""
