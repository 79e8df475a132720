"""Compression of what goes to the browser: texts only."""

from __future__ import annotations

from django.http import HttpRequest
from django.http.response import HttpResponseBase
from django.middleware.gzip import GZipMiddleware

_PICTURES = "image/"


class TextCompression(GZipMiddleware):
    """Compresses pages and leaves pictures as they are: noise does not shrink, trying costs more than a crop's development,
    and the length of a blind crop would tell how noisy it is."""

    def process_response(self, request: HttpRequest, response: HttpResponseBase) -> HttpResponseBase:
        """Compress all but pictures."""
        if response.headers.get("Content-Type", "").startswith(_PICTURES):
            return response
        return super().process_response(request, response)
