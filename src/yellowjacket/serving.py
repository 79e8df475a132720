"""Serving: one supervisor, a web server and a background worker as its children."""

from __future__ import annotations

import contextlib
import ctypes
import http.client
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Sequence
from datetime import UTC, datetime
from types import FrameType

from yellowjacket import __version__, keeping

ADDRESS = "127.0.0.1"
_WEB_WORKERS = 2
_WEB_THREADS = 4
_WORKER_POLL_S = 0.3
_START_TIMEOUT_S = 30
# A file being decoded when Ctrl-C comes gets this long; the job is taken up again at the next start.
_STOP_TIMEOUT_S = 4.0
# A worker that dies is started again, but not faster than this.
_RESTART_PAUSE_S = 1.0
# Linux, prctl(2).
_PR_SET_PDEATHSIG = 1


def require_free(port: int) -> None:
    """Raise OSError, with the remedy, when something listens on the port already."""
    with socket.socket(socket.AF_INET, socket.SOCK_STREAM) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((ADDRESS, port))
        except OSError as error:
            raise OSError(
                f"port {port} is taken on {ADDRESS}; stop what uses it or choose another with PORT={port + 1}"
            ) from error


def prepare_database() -> None:
    """Bring the database and the static files up to date; a database that changes is copied first."""
    from django.core.management import call_command

    _copy_before_change()
    call_command("migrate", verbosity=0, interactive=False)
    call_command("collectstatic", verbosity=0, interactive=False)


def _copy_before_change() -> None:
    from django.conf import settings
    from django.db import connection
    from django.db.migrations.executor import MigrationExecutor

    if not (settings.HOME / keeping.DATABASE).is_file():
        return
    executor = MigrationExecutor(connection)
    if executor.loader.applied_migrations and executor.migration_plan(executor.loader.graph.leaf_nodes()):
        copy = keeping.before_upgrade(settings.HOME, __version__, datetime.now(UTC))
        print(f"The database is brought up to date; {copy} holds it as it was.", flush=True)


def serve(port: int) -> int:
    """Serve until Ctrl-C or SIGTERM. Returns the exit code."""
    prepare_database()
    _resume_jobs()
    supervisor = _Supervisor(port)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, supervisor.on_signal)
    return supervisor.run()


def _resume_jobs() -> None:
    from django.db import connection

    from yellowjacket.bench.services.jobs import resume_all

    resume_all()
    connection.close()


class _Supervisor:
    """Starts both children, prints the address, restarts a dead worker, stops both gracefully."""

    def __init__(self, port: int) -> None:
        self._port = port
        self._stopping = False

    def on_signal(self, _number: int, _frame: FrameType | None) -> None:
        self._stopping = True

    def run(self) -> int:
        web, worker = self._start_web(), _start_worker()
        try:
            if self._wait_until_up(web):
                print(f"Yellowjacket is up: http://{ADDRESS}:{self._port}/   (Ctrl-C stops it)", flush=True)
            while not self._stopping and web.poll() is None:
                if worker.poll() is not None:
                    time.sleep(_RESTART_PAUSE_S)
                    _resume_jobs()
                    worker = _start_worker()
                time.sleep(0.1)
        finally:
            _stop((web, worker))
        if self._stopping:
            print("Stopped.", flush=True)
            return 0
        print("yellowjacket: the web server ended by itself; its messages stand above", file=sys.stderr)
        return 1

    def _start_web(self) -> subprocess.Popen[bytes]:
        command = [
            sys.executable, "-m", "gunicorn", "yellowjacket.web.wsgi:application", "--bind", f"{ADDRESS}:{self._port}",
            "--workers", str(_WEB_WORKERS), "--threads", str(_WEB_THREADS), "--preload", "--log-level", "warning",
            "--graceful-timeout", str(int(_STOP_TIMEOUT_S)), "--timeout", "120",
        ]  # fmt: skip
        return _child(command)

    def _wait_until_up(self, web: subprocess.Popen[bytes]) -> bool:
        deadline = time.monotonic() + _START_TIMEOUT_S
        while time.monotonic() < deadline and web.poll() is None and not self._stopping:
            try:
                connection = http.client.HTTPConnection(ADDRESS, self._port, timeout=2)
                connection.request("GET", "/")
                connection.getresponse().read()
            except OSError:
                time.sleep(0.05)
            else:
                return True
        return False


def _start_worker() -> subprocess.Popen[bytes]:
    command = [
        sys.executable, "-m", "django", "db_worker", "--interval", str(_WORKER_POLL_S), "--no-startup-delay",
        "--verbosity", "0",
    ]  # fmt: skip
    return _child(command)


def _child(command: Sequence[str]) -> subprocess.Popen[bytes]:
    # A session of its own: Ctrl-C reaches only the supervisor, which stops the children in order.
    return subprocess.Popen(command, env=os.environ, start_new_session=True, preexec_fn=_end_with_parent)  # noqa: S603


def _end_with_parent() -> None:
    """Ask the kernel to stop this child when the supervisor is killed: no server is left behind on the port."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)


def _stop(children: Sequence[subprocess.Popen[bytes]]) -> None:
    for child in children:
        if child.poll() is None:
            child.terminate()
    deadline = time.monotonic() + _STOP_TIMEOUT_S
    for child in children:
        try:
            child.wait(max(0.1, deadline - time.monotonic()))
        except subprocess.TimeoutExpired:
            _end_group(child)


def _end_group(child: subprocess.Popen[bytes]) -> None:
    """End a child and the worker processes it started."""
    try:
        os.killpg(child.pid, signal.SIGKILL)
    except ProcessLookupError:
        return
    child.wait()
