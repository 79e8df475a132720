"""Long work: recorded, followed, stopped, taken up again; and the worker processes that decode.

Entry points: ``queue.start``, ``registry.handles``, ``executor.run_all``.
"""
