"""The same work on a Dask cluster, started as the documents say: equal readings, and nothing lost when a worker is killed in
the middle; and where its workers do not see the folders."""

import contextlib
import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import threading
import time
from dataclasses import replace
from pathlib import Path

import pytest
from distributed import Client, LocalCluster

from tests import homes, workers
from tests.test_serving import free_port
from yellowjacket.bench.jobs import cluster as cluster_
from yellowjacket.bench.jobs import executor
from yellowjacket.bench.jobs.worker_died import WorkerDied
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.raw.first_look import inspect_file
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


def alike(one, other):
    """The same readings; linear algebra adds in another order with other threads, so the last digits differ."""
    assert len(one.readings) > 100
    for mine, theirs in zip(one.readings, other.readings, strict=True):
        assert (mine.patch, mine.channel, mine.quantity) == (theirs.patch, theirs.channel, theirs.quantity)
        values = [float("nan") if value is None else value for value in (mine.result.value, theirs.result.value)]
        assert values[0] == pytest.approx(values[1], rel=1e-9, nan_ok=True)


def test_a_killed_worker_loses_nothing_and_readings_are_the_pools(card, cluster, monkeypatch):
    with Client(cluster) as client:
        _, pid = client.run(os.getpid).popitem()
    killer = threading.Thread(target=kill_one, args=(pid,))
    killer.start()
    found = list(executor.run_all(slowly, tasks(card)))
    killer.join()
    assert [task.key for task, _ in found] == list(range(12))
    monkeypatch.delenv(executor.SCHEDULER_VARIABLE)
    # Every third is of the same files.
    own = [outcome for _, outcome in executor.run_all(measure_rung, tasks(card)[:3])]
    for task, outcome in found:
        alike(outcome, own[task.key % 3])


def failing(number):
    if number == 1:
        raise ValueError("this one")
    return number


def test_an_error_on_the_cluster_costs_one_item(cluster):
    outcomes = [outcome for _, outcome in executor.run_all(failing, [0, 1, 2])]
    assert (outcomes[0], str(outcomes[1]), outcomes[2]) == (0, "this one", 2)


@pytest.fixture
def not_shared(cluster, card, tmp_path, monkeypatch):
    """Files as no worker sees them: by names that begin at a folder of this process alone."""
    shutil.copytree(card, tmp_path / "card")
    monkeypatch.chdir(tmp_path / "card")
    return sorted(path.name for path in Path().glob("*.DNG"))


def test_bytes_are_sent_where_a_folder_is_not_shared(not_shared, card, monkeypatch):
    task = tasks(card)[0]
    names = [Path(path).name for path in (*task.light, *task.dark)]
    lent = replace(task, light=tuple(names[:2]), dark=tuple(names[2:]))
    ((item, outcome),) = executor.run_all(measure_rung, [lent])
    assert item == lent
    alike(outcome, measure_rung(task))


def scratch(dask_worker):
    """Of the worker that is asked, and of those before it."""
    return str(Path(dask_worker.local_directory).parent)


def left_behind(cluster):
    """Copies of files that are still on workers' disks, also on those of workers that were killed."""
    with Client(cluster) as client:
        client.wait_for_workers(4, 60)
        return [path for place in set(client.run(scratch).values()) for path in Path(place).rglob("*.DNG")]


def test_what_is_found_in_sent_bytes_names_the_file_as_it_lies_here(not_shared, cluster):
    names = not_shared[:6]
    Path("cut.DNG").write_bytes(Path(names[0]).read_bytes()[:2000])
    found = dict(executor.run_all(inspect_file, [*names, "cut.DNG"]))
    for name in names:
        assert found[name] == inspect_file(name)
        assert (found[name].path, found[name].mtime_ns) == (name, Path(name).stat().st_mtime_ns)
    assert found["cut.DNG"].path == Path("cut.DNG")
    assert not left_behind(cluster)


