"""What the last looks at an installation found: its accuracy (`yellowjacket verify`) and its health (`yellowjacket doctor`), kept
in the data folder for the Settings page and for documents."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from uuid import uuid4

ACCURACY, HEALTH = "accuracy", "health"


@dataclass(frozen=True, slots=True)
class Looked:
    """When a look was taken, by which version, whether it was the whole one, and its lines as plain words by name."""

    at: datetime
    version: str
    whole: bool
    lines: Sequence[Mapping[str, str]]


def keep(folder: Path, what: str, looked: Looked) -> None:
    """Keep a look in a data folder, in place of the one before; nowhere where there is no such folder. Raises OSError."""
    if not folder.is_dir():
        return
    partial = folder / f".{what}.{uuid4().hex}.part"
    try:
        partial.write_text(
            json.dumps({**asdict(looked), "at": looked.at.isoformat()}, ensure_ascii=False, indent=1), encoding="utf-8"
        )
        partial.replace(folder / f"last-{what}.json")
    finally:
        partial.unlink(missing_ok=True)


def last(folder: Path, what: str) -> Looked | None:
    """The look that was kept last; None where none was, or where it cannot be read any more."""
    try:
        kept = json.loads((folder / f"last-{what}.json").read_text(encoding="utf-8"))
        at = datetime.fromisoformat(kept["at"]).astimezone(UTC)
        return Looked(at, str(kept["version"]), bool(kept["whole"]), [dict(one) for one in kept["lines"]])
    except (OSError, ValueError, KeyError, TypeError):
        return None
