"""What handing work to a Dask cluster costs beside the work: threads stand in for machines, a pause for a rung."""

from __future__ import annotations

import os
import time
from collections.abc import Callable

from yellowjacket.bench.jobs.executor import SCHEDULER_VARIABLE, run_all
from yellowjacket.benchmarks.lines import line

_WORKERS = (1, 2, 4, 8)
_TASKS, _WORK_S = 200, 0.02
# A rung of a pair and two darks of 24 MP takes a core a second and more: so much of it may go into being handed out.
OVERHEAD_GOAL_MS = 10.0


def run(report: Callable[[str], None]) -> list[bool]:
    """Report milliseconds a task costs on top, for one worker up to eight; whether they stay under the goal."""
    from distributed import LocalCluster

    met = []
    for workers in _WORKERS:
        with LocalCluster(
            n_workers=workers, threads_per_worker=1, processes=False, dashboard_address=None, silence_logs=50
        ) as cluster:
            took = _took(str(cluster.scheduler_address))
        on_top = 1000 * (took - _TASKS * _WORK_S / workers) / _TASKS
        what = f"{_TASKS} tasks of {1000 * _WORK_S:.0f} ms on a cluster of {workers}, on top of each"
        met.append(line(report, what, on_top, OVERHEAD_GOAL_MS, "ms"))
    return met


def _took(address: str) -> float:
    os.environ[SCHEDULER_VARIABLE] = address
    try:
        # The first tasks meet a cluster that is still being put together.
        list(run_all(time.sleep, [0.0] * 8))
        begin = time.perf_counter()
        list(run_all(time.sleep, [_WORK_S] * _TASKS))
        return time.perf_counter() - begin
    finally:
        del os.environ[SCHEDULER_VARIABLE]
