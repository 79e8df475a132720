"""Data folders as a start of the application leaves them: made once by it, and copied, as a start costs seconds."""

from __future__ import annotations

import functools
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from yellowjacket import data_folder

_MAKE = (
    "import django; django.setup(); from yellowjacket import serving; "
    "serving.prepare_database(); serving.collect_static_files()"
)


def environment(folder: Path) -> dict[str, str]:
    """In which a process of its own works on a data folder."""
    kept = {k: v for k, v in os.environ.items() if k not in ("DJANGO_SETTINGS_MODULE", data_folder.HOME_VARIABLE)}
    return kept | {data_folder.HOME_VARIABLE: str(folder), "DJANGO_SETTINGS_MODULE": "yellowjacket.settings.local"}


def ready(folder: Path) -> Path:
    """A data folder that has everything but data, at ``folder``."""
    shutil.copytree(_made(), folder, dirs_exist_ok=True)
    return folder


@functools.cache
def _made() -> Path:
    place = Path(_kept().name)
    data_folder.prepare(place)
    subprocess.run([sys.executable, "-c", _MAKE], env=environment(place), check=True)
    return place


@functools.cache
def _kept() -> tempfile.TemporaryDirectory[str]:
    return tempfile.TemporaryDirectory(prefix="ready-home-")
