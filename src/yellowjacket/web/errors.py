"""Error pages: what happened and what to do, never a traceback."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render


def _page(request: HttpRequest, status: int, title: str, text: str) -> HttpResponse:
    return render(request, "error.html", {"title": title, "text": text}, status=status)


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """404."""
    return _page(
        request, 404, "Not here", "This page does not exist, or its sitting was removed. The desk lists what is there."
    )


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    """400."""
    return _page(request, 400, "Could not be read", "The request was incomplete or too large. Go back and try again.")


def server_error(request: HttpRequest) -> HttpResponse:
    """500."""
    return _page(
        request, 500, "Something broke", "Nothing was lost. The log in the terminal says more; go back and try again."
    )


def csrf_failure(request: HttpRequest, reason: str = "") -> HttpResponse:
    """403: a form from an expired page."""
    return _page(
        request,
        403,
        "Page too old",
        "This form came from a page that has expired. Go back, reload it and send it again.",
    )
