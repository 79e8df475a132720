"""Serving: one supervisor, a web server and a background worker as its children."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import http.client
import ipaddress
import multiprocessing
import os
import signal
import socket
import ssl
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from multiprocessing.process import BaseProcess
from pathlib import Path
from types import FrameType
from typing import IO

from yellowjacket import __version__, backup, data_folder

ADDRESS = "127.0.0.1"
_WEB_PROCESSES = 2
_BACKLOG = 2048
_START_TIMEOUT_S = 30
# A file being decoded when Ctrl-C comes gets this long; the job is taken up again at the next start.
_STOP_TIMEOUT_S = 4.0
# A worker that dies is started again, but not faster than this.
_RESTART_PAUSE_S = 1.0
# Linux, prctl(2).
_PR_SET_PDEATHSIG, _PR_SET_NAME = 1, 15


@dataclass(frozen=True, slots=True)
class Door:
    """Where the application listens. ``names``: under which others reach it, empty on loopback; ``certificate`` and ``key``:
    files (PEM) with which everything that is sent is encrypted."""

    port: int
    host: str = ADDRESS
    names: tuple[str, ...] = ()
    certificate: Path | None = None
    key: Path | None = None

    @property
    def open_to_others(self) -> bool:
        """Whether more than this machine can reach it."""
        return bool(self.names)

    @property
    def address(self) -> str:
        """What to type into a browser."""
        scheme = "https" if self.certificate else "http"
        return f"{scheme}://{self.names[0] if self.names else ADDRESS}:{self.port}/"

    @property
    def environment(self) -> dict[str, str]:
        """What the settings of the application must know."""
        if not self.open_to_others:
            return {}
        encrypted = {"YELLOWJACKET_ENCRYPTED": "1"} if self.certificate else {}
        return {"YELLOWJACKET_REACHED_AT": ",".join(self.names), **encrypted}


def door(port: int, host: str, names: Sequence[str], certificate: Path | None, key: Path | None) -> Door:
    """Where to listen, checked. ``host``: an address of this machine, 0.0.0.0 for all of them.

    Raises ValueError with the remedy.
    """
    try:
        address = ipaddress.ip_address("127.0.0.1" if host == "localhost" else host)
    except ValueError as error:
        raise ValueError(f"{host} is not an address: give one of this machine, or 0.0.0.0 for all of them") from error
    if bool(certificate) != bool(key):
        raise ValueError("--certificate and --key belong together")
    for file in (certificate, key):
        if file is not None and not file.is_file():
            raise ValueError(f"{file} is not a file")
    if address.is_loopback:
        return Door(port, ADDRESS, (), certificate, key)
    if any("," in name or "/" in name for name in names):
        raise ValueError("a name is a host name, without scheme, port or path")
    reached = (*names, *(_own_names() if address.is_unspecified else (str(address),)))
    return Door(port, str(address), tuple(dict.fromkeys(reached)), certificate, key)


def _own_names() -> tuple[str, ...]:
    """The address from which this machine would speak to others, and its name. Nothing is sent."""
    found = []
    with contextlib.suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        # A documentation address (RFC 5737): naming a target makes the system choose a way, no more.
        probe.connect(("192.0.2.1", 9))
        found.append(str(probe.getsockname()[0]))
    return (*found, socket.gethostname())


def listen(door: Door) -> socket.socket:
    """The socket on which all web processes answer. Raises OSError, with the remedy, when the port is taken."""
    family = socket.AF_INET6 if ":" in door.host else socket.AF_INET
    found = socket.socket(family, socket.SOCK_STREAM)
    try:
        found.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        # What it accepts has it, too: an answer's body would wait 40 ms for the receipt of its head (RFC 896, RFC 1122).
        found.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        found.bind((door.host, door.port))
        found.listen(_BACKLOG)
    except OSError as error:
        found.close()
        if error.errno == errno.EADDRNOTAVAIL:
            raise OSError(f"{door.host} is not an address of this machine") from error
        if error.errno == errno.EACCES:
            raise OSError(f"port {door.port} is not yours to use; choose one above 1023") from error
        raise OSError(
            f"port {door.port} is taken on {door.host}; stop what uses it or choose another with PORT={door.port + 1}"
        ) from error
    found.set_inheritable(True)
    return found


def prepare_database() -> None:
    """Bring the database up to date; one that changes is copied first.

    Raises ValueError, with the remedy, for one that is damaged, or was changed by a newer version than this.
    """
    from django.core.management import call_command

    from yellowjacket.bench import health

    if health.has_every_change():
        return
    _copy_before_change()
    call_command("migrate", verbosity=0, interactive=False)


def collect_static_files() -> None:
    """Put styles, scripts and fonts where they are served from."""
    from django.core.management import call_command

    call_command("collectstatic", verbosity=0, interactive=False)


def _copy_before_change() -> None:
    from django.conf import settings
    from django.db import connection
    from django.db.migrations.executor import MigrationExecutor

    from yellowjacket.bench import health

    if not (settings.HOME / backup.DATABASE).is_file():
        return
    health.require_readable()
    executor = MigrationExecutor(connection)
    if executor.loader.applied_migrations and executor.migration_plan(executor.loader.graph.leaf_nodes()):
        copy = backup.before_upgrade(settings.HOME, __version__, datetime.now(UTC))
        print(f"The database is brought up to date; {copy} holds it as it was.", flush=True)


def take_over(folder: Path) -> None:
    """Remove what an earlier server left behind. Only with the data folder for oneself."""
    data_folder.clear_arriving(folder)


def serve(door: Door, listening: socket.socket, lock: IO[str]) -> int:
    """Serve until Ctrl-C or SIGTERM. Returns the exit code. Raises ValueError where others could come in and nobody has an
    account to keep them out. ``lock``: what home.only_here gave, kept for as long as any child lives."""
    prepare_database()
    collect_static_files()
    if door.open_to_others:
        _require_account()
    supervisor = _Supervisor(door, listening, lock)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, supervisor.on_signal)
    return supervisor.run()


def _require_account() -> None:
    from django.db import connection

    from yellowjacket.bench.people.accounts import any_account

    found = any_account()
    connection.close()
    if not found:
        raise ValueError(
            "others could reach the application, and nobody has an account yet: "
            "make one with `yellowjacket account add NAME --role tester`, then serve again"
        )


def apart(work: Callable[[], None]) -> int:
    """Do something in a fork, and return its exit code: workers it starts are its own and end with it. One that serves must
    have none, for the processes it forks would all take them for theirs."""
    from django.db import connections

    def life() -> None:
        _end_with_parent(signal.SIGKILL)
        work()

    connections.close_all()
    process = _child(life)
    process.join()
    return process.exitcode or 0


class _Supervisor:
    """Starts web processes and worker, prints the address, starts anew who dies, stops all gracefully."""

    def __init__(self, door: Door, listening: socket.socket, lock: IO[str]) -> None:
        self._door, self._listening, self._lock = door, listening, lock
        self._stopping = False

    def on_signal(self, _number: int, _frame: FrameType | None) -> None:
        self._stopping = True

    def run(self) -> int:
        self._load()
        starts = [self._start_web] * _WEB_PROCESSES + [self._start_worker]
        children = [start() for start in starts]
        try:
            if not self._wait_until_up(children[:_WEB_PROCESSES]):
                return self._failed()
            print(f"Yellowjacket is up: {self._door.address}   (Ctrl-C stops it)", flush=True)
            if self._door.open_to_others and not self._door.certificate:
                print("Others reach it too, and what is sent can be read along the way.", flush=True)
            while not self._stopping:
                for n, child in enumerate(children):
                    if not child.is_alive() and not self._stopping:
                        time.sleep(_RESTART_PAUSE_S)
                        children[n] = starts[n]()
                time.sleep(0.1)
        finally:
            _stop(children)
        print("Stopped.", flush=True)
        return 0

    def _load(self) -> None:
        """What every child needs, once: children are forks, and share it. Nothing here may start a thread."""
        from django.db import connections

        from yellowjacket.bench.jobs.executor import WORKERS
        from yellowjacket.bench.management.commands import bench_worker
        from yellowjacket.web.http import server

        if WORKERS.idle():
            raise RuntimeError("a process that has workers cannot serve: do what needs them apart")
        self._web, self._worker = server, bench_worker
        connections.close_all()

    def _failed(self) -> int:
        if self._stopping:
            return 0
        print("yellowjacket: the web server did not start; its messages stand above", file=sys.stderr)
        return 1

    def _start_web(self) -> BaseProcess:
        def life() -> None:
            _be_child("yj-web", signal.SIGTERM)
            self._web.answer(self._listening, self._door.certificate, self._door.key)

        return _child(life)

    def _start_worker(self) -> BaseProcess:
        def life() -> None:
            # Its jobs survive a kill at any line, and must not go on when another server takes them up.
            _be_child("yj-worker", signal.SIGKILL)
            self._listening.close()
            self._worker.Command().handle()

        return _child(life)

    def _knock(self) -> http.client.HTTPConnection:
        """A connection to the server: to loopback where it listens everywhere."""
        host = self._door.host
        host = ADDRESS if ipaddress.ip_address(host).is_unspecified else host
        if self._door.certificate is None:
            return http.client.HTTPConnection(host, self._door.port, timeout=_START_TIMEOUT_S)
        # Only whether it answers is asked; the certificate names other hosts than this.
        context = ssl.create_default_context()
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        return http.client.HTTPSConnection(host, self._door.port, timeout=_START_TIMEOUT_S, context=context)

    def _wait_until_up(self, web: Sequence[BaseProcess]) -> bool:
        """Ask for a page until one comes: the socket is there before anybody answers on it."""
        deadline = time.monotonic() + _START_TIMEOUT_S
        while time.monotonic() < deadline and not self._stopping and all(one.is_alive() for one in web):
            connection = self._knock()
            try:
                connection.request("GET", "/")
                connection.sock.settimeout(0.5)
                while time.monotonic() < deadline and not self._stopping and all(one.is_alive() for one in web):
                    try:
                        connection.getresponse().read()
                        return True
                    except TimeoutError:
                        continue
            except (OSError, http.client.HTTPException):
                time.sleep(0.05)
            finally:
                connection.close()
        return False


def _child(life: Callable[[], None]) -> BaseProcess:
    process = multiprocessing.get_context("fork").Process(target=life)
    process.start()
    return process


def _be_child(name: str, with_parent: signal.Signals) -> None:
    """In a child: a session of its own, so that Ctrl-C reaches only the supervisor, which stops the children in order; and
    the kernel ends it when the supervisor is killed, so that no server is left behind on the port."""
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.SIG_DFL)
    # What decodes raw files warns of forks that had threads; the supervisor has one only.
    multiprocessing.set_start_method("forkserver", force=True)
    os.setsid()
    _end_with_parent(with_parent)
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_PR_SET_NAME, name.encode())


def _end_with_parent(sign: signal.Signals) -> None:
    """Ask the kernel to end this process when its parent is killed."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, sign)


def _stop(children: Sequence[BaseProcess]) -> None:
    for child in children:
        if child.is_alive():
            child.terminate()
    deadline = time.monotonic() + _STOP_TIMEOUT_S
    for child in children:
        child.join(max(0.1, deadline - time.monotonic()))
        if child.is_alive():
            _end_group(child)


def _end_group(child: BaseProcess) -> None:
    """End a child and the worker processes it started."""
    if child.pid is not None:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(child.pid, signal.SIGKILL)
    child.join()
