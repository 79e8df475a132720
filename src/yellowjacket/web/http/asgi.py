"""The entry for the server: requests arrive whole, however slowly they are sent, before a thread is spent on one."""

from __future__ import annotations

import asyncio
import os
import shutil
from collections.abc import Awaitable, Callable, Mapping, MutableMapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from contextvars import copy_context
from functools import partial
from typing import IO, Any

import django
from asgiref.sync import ThreadSensitiveContext, sync_to_async
from django.core import signals
from django.core.exceptions import RequestAborted
from django.core.handlers.asgi import ASGIHandler, get_script_prefix
from django.http import FileResponse
from django.http.response import HttpResponseBase
from django.urls import set_script_prefix

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yellowjacket.settings.local")

django.setup(set_prefix=False)

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[Mapping[str, Any]], Awaitable[None]]

# Pictures of a page are asked for six at a time; each thread keeps its connection to the database.
_THREADS = 12


class _InThreads(ASGIHandler):
    """Everything here is synchronous: a request is answered in one thread of a few that stay, with its connection to the
    database. Django would make a thread for every request, a connection for that, and hops between them: 7 ms each time."""

    def __init__(self) -> None:
        super().__init__()
        self._threads = ThreadPoolExecutor(_THREADS, "request")

    def load_middleware(self, is_async: bool = False) -> None:
        """As for a synchronous server."""
        super().load_middleware(is_async=False)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:  # type: ignore[override]
        """Answer one request."""
        try:
            body = await self.read_body(receive)
        except RequestAborted:
            return
        with closing(body):
            answer = partial(copy_context().run, self._answer, scope, body)
            response = await asyncio.get_running_loop().run_in_executor(self._threads, answer)
            if not response.streaming:
                await self.send_response(response, send)
                return
            # What goes out piece by piece may take long and ask the database: in a thread of its own, from first to last.
            async with ThreadSensitiveContext():
                try:
                    await self.send_response(response, send)
                finally:
                    await sync_to_async(response.close)()

    def _answer(self, scope: Scope, body: IO[bytes]) -> HttpResponseBase:
        """The response; one that is whole is closed already."""
        set_script_prefix(get_script_prefix(scope))
        signals.request_started.send(sender=type(self), scope=scope)
        request, refusal = self.create_request(scope, body)
        if request is None:
            assert refusal is not None  # noqa: S101 - one of both
            response: HttpResponseBase = refusal
        else:
            response = self.get_response(request)
        if isinstance(response, FileResponse):
            response.block_size = self.chunk_size
        if not response.streaming:
            response.close()
        return response


_django = _InThreads()

# Once, and before the first page rather than with it.
from django.conf import settings  # noqa: E402 - needs the application
from django.db import connections  # noqa: E402

from yellowjacket import data_folder  # noqa: E402
from yellowjacket.web import urls  # noqa: E402, F401

# Here only: workers and commands close theirs between what they do.
connections.settings["default"]["CONN_MAX_AGE"] = None

# What is sent is written to the disk twice on its way: as it arrives, and file by file.
_COPIES = 2


class _TooMuch(Exception):
    """More was sent than may be, or than there is room for."""


def _most_bytes() -> int:
    """What one request may hold: an archive with all originals, while the disk has room for it."""
    folder = data_folder.arriving(settings.HOME)
    try:
        folder.mkdir(exist_ok=True)
        free = shutil.disk_usage(folder).free
    except OSError:
        free = 0
    return int(min(settings.ARCHIVE_MAX_BYTES, free // _COPIES))


async def application(scope: Scope, receive: Receive, send: Send) -> None:
    """Django behind a bound on what a request may hold."""
    if scope["type"] != "http":
        await _django(scope, receive, send)
        return
    announced = dict(scope["headers"]).get(b"content-length", b"0")
    most = _most_bytes() if scope["method"] not in ("GET", "HEAD") else 1 << 20
    if not announced.isdigit() or int(announced[:20]) > most:
        await _refuse(receive, send, most)
        return
    came = 0

    async def bounded() -> MutableMapping[str, Any]:
        nonlocal came
        message = await receive()
        came += len(message.get("body", b""))
        if came > most:
            raise _TooMuch
        return message

    try:
        await _django(scope, bounded, send)
    except _TooMuch:
        await _refuse(receive, send, most)


async def _refuse(receive: Receive, send: Send, most: int) -> None:
    # A browser shows the answer only once it has sent everything: the rest is taken and thrown away.
    while (message := await receive()).get("more_body"):
        pass
    if message["type"] == "http.disconnect":
        return
    text = (
        f"This is more than can be taken at once: {most / 1e9:.1f} GB, and no more than half of what the disk has free. "
        "Send fewer files, or put them into a folder of this machine and import that."
    )
    headers = [(b"content-type", b"text/plain; charset=utf-8"), (b"connection", b"close")]
    await send({"type": "http.response.start", "status": 413, "headers": headers})
    await send({"type": "http.response.body", "body": text.encode()})
