"""Files and tables that go out piece by piece, also from a server that waits for nobody."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Iterator

from asgiref.sync import sync_to_async
from django.core.handlers.asgi import ASGIRequest
from django.http import HttpRequest, StreamingHttpResponse
from django.http.response import HttpResponseBase


class PieceByPiece:
    """Turns a response of pieces into one that the server can wait for; without it Django would gather all of it first, and
    an archive may be larger than the memory."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        """Carry out the request."""
        response = self._get_response(request)
        if isinstance(request, ASGIRequest) and isinstance(response, StreamingHttpResponse) and not response.is_async:
            response.streaming_content = _waited_for(iter(response.streaming_content))  # type: ignore[arg-type]
        return response


async def _waited_for(pieces: Iterator[bytes]) -> AsyncIterator[bytes]:
    # In the thread of the request: what is streamed may ask the database, whose connection is that thread's.
    following = sync_to_async(lambda: next(pieces, None), thread_sensitive=True)
    while (piece := await following()) is not None:
        yield piece
