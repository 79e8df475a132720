"""The same work on a Dask cluster: equal readings, and nothing lost when a worker is killed in the middle."""

import os
import signal
import threading
import time

import pytest
from distributed import LocalCluster

from yellowjacket.bench.jobs import executor
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungTask, measure_rung

pytestmark = pytest.mark.filterwarnings("ignore")


@pytest.fixture
def cluster(monkeypatch):
    with LocalCluster(
        n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, host="127.0.0.1"
    ) as found:
        monkeypatch.setenv(executor.SCHEDULER_VARIABLE, found.scheduler_address)
        yield found


def tasks(card):
    patches = tuple(PatchSpec(f"p{n}", "field", Rect(80 * n + 8, 8, 64, 64)) for n in range(8))
    found = []
    for key in range(12):
        first = 4 * (key % 3) + 1
        names = [str(card / f"F{first + n:03d}.DNG") for n in range(4)]
        found.append(RungTask(key, tuple(names[:2]), tuple(names[2:]), patches))
    return found


def slowly(task):
    time.sleep(0.4)
    return measure_rung(task)


def kill_one(cluster):
    time.sleep(1.5)
    worker = next(iter(cluster.workers.values()))
    os.kill(worker.process.process.pid, signal.SIGKILL)


def test_a_killed_worker_loses_nothing_and_readings_are_the_pools(card, cluster, monkeypatch):
    killer = threading.Thread(target=kill_one, args=(cluster,))
    killer.start()
    found = list(executor.run_all(slowly, tasks(card)))
    killer.join()
    assert [task.key for task, _ in found] == list(range(12))
    monkeypatch.delenv(executor.SCHEDULER_VARIABLE)
    for task, outcome in executor.run_all(measure_rung, tasks(card)):
        for one, other in zip(found[task.key][1].readings, outcome.readings, strict=True):
            assert (one.patch, one.channel, one.quantity) == (other.patch, other.channel, other.quantity)
            # Linear algebra adds in another order with other threads; the last digits differ.
            values = [float("nan") if value is None else value for value in (one.result.value, other.result.value)]
            assert values[0] == pytest.approx(values[1], rel=1e-9, nan_ok=True)


def failing(number):
    if number == 1:
        raise ValueError("this one")
    return number


def test_an_error_on_the_cluster_costs_one_item(cluster):
    outcomes = [outcome for _, outcome in executor.run_all(failing, [0, 1, 2])]
    assert (outcomes[0], str(outcomes[1]), outcomes[2]) == (0, "this one", 2)