def test_only_those_are_sent_bytes_who_do_not_see_the_folder(not_shared, cluster):
    folder = Path.cwd()
    seeing = f"{WORKER.replace('tcp://that-machine:8786', cluster)} --host 127.0.0.1 --no-dashboard".replace(
        "--nworkers 4", "--nworkers 1"
    )
    environment = os.environ | {"PYTHONPATH": str(ROOT)}
    with Client(cluster, timeout=60) as client, started(seeing, env=environment, cwd=folder):
        client.wait_for_workers(5, 60)
        said = [outcome for _, outcome in executor.run_all(workers.seen_as, 4 * not_shared)]
    own = [text for text in said if text.endswith(f"in {folder}")]
    assert own
    assert len(own) < len(said)
    for text in said:
        assert ("/lent-" in text) == (text not in own)


def test_another_file_in_the_same_place_is_not_taken_for_it(not_shared, cluster):
    """A worker that has its own card under the same name is sent the right one."""
    with Client(cluster) as client:
        places = set(client.run(os.getcwd).values())
    name = not_shared[0]
    stranger = Path(places.pop()) / name
    try:
        stranger.write_bytes(b"of another day")
        assert [outcome for _, outcome in executor.run_all(workers.kill_at_three, [name])] == [Path(name).read_bytes()]
    finally:
        stranger.unlink()


def test_a_file_that_kills_its_workers_costs_itself_alone(cluster, tmp_path, monkeypatch):
    for n in range(8):
        (tmp_path / f"{n}.DNG").write_bytes(bytes([n]))
    monkeypatch.chdir(tmp_path)
    found = dict(executor.run_all(workers.kill_at_three, [f"{n}.DNG" for n in range(8)]))
    assert isinstance(found.pop("3.DNG"), WorkerDied)
    assert found == {f"{n}.DNG": bytes([n]) for n in range(8) if n != 3}
    assert not left_behind(cluster)


def test_what_takes_too_long_is_given_up(cluster, monkeypatch):
    monkeypatch.setattr(executor, "LONGEST_S", 2.0)
    found = dict(executor.run_all(workers.sleep, [0.0, 60.0, *(0.1 + n / 100 for n in range(10))]))
    assert found.pop(60.0).too_long
    assert all(asked == slept for asked, slept in found.items())
    assert len(found) == 11


def test_what_is_done_is_not_late_however_long_nobody_asks_for_it(cluster, monkeypatch):
    monkeypatch.setattr(executor, "LONGEST_S", 0.5)
    outcomes = executor.run_all(workers.sleep, [0.0] * 8)
    assert next(outcomes) == (0.0, 0.0)
    time.sleep(1.5)
    assert [outcome for _, outcome in outcomes] == [0.0] * 7


def test_a_cluster_without_workers_or_without_a_scheduler_is_refused(monkeypatch):
    monkeypatch.setattr(cluster_, "_CONNECT_S", 1)
    with LocalCluster(n_workers=0, processes=False, dashboard_address=None) as empty:
        monkeypatch.setenv(executor.SCHEDULER_VARIABLE, empty.scheduler_address)
        with pytest.raises(Refusal, match="has no workers"):
            list(executor.run_all(len, ["a"]))
    monkeypatch.setenv(executor.SCHEDULER_VARIABLE, f"tcp://127.0.0.1:{free_port()}")
    with pytest.raises(Refusal, match="No Dask scheduler answers at tcp:"):
        list(executor.run_all(len, ["a"]))


def test_the_application_starts_with_a_cluster(cluster, tmp_path):
    """The third line, with a data folder of its own."""
    assignment, _, command = SERVE.replace("tcp://that-machine:8786", cluster).partition(" ")
    name, _, value = assignment.partition("=")
    environment = homes.environment(homes.ready(tmp_path / "home")) | {name: value}
    with started(f"{command} --port {free_port()}", env=environment, stdout=subprocess.PIPE) as process:
        assert "is up" in process.stdout.readline()
