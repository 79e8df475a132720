"""Why a file was not used."""

from __future__ import annotations

import logging
import os
from pathlib import Path

from yellowjacket.bench.jobs.executor import frame_error
from yellowjacket.bench.models import Problem, Sitting
from yellowjacket.core.planning.frame_to_shot import Misfit

log = logging.getLogger(__name__)


def same_content(name: str) -> Misfit:
    """The complaint for a file whose content is known under another name."""
    return Misfit("duplicate", f"has the same content as {name}.", "Nothing to do; it is used once.")


def note_problem(sitting: Sitting, file_name: str, misfit: Misfit, path: str = "") -> Problem:
    """Remember why a file was not used; the same complaint about a file is kept once.

    ``path``: where it lies, when it could be used after all, or when another of its name may be meant.
    """
    problem, _ = Problem.objects.update_or_create(
        sitting=sitting,
        file_name=printable(file_name)[:255],
        code=misfit.code,
        # A name that is no text can be told, not stored.
        path=path if path == printable(path) else "",
        defaults={"reason": misfit.reason[:400], "remedy": misfit.remedy[:400]},
    )
    return problem


def misfit_from(error: Exception, path: Path = Path()) -> Misfit:
    """The complaint for a file that could not be read, whatever it was that stumbled over it."""
    found = frame_error(path, error)
    if found.code == "unexpected":
        log.error("a file could not be read", exc_info=error)
    return Misfit(found.code, found.reason, found.remedy)


def printable(name: str) -> str:
    """A file name as text that can be stored: bytes that are no UTF-8 are written out."""
    return os.fsencode(name).decode("utf-8", "backslashreplace")
