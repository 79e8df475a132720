"""Signing in and out, letting a phone in, and the trail of decisions."""

from __future__ import annotations

import io

import qrcode
from django.conf import settings
from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import LoginView, LogoutView, PasswordChangeView
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse, reverse_lazy
from django.utils import timezone
from django.views.decorators.http import require_POST
from qrcode.image.svg import SvgPathImage

from yellowjacket.bench.models import PhonePass, Sitting, TrailEntry
from yellowjacket.bench.people import accounts as accounts_
from yellowjacket.bench.refusal import Refusal
from yellowjacket.web.people import doors

_ENTRIES = 50


class SignIn(LoginView):
    """Name and password; wrong ones are counted, see settings."""

    template_name = "people/sign_in.html"
    redirect_authenticated_user = True


class SignOut(LogoutView):
    """By a button, never by a link."""


class Password(PasswordChangeView):
    """An own password."""

    template_name = "people/password.html"
    success_url = reverse_lazy("people:page")


def page(request: HttpRequest) -> HttpResponse:
    """Accounts, phones and the trail of the whole installation."""
    from django.contrib.auth.models import User

    accounts = [(one, accounts_.role_of(one)) for one in User.objects.filter(is_active=True).prefetch_related("groups")]
    entries = Paginator(TrailEntry.objects.select_related("sitting"), _ENTRIES).get_page(request.GET.get("page"))
    context = {"place": "people", "accounts": accounts, "phones": accounts_.phones(timezone.now()), "entries": entries}
    return render(request, "people/page.html", context)


@require_POST
def pair(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """A code for one phone, shown once, with the address as a picture for the phone's camera."""
    sitting = get_object_or_404(Sitting, pk=sitting_id)
    code = accounts_.let_phone_in(sitting, timezone.now())
    scheme, port = request.scheme, request.get_port()
    address = f"{scheme}://{_reached_at(request)}:{port}{reverse('people:phone')}"
    context = {
        "place": "people", "paired": sitting, "code": f"{code[:4]} {code[4:]}", "address": address,
        "picture": _as_svg(f"{address}?code={code}"), "minutes": accounts_.CODE_MINUTES, "hours": accounts_.PHONE_HOURS,
    }  # fmt: skip
    return render(request, "people/pair.html", context)


def _reached_at(request: HttpRequest) -> str:
    """An address of this machine that a phone reaches: not the loopback name a tester may have used."""
    own = request.get_host().rsplit(":", 1)[0]
    return own if own in settings.REACHED_AT or not settings.REACHED_AT else str(settings.REACHED_AT[0])


def _as_svg(text: str) -> str:
    buffer = io.BytesIO()
    qrcode.make(text, image_factory=SvgPathImage, box_size=8, border=3).save(buffer)
    return buffer.getvalue().decode()


@login_not_required
def phone(request: HttpRequest) -> HttpResponse:
    """Where a phone types its code."""
    refusal = ""
    if request.method == "POST":
        try:
            one = accounts_.redeem(request.POST.get("code", ""), timezone.now())
        except Refusal as error:
            refusal = str(error)
        else:
            doors.let_in(request, one)
            return redirect("shoot:page", sitting_id=one.sitting_id)
    context = {"refusal": refusal, "code": request.POST.get("code") or request.GET.get("code", "")}
    return render(request, "people/phone.html", context, status=403 if refusal else 200)


@require_POST
def end_phone(request: HttpRequest, phone_id: int) -> HttpResponse:
    """The phone's access has ended."""
    accounts_.end_phone(get_object_or_404(PhonePass, pk=phone_id), timezone.now())
    messages.success(request, "The phone's access has ended.")
    return redirect("people:page")
