"""Measuring what changed, and nothing twice.

Entry points: ``run.start_measuring``, ``patches.propose``, ``staleness.unmeasured``,
``ranges.range_table``.
"""
