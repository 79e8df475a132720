"""Headers that every answer has, whoever made it."""

from __future__ import annotations

from collections.abc import Callable

from django.conf import settings
from django.http import HttpRequest
from django.http.response import HttpResponseBase


class OwnHeaders:
    """Pages are for whoever asked, and for no cache on the way; nothing of ours may be drawn into another site."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        """Carry out the request."""
        response = self._get_response(request)
        response.headers.setdefault("Cross-Origin-Resource-Policy", "same-origin")
        # On one's own machine going back shows a page at once; behind a sign-in nothing of it stays.
        response.headers.setdefault("Cache-Control", "private, no-store" if settings.SIGN_IN else "private, no-cache")
        return response
