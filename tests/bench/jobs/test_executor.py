"""Worker processes: each input is bounded, and whoever dies is replaced without the others noticing."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from tests import workers
from yellowjacket.bench.jobs import executor


def test_an_idle_worker_that_is_killed_is_replaced_unnoticed():
    list(executor.run_all(workers.double_or_die, [1, 2]))
    for worker in executor.WORKERS.idle():
        os.kill(worker.pid, signal.SIGKILL)
    for _ in range(3):
        assert dict(executor.run_all(workers.double_or_die, [5, 6, 7])) == {5: 10, 6: 12, 7: 14}


def test_a_worker_killed_at_work_costs_nothing_but_time(tmp_path):
    """As when memory runs short: the input is tried once more, alone, and is not blamed."""
    killed: list[int] = []
    for n, (item, outcome) in enumerate(executor.run_all(workers.slowly, list(range(8)))):
        assert outcome == 2 * item
        if n == 0:
            idle = {worker.pid for worker in executor.WORKERS.idle()}
            # Workers are forks of a process that is our child.
            forks = [grandchild for child in psutil.Process().children() for grandchild in child.children()]
            killed = [one.pid for one in forks if one.pid not in idle]
            for pid in killed:
                os.kill(pid, signal.SIGKILL)
    assert killed


def test_limits_are_each_inputs_own(monkeypatch):
    monkeypatch.setattr(executor, "LONGEST_S", 3.0)
    outcomes = dict(executor.run_all(workers.sleep, [0.0, 60.0, 0.1, 0.2]))
    assert isinstance(outcomes[60.0], executor.WorkerDied)
    assert outcomes[60.0].too_long
    assert [outcomes[key] for key in (0.0, 0.1, 0.2)] == [0.0, 0.1, 0.2]


def test_what_cannot_travel_is_told_in_words():
    outcomes = dict(executor.run_all(workers.odd_answer, ["lambda", "error", "fine"]))
    assert outcomes["fine"] == "fine"
    assert isinstance(outcomes["lambda"], RuntimeError)
    assert isinstance(outcomes["error"], RuntimeError)
    assert "Odd" in str(outcomes["error"])


def test_what_was_not_started_is_dropped_on_close(tmp_path):
    run = executor.run_all(workers.touch, [str(tmp_path / f"{n}") for n in range(200)])
    next(run)
    run.close()
    time.sleep(1)
    assert len(list(tmp_path.iterdir())) < 100


@pytest.mark.parametrize("sign", [signal.SIGKILL, signal.SIGTERM])
def test_workers_end_with_their_parent(sign):
    """Also while they decode: nobody is left behind."""
    script = (
        "from tests import workers\nfrom yellowjacket.bench.jobs import executor\n"
        "if __name__ == '__main__':\n"
        "    run = executor.run_all(workers.pid_then_sleep, [0, 0, 60, 60])\n"
        "    print(next(run)[1], next(run)[1], flush=True)\n    next(run)\n"
    )
    parent = subprocess.Popen(
        [sys.executable, "-c", script], stdout=subprocess.PIPE, text=True, cwd=Path(__file__).parents[3]
    )
    children = [int(word) for word in parent.stdout.readline().split()]
    assert children
    assert all(psutil.pid_exists(pid) for pid in children)
    parent.send_signal(sign)
    parent.wait()
    deadline = time.monotonic() + 10
    while any(alive(pid) for pid in children) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not [pid for pid in children if alive(pid)]


def alive(pid):
    try:
        return psutil.Process(pid).status() != psutil.STATUS_ZOMBIE
    except psutil.NoSuchProcess:
        return False
