"""Error pages: what happened and what to do, never a traceback."""

from __future__ import annotations

import sys

from django.db import IntegrityError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils.html import format_html

from yellowjacket.bench.patience import Trouble, trouble_of, words_for
from yellowjacket.web.sitting_page import NoLadders

# What is wrong with disk or database, as a status: try later (503), or make room (507).
_TITLES = {
    Trouble.BUSY: (503, "Busy for a moment"), Trouble.FULL: (507, "The disk is full"),
    Trouble.READ_ONLY: (503, "The data folder cannot be written to"), Trouble.DAMAGED: (503, "The database is damaged"),
}  # fmt: skip
_RETRY_S = 5


def _page(request: HttpRequest, status: int, title: str, text: str) -> HttpResponse:
    try:
        return render(request, "error.html", {"title": title, "text": text}, status=status)
    except Exception:
        # What a page asks of the database may be what just failed.
        plain = "<!doctype html><title>{0}</title><h1>{0}</h1><p>{1}</p>"
        return HttpResponse(format_html(plain, title, text), status=status)


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """404; what is asked of a sitting that has no ladders yet leads to what was found of it."""
    if isinstance(exception, NoLadders) and request.method == "GET":
        return redirect("desk:adopting", sitting_id=exception.sitting_id)
    return _page(
        request, 404, "Not here", "This page does not exist, or its sitting was removed. The desk lists what is there."
    )


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    """400."""
    return _page(request, 400, "Could not be read", "The request was incomplete or too large. Go back and try again.")


def forbidden(request: HttpRequest, exception: Exception) -> HttpResponse:
    """403."""
    text = str(exception) or "You may not do this here. A tester can give you another role."
    return _page(request, 403, "Not for you to change", text)


def server_error(request: HttpRequest) -> HttpResponse:
    """500; what a person can do something about, disk and database, has a status and a sentence of its own."""
    trouble = trouble_of(sys.exc_info()[1])
    if trouble is not None:
        status, title = _TITLES[trouble]
        response = _page(request, status, title, words_for(trouble))
        response.headers["Retry-After"] = str(_RETRY_S)
        return response
    if isinstance(sys.exc_info()[1], IntegrityError):
        text = "Another window changed the same thing at the same moment. Nothing was changed here; go back and reload."
        return _page(request, 409, "Somebody was faster", text)
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
