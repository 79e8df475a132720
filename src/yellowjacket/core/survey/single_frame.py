"""Readings of single files, patch by patch: what ``yellowjacket measure`` reports. Pure functions of files."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from yellowjacket.core.metrology.document import Document, quantity
from yellowjacket.core.metrology.estimate import missing
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.noise.of_area import area_clipped, area_noise
from yellowjacket.core.patches.uniform import uniform_patches, uniform_patches_of_one
from yellowjacket.core.raw.dark_or_light import looks_dark
from yellowjacket.core.raw.frame import FrameError, RawFrame, sha256_of
from yellowjacket.core.raw.reader import read_frame, read_with_metadata
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.survey.documents import MEASUREMENT, problem

# Proposals when nobody named patches.
_PROPOSED = 24


@dataclass(frozen=True, slots=True)
class NamedRect:
    """A patch by name, in the full raw frame: x right, y down, from 0."""

    name: str
    rect: Rect


@dataclass(frozen=True, slots=True)
class FrameTask:
    """A file to measure, the file of the same settings that pairs with it (or none), and the patches (or none)."""

    path: str
    partner: str | None
    patches: tuple[NamedRect, ...]


def measure_file(task: FrameTask) -> Document:
    """Metadata and readings of one file. Raises FrameError for files that cannot be used."""
    path = Path(task.path)
    frame, metadata = read_with_metadata(path)
    partner = _partner(task, frame)
    patches = task.patches or _proposed(frame, partner)
    width, height = frame.size
    return {
        "file": task.path, "sha256": sha256_of(path), "make": metadata.make, "model": metadata.model,
        "serial": metadata.serial, "firmware": metadata.firmware, "iso": metadata.iso, "exposure_s": metadata.exposure_s,
        "f_number": metadata.f_number, "captured_at": metadata.captured_at.isoformat() if metadata.captured_at else None,
        "width": width, "height": height, "cfa": frame.layout.name, "dark": looks_dark(frame, metadata.exposure_s),
        "paired_with": task.partner if partner is not None else None,
        "black_dn": frame.black_dn, "white_dn": frame.white_dn,
        "patches": [_patch(frame, partner, patch) for patch in patches],
    }  # fmt: skip


def _partner(task: FrameTask, frame: RawFrame) -> RawFrame | None:
    """The other frame of the pair, if it can be read, has the same size and is no copy."""
    if task.partner is None:
        return None
    try:
        other = read_frame(Path(task.partner))
    except FrameError:
        return None
    if other.mosaic.shape != frame.mosaic.shape or np.array_equal(other.mosaic, frame.mosaic):
        return None
    return other


def _proposed(frame: RawFrame, partner: RawFrame | None) -> tuple[NamedRect, ...]:
    found = uniform_patches_of_one(frame, _PROPOSED) if partner is None else uniform_patches(frame, partner, _PROPOSED)
    return tuple(NamedRect(f"uniform {n}", rect) for n, rect in enumerate(found, start=1))


def _patch(frame: RawFrame, partner: RawFrame | None, patch: NamedRect) -> Document:
    rect = patch.rect
    document: Document = {"name": patch.name, "x": rect.x, "y": rect.y, "w": rect.w, "h": rect.h}
    width, height = frame.size
    if not rect.fits(width, height):
        nothing = quantity(missing(Missing.PATCH_OUTSIDE_FRAME, patch.name, width, height))
        fields = ("signal_dn", "noise_dn", "snr", "clipped_share")
        return document | {"channels": {name: dict.fromkeys(fields, nothing) for name in frame.channels}}
    return document | {"channels": {name: _channel(frame, partner, rect, name) for name in frame.channels}}


def _channel(frame: RawFrame, partner: RawFrame | None, rect: Rect, name: str) -> Document:
    black, frames = frame.black_dn[name], [frame] if partner is None else [frame, partner]
    found = area_noise(frames, rect, name, black)
    return {
        "signal_dn": quantity(found.signal), "noise_dn": quantity(found.noise), "snr": quantity(found.snr),
        "clipped_share": quantity(area_clipped([frame], rect, name, black)), "excluded": found.excluded,
    }  # fmt: skip


def measurement(
    frames: Sequence[Mapping[str, Any]], rendered: Sequence[Mapping[str, Any]], problems: Sequence[FrameError]
) -> Document:
    """The whole answer of ``yellowjacket measure --json``."""
    return {
        "schema": MEASUREMENT, "frames": list(frames), "rendered": list(rendered),
        "problems": [problem(one) for one in problems],
    }  # fmt: skip
