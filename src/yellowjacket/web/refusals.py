"""What a page does when something is refused: the words of the refusal, or a message where the tester came from."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Concatenate, ParamSpec

from django.contrib import messages
from django.http import HttpRequest, HttpResponseBase
from django.shortcuts import redirect
from django.urls import reverse

from yellowjacket.bench.refusal import Refusal

Parameters = ParamSpec("Parameters")
View = Callable[Concatenate[HttpRequest, Parameters], HttpResponseBase]


def refused(action: Callable[[], object]) -> str:
    """Do what was asked: the words of a refusal, or nothing when it was done."""
    try:
        action()
    except Refusal as refusal:
        return str(refusal)
    return ""


def carried_out(request: HttpRequest, action: Callable[[], object]) -> bool:
    """Do what was asked; a refusal becomes a message on the next page. Whether it was done."""
    words = refused(action)
    if words:
        messages.error(request, words)
    return not words


def or_back_to(page: str, *names: str) -> Callable[[View[Parameters]], View[Parameters]]:
    """A view whose refusal becomes a message on another page; ``names`` of its own arguments that the address needs."""

    def decorate(view: View[Parameters]) -> View[Parameters]:
        @wraps(view)
        def wrapped(request: HttpRequest, *args: Parameters.args, **kwargs: Parameters.kwargs) -> HttpResponseBase:
            try:
                return view(request, *args, **kwargs)
            except Refusal as refusal:
                messages.error(request, str(refusal))
                return redirect(reverse(page, kwargs={name: kwargs[name] for name in names}))

        return wrapped

    return decorate
