"""Who gets through: nobody is asked on one's own machine; elsewhere everyone signs in, readers look only, phones shoot only."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from django.conf import settings
from django.contrib.auth.middleware import LoginRequiredMiddleware
from django.http import HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import render, resolve_url
from django.utils import timezone

from yellowjacket.bench.models import PhonePass
from yellowjacket.bench.people import accounts, trail

PHONE = "phone"
_PHONE_KEY = "phone"
_SAFE = ("GET", "HEAD", "OPTIONS")
# What a reader may send: signing out, and an own password.
_OF_ONESELF = ("people:sign-out", "people:password")


class Doors(LoginRequiredMiddleware):
    """Sets ``request.role``, and stops what the role may not do. Views open to all are marked with login_not_required."""

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        """Carry out the request under the account that sent it."""
        request.role = _role(request) if settings.SIGN_IN else accounts.TESTER  # type: ignore[attr-defined]
        with trail.acting(request.user.get_username() if settings.SIGN_IN else ""):
            return super().__call__(request)  # type: ignore[return-value]

    def process_view(
        self, request: HttpRequest, view_func: Callable[..., Any], view_args: Any, view_kwargs: Mapping[str, Any]
    ) -> HttpResponseBase | None:
        """None lets the request through."""
        role = role_of(request)
        if not settings.SIGN_IN or not getattr(view_func, "login_required", True) or role == accounts.TESTER:
            return None
        match = request.resolver_match
        if role == accounts.READER:
            own = match is not None and match.view_name in _OF_ONESELF
            return None if request.method in _SAFE or own else _refused(request, "Look only", _LOOK_ONLY)
        if role == PHONE:
            one = phone_of(request)
            here = match is not None and match.app_name == "shoot"
            if one is not None and here and view_kwargs.get("sitting_id") == one.sitting_id:
                return None
            return _refused(request, "This phone shoots", _SHOOT_ONLY)
        if "HX-Request" in request.headers:
            # A fragment must not become the sign-in page: the whole page goes there.
            return HttpResponse(status=204, headers={"HX-Redirect": resolve_url(self.get_login_url(view_func))})
        return self.handle_no_permission(request, view_func)


_LOOK_ONLY = "You are signed in as a reader: you see everything and change nothing. A tester can give you another role."
_SHOOT_ONLY = "This phone was let in to the Shoot page of one sitting, and to nothing else."


def _role(request: HttpRequest) -> str:
    if request.user.is_authenticated:
        return accounts.role_of(request.user)
    return PHONE if phone_of(request) else ""


def role_of(request: HttpRequest) -> str:
    """tester, reader, phone, or empty for somebody who has not signed in."""
    return str(getattr(request, "role", accounts.TESTER))


def phone_of(request: HttpRequest) -> PhonePass | None:
    """The pass of the phone that asks, while it is open."""
    key = request.session.get(_PHONE_KEY)
    if key is None:
        return None
    return PhonePass.objects.select_related("sitting").filter(pk=key, open_until__gt=timezone.now()).first()


def let_in(request: HttpRequest, one: PhonePass) -> None:
    """From now on the session is that of a phone."""
    request.session.cycle_key()
    request.session[_PHONE_KEY] = one.pk


def _refused(request: HttpRequest, title: str, text: str) -> HttpResponse:
    return render(request, "error.html", {"title": title, "text": text}, status=403)


def locked_out(request: HttpRequest, _credentials: Mapping[str, Any] | None = None) -> HttpResponse:
    """After too many wrong passwords."""
    minutes = int(settings.AXES_COOLOFF_TIME.total_seconds() // 60)
    text = f"Too many wrong passwords came from this address. Wait {minutes} minutes, then try again."
    return render(request, "error.html", {"title": "Wait a little", "text": text}, status=429)


def who(request: HttpRequest) -> dict[str, object]:
    """For every template: whether anybody signs in here, the role, and the account."""
    if not settings.SIGN_IN:
        return {"signs_in": False, "role": accounts.TESTER}
    return {"signs_in": True, "role": role_of(request), "account": request.user.get_username()}
