"""The same work on a Dask cluster, started as the documents say: equal readings, and nothing lost when a worker is killed in
the middle."""

import contextlib
import os
import re
import shlex
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest
from distributed import Client

from tests import homes
from tests.test_serving import free_port
from yellowjacket.bench.jobs import executor
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.patch import PatchSpec
from yellowjacket.core.readings.rung import RungTask, measure_rung

pytestmark = pytest.mark.filterwarnings("ignore")

ROOT = Path(__file__).parents[3]
SCALE = ROOT / "docs" / "scale.md"
SCHEDULER, WORKER, SERVE = (
    line.partition("  #")[0].strip()
    for line in re.search(r"```\n(dask .*?)```", SCALE.read_text(), re.S)[1].splitlines()
)


@contextlib.contextmanager
def started(line, **options):
    """A documented command as a process of its own, until the end of the block."""
    command, *words = shlex.split(line)
    program = Path(sys.executable).with_name(command)
    process = subprocess.Popen([program, *words], text=True, start_new_session=True, **options)
    try:
        yield process
    finally:
        # Children of a nanny that was killed would stay.
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGTERM)
        process.wait(20)


@pytest.fixture(scope="module")
def address():
    """Of a scheduler with four workers; ports are free ones, and nobody else reaches them."""
    port, quiet = free_port(), "--no-dashboard"
    found = f"tcp://127.0.0.1:{port}"
    worker = WORKER.replace("tcp://that-machine:8786", found)
    # What the tests send stands in the tests.
    environment = os.environ | {"PYTHONPATH": str(ROOT)}
    with (
        started(f"{SCHEDULER} --host 127.0.0.1 --port {port} {quiet}", env=environment),
        started(f"{worker} --host 127.0.0.1 {quiet}", env=environment),
        Client(found, timeout=60) as client,
    ):
        client.wait_for_workers(4, 60)
        yield found


@pytest.fixture
def cluster(address, monkeypatch):
    monkeypatch.setenv(executor.SCHEDULER_VARIABLE, address)
    return address


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


def kill_one(pid):
    time.sleep(1.5)
    os.kill(pid, signal.SIGKILL)


def test_a_killed_worker_loses_nothing_and_readings_are_the_pools(card, cluster, monkeypatch):
    with Client(cluster) as client:
        _, pid = client.run(os.getpid).popitem()
    killer = threading.Thread(target=kill_one, args=(pid,))
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


def test_the_application_starts_with_a_cluster(cluster, tmp_path):
    """The third line, with a data folder of its own."""
    assignment, _, command = SERVE.replace("tcp://that-machine:8786", cluster).partition(" ")
    name, _, value = assignment.partition("=")
    environment = homes.environment(homes.ready(tmp_path / "home")) | {name: value}
    with started(f"{command} --port {free_port()}", env=environment, stdout=subprocess.PIPE) as process:
        assert "is up" in process.stdout.readline()
