"""Folders that may not be read yet: asked about on this machine, refused to everybody else."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from yellowjacket import data_folder
from yellowjacket.bench.intake.importing import FolderNotAllowed
from yellowjacket.bench.models import Sitting
from yellowjacket.bench.refusal import Refusal

_THIS_MACHINE = ("127.0.0.1", "::1")


def may_allow(request: HttpRequest) -> bool:
    """Whether whoever asks sits at this machine, and nobody else is let in."""
    return not settings.SIGN_IN and request.META.get("REMOTE_ADDR") in _THIS_MACHINE


def asked_to_allow(request: HttpRequest, refusal: FolderNotAllowed, sitting: Sitting | None = None) -> HttpResponse:
    """The question whether the folder may be read, from now on. Raises the refusal for others than this machine."""
    if not may_allow(request) or not refusal.folder.is_dir():
        raise refusal
    return render(request, "desk/allow.html", {"folder": refusal.folder, "sitting": sitting, "place": "desk"})


def allow(request: HttpRequest) -> str:
    """Allow the folder that the form names; returns it. Refuses others than this machine, and what is no folder."""
    folder = request.POST.get("folder", "")
    if not may_allow(request):
        raise Refusal("Only the computer that Yellowjacket runs on may allow folders.")
    try:
        data_folder.allow_folder(settings.HOME, Path(folder))
    except (OSError, ValueError) as error:
        raise Refusal(f"{folder[:200]!r} cannot be allowed: it is not a folder. Check the path.") from error
    return folder
