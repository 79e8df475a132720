"""Where deleted sittings are kept, and which files they still need."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from django.conf import settings

from yellowjacket.backup import MANIFEST

# Where an archive has the rows of its sitting.
ROWS = "sitting.json"
_NAMING_FILES = ("Frame", "LanePicture", "Problem")


def folder() -> Path:
    """The room of the data folder."""
    return Path(settings.HOME) / "deleted"


def archives() -> Iterator[Path]:
    """The archives of all deleted sittings."""
    yield from folder().glob("*.zip")


def sitting_name(path: Path) -> str | None:
    """What the sitting of an archive was called; None where it cannot be read."""
    found = _document(path, MANIFEST)
    return str(found["sitting"]) if found is not None and "sitting" in found else None


def paths_needed() -> set[str]:
    """Files that deleted sittings would have again if they were restored."""
    found: set[str] = set()
    for path in archives():
        document = _document(path, ROWS) or {}
        for table in document.get("own", ()):
            if table.get("table") in _NAMING_FILES:
                found |= {str(row["path"]) for row in table.get("rows", ()) if row.get("path")}
    return found


def _document(path: Path, name: str) -> dict[str, Any] | None:
    try:
        with zipfile.ZipFile(path) as archive:
            found = json.loads(archive.read(name))
    except (OSError, KeyError, ValueError, zipfile.BadZipFile):
        return None
    return found if isinstance(found, dict) else None
