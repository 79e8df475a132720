"""Plans: ladders worked out into marks, shots in order, the time they take and what stands in their way; and back again,
from frames that exist to ladders.

Entry points: ``ladder.LadderSpec``, ``plan.plan_ladder``, ``plan_file.read_plan``.
"""
