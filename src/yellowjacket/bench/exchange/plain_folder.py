"""The frames of a sitting as a plain folder, named by body and rung, for people without this application."""

from __future__ import annotations

import csv
import io
import re
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from yellowjacket.bench.intake.originals import complaint
from yellowjacket.bench.models import Frame, Shot, Sitting

_TABLE, _MISSING = "frames.csv", "not-here.txt"
_COLUMNS = (
    "file",
    "body",
    "serial",
    "ladder",
    "rung",
    "kind",
    "repeat",
    "iso",
    "exposure_s",
    "f_number",
    "original",
    "sha256",
)


@dataclass(frozen=True, slots=True)
class Named:
    """A frame and its place in the folder."""

    frame: Frame
    shot: Shot
    path: str


def named(sitting: Sitting) -> list[Named]:
    """Every frame that stands on a shot: "Ostrel Heath OH-20417/ISO/ISO 00400, 1-30 s/light 1, Y000012.DNG"."""
    frames = Frame.objects.filter(sitting=sitting, shot__isnull=False).defer("report")
    found, taken = [], set()
    for frame in frames.select_related("shot__rung__ladder__body").order_by("shot__order", "pk"):
        shot = frame.shot
        assert shot is not None  # noqa: S101 - the query asks for it
        body = f"{shot.rung.ladder.body} {shot.rung.ladder.body.serial}".strip()
        folder = "/".join(_safe(part) for part in (body, shot.rung.ladder.get_kind_display(), _rung(shot)))
        path = f"{folder}/{_safe(f'{shot.kind} {shot.repeat}, {frame.file_name}')}"
        # Two ladders of one kind may have the same rung.
        while path in taken:
            path = f"{folder}/{shot.rung.ladder_id}-{path.rpartition('/')[2]}"
        taken.add(path)
        found.append(Named(frame, shot, path))
    return found


def _rung(shot: Shot) -> str:
    """ISO with its zeros, so that folders stand in the order of the ladder, and the exposure time."""
    return f"ISO {shot.rung.iso:06d}, {shot.rung.shutter_label}"


def _safe(text: str) -> str:
    """A name that every file system takes: no separators, no dots at its ends."""
    return re.sub(r'[\\/:*?"<>|\x00-\x1f]', "-", text).strip(" .") or "unnamed"


def write(sitting: Sitting, file: IO[bytes]) -> int:
    """Write the folder as a zip with a table of what is what; returns how many originals are gone or were changed."""
    folder = _safe(sitting.name)
    table = io.StringIO()
    rows = csv.writer(table)
    rows.writerow(_COLUMNS)
    missing = []
    with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        for one in named(sitting):
            original = Path(one.frame.path)
            if trouble := complaint(one.frame):
                missing.append(f"{one.path}: {trouble}, {one.frame.sha256}")
                continue
            archive.write(original, f"{folder}/{one.path}")
            rung, ladder = one.shot.rung, one.shot.rung.ladder
            rows.writerow((
                one.path, str(ladder.body), ladder.body.serial, str(ladder), rung.label, one.shot.kind, one.shot.repeat,
                one.frame.said("iso"), one.frame.said("exposure_s"), one.frame.said("f_number"), original.name,
                one.frame.sha256,
            ))  # fmt: skip
        archive.writestr(f"{folder}/{_TABLE}", table.getvalue())
        if missing:
            archive.writestr(f"{folder}/{_MISSING}", "\n".join(["These originals could not be given:", *missing, ""]))
    return len(missing)
