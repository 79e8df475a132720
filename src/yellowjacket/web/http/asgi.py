"""The entry for the server: requests arrive whole, however slowly they are sent, before a thread is spent on one."""

from __future__ import annotations

import os
import shutil
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

import django
from asgiref.sync import sync_to_async
from django.core.handlers.asgi import ASGIHandler
from django.http import HttpRequest
from django.http.response import HttpResponseBase

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yellowjacket.settings.local")

django.setup(set_prefix=False)


class _InOneThread(ASGIHandler):
    """Everything here is synchronous: a request goes to its thread once, not anew for every middleware (10 ms each)."""

    def load_middleware(self, is_async: bool = False) -> None:
        """As for a synchronous server."""
        super().load_middleware(is_async=False)

    async def get_response_async(self, request: HttpRequest) -> HttpResponseBase:
        """The response from the thread of the request."""
        return await sync_to_async(self.get_response, thread_sensitive=True)(request)


_django = _InOneThread()

# Once, and before the first page rather than with it.
from django.conf import settings  # noqa: E402 - needs the application

from yellowjacket import data_folder  # noqa: E402
from yellowjacket.web import urls  # noqa: E402, F401
from yellowjacket.web.pictures import be_ready  # noqa: E402

be_ready()

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]
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
        await _django(scope, receive, send)  # type: ignore[arg-type]
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
        await _django(scope, bounded, send)  # type: ignore[arg-type]
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
