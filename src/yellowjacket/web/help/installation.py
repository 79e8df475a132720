"""Settings: how this installation is. Its health and its accuracy as they were last looked at, its folders, its version."""

from __future__ import annotations

from django.conf import settings
from django.contrib import messages
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from yellowjacket import __version__, data_folder, last_checks
from yellowjacket.bench import health


@require_GET
def page(request: HttpRequest) -> HttpResponse:
    """What was found last, when, and by which version."""
    accuracy = last_checks.last(settings.HOME, last_checks.ACCURACY)
    lines = accuracy.lines if accuracy else ()
    context = {
        "place": "settings", "version": __version__, "home": settings.HOME,
        "allowed": data_folder.allowed_folders(settings.HOME), "health": last_checks.last(settings.HOME, last_checks.HEALTH),
        "accuracy": accuracy, "held": sum(bool(line.get("holds")) for line in lines), "checked": len(lines),
        "missed": [line for line in lines if not line.get("holds")],
    }  # fmt: skip
    return render(request, "help/settings.html", context)


@require_POST
def look(request: HttpRequest) -> HttpResponseRedirect:
    """Look at database, originals, space and versions now."""
    found = health.looked()
    odd = [one for one in found if one.state != health.GOOD]
    messages.success(request, "Looked at everything: " + ("nothing is wrong." if not odd else "see below."))
    return redirect("help:settings")
