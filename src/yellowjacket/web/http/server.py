"""One web process, on a socket that the supervisor holds."""

from __future__ import annotations

import asyncio
import gc
import importlib
import os
import resource
import socket
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import uvicorn
from uvicorn.protocols.http.h11_impl import H11Protocol

from yellowjacket.bench.jobs.executor import WORKERS
from yellowjacket.core.prediction import shown_small
from yellowjacket.web import pictures
from yellowjacket.web.http.asgi import application

# A request whose head has not arrived by then (s) will not.
_HEAD_S = 60.0
_STOP_S = 4
_BACKLOG = 2048
# After the start (s), when the first page is out: what a start does without, and the first question would wait for.
_READY_AFTER_S = 2.0
# And so often (s) it is looked whether a busy machine has time for that.
_LOOK_AGAIN_AFTER_S = 5.0
_ASKED_FOR = ("scipy.special", "scipy.optimize")


class _Protocol(H11Protocol):
    """Connections that never say what they want are closed; they cost no thread meanwhile."""

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._head_due = asyncio.get_running_loop().call_later(_HEAD_S, self._give_up)

    def _give_up(self) -> None:
        if self.cycle is None:
            self.transport.close()

    def connection_lost(self, exc: Exception | None) -> None:
        self._head_due.cancel()
        super().connection_lost(exc)


def answer(listening: socket.socket, certificate: Path | None, key: Path | None) -> None:
    """Serve until SIGTERM; encrypted where there is a ``certificate`` (PEM file) with its ``key``."""
    # Whoever waits half-way with a request costs a file descriptor each.
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))
    encrypted: dict[str, Any] = {}
    if certificate:
        encrypted = {"ssl_certfile": certificate, "ssl_keyfile": key}
    config = uvicorn.Config(
        application, http=_Protocol, ws="none", lifespan="off", loop="asyncio", interface="asgi3",
        log_level="warning", access_log=False, proxy_headers=False, server_header=False, backlog=_BACKLOG,
        timeout_graceful_shutdown=_STOP_S, **encrypted,
    )  # fmt: skip
    _soon(get_ready_when_idle, _READY_AFTER_S)
    uvicorn.Server(config).run(sockets=[listening])


def _soon(what: Callable[[], None], seconds: float) -> None:
    timer = threading.Timer(seconds, what)
    timer.daemon = True
    timer.start()


def get_ready_when_idle() -> None:
    """Get ready, once this machine has a core to spare: nobody may be asking yet, and others are at work."""
    if os.getloadavg()[0] > (os.cpu_count() or 1):
        _soon(get_ready_when_idle, _LOOK_AGAIN_AFTER_S)
    else:
        get_ready()


def get_ready() -> None:
    """Load what the first picture and the first question need, and start a process that makes pictures."""
    pictures.be_ready()
    shown_small.be_ready()
    for name in _ASKED_FOR:
        importlib.import_module(name)
    WORKERS.start_one()
    # What is loaded now stays: to look through all of it for what nobody needs any more would hold up a page now and then by a
    # tenth of a second.
    gc.collect()
    gc.freeze()
