"""What the program sees in a file, raw or picture: its claims with the tags they come from, its layout, and what stands in the
way. The claims are told even where the pixels cannot be decoded."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

import numpy as np

from yellowjacket.core.metadata.capture import FrameMetadata
from yellowjacket.core.metrology.document import Document
from yellowjacket.core.raw.frame import PICTURE, PICTURE_SUFFIXES, FrameError, RawFrame, sha256_of
from yellowjacket.core.raw.histograms import CODES, add_histogram
from yellowjacket.core.raw.picture_file import size_of
from yellowjacket.core.raw.reader import is_raw, read_frame, read_metadata

INSPECTION = "yellowjacket-inspection/1"
_CLAIMS = (
    "make", "model", "serial", "firmware", "iso", "exposure_s", "f_number", "captured_at", "utc_offset", "temperature_c",
    "temperature_of", "lenr", "noise_reduction", "shutter", "compression", "several_shots", "frame_counter", "lens",
    "focal_length_mm", "stabilisation", "drive", "white_balance",
)  # fmt: skip


def inspection(files: Iterable[Document]) -> Document:
    """Reports of files as one document (docs/inspection.schema.json)."""
    return {"schema": INSPECTION, "files": list(files)}


def report_of(path: str) -> Document:
    """What there is to see in one file; null where it does not say. ``problem`` says what keeps it from being measured.

    Raises nothing for what a file holds: what cannot be read becomes its ``problem``.
    """
    where = Path(path)
    report: Document = {
        "file": path,
        "sha256": None,
        **dict.fromkeys(_CLAIMS),
        **_UNSEEN,
        "problem": None,
        "sources": {},
    }
    try:
        report["sha256"] = sha256_of(where)
    except OSError:
        return report | {"problem": "cannot be opened. Check that it is still there and that you may read it."}
    claims = read_metadata(where)
    report |= _claims(claims)
    try:
        if path.lower().endswith(PICTURE_SUFFIXES) and not is_raw(where):
            width, height = size_of(where)
            return report | {"layout": PICTURE, "width": width, "height": height}
        return report | _seen(read_frame(where), claims)
    except FrameError as error:
        return report | {"problem": f"{error.reason} {error.remedy}"}


def _claims(found: FrameMetadata) -> Document:
    claims: Document = {name: _plain(getattr(found, name)) for name in _CLAIMS}
    if found.captured_at is not None:
        claims["captured_at"] = found.captured_at.isoformat()
    return claims | {"bits": found.bits, "sources": found.sources, "contradicted": list(found.contradicted)}


def _plain(value: object) -> object:
    """As JSON has it: an enum as its word, nothing for what is not said."""
    return None if value == "" else value


_UNSEEN: Document = dict.fromkeys(
    ("layout", "width", "height", "margins", "bits", "black_dn", "white_dn", "codes_used", "lowest_code", "highest_code")
)  # fmt: skip


def _seen(frame: RawFrame, claims: FrameMetadata) -> Document:
    counts = np.zeros(CODES, np.int64)
    for channel in frame.channels:
        for plane in frame.planes(channel):
            add_histogram(plane, counts)
    used = np.flatnonzero(counts)
    top, left = frame.margins
    width, height = frame.size
    return {
        "layout": frame.layout.name, "width": width, "height": height, "margins": {"top": top, "left": left},
        # Files often keep fewer bits in sixteen.
        "bits": min(claims.bits or 16, int(frame.white_dn).bit_length()),
        "black_dn": None if "black" in frame.unsaid else frame.black_dn,
        "white_dn": None if "white" in frame.unsaid else frame.white_dn,
        "codes_used": int(used.size), "lowest_code": int(used[0]), "highest_code": int(used[-1]),
    }  # fmt: skip


def lines_of(report: Document) -> Sequence[str]:
    """The same for people: a line a fact, each with the tag it comes from."""
    lines = [str(report["file"])]
    for name, value in report.items():
        if name in ("file", "sources", "problem", "contradicted") or value in (None, "", False):
            continue
        source = report["sources"].get(name)
        lines.append(f"  {name.replace('_', ' '):18} {_shown(value)}" + (f"   [{source}]" if source else ""))
    for name in report.get("contradicted", ()):
        lines.append(f"  watch out: the tags and LibRaw disagree on {name.replace('_', ' ')}; one of them is wrong")
    if report["problem"]:
        lines.append(f"  problem: {report['problem']}")
    return lines


def _shown(value: object) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{key} {_shown(one)}" for key, one in value.items())
    return f"{value:g}" if isinstance(value, float) else str(value)
