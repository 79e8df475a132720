"""A first look at a file: what it is, what it claims, and whether it is a dark or a light frame."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from yellowjacket.core.metadata.capture import FrameMetadata
from yellowjacket.core.raw.dark_or_light import looks_dark
from yellowjacket.core.raw.frame import FrameError, Layout, RawFrame, sha256_of
from yellowjacket.core.raw.frame_report import FrameReport, look_at
from yellowjacket.core.raw.reader import read_claims, read_picture_frame, read_with_metadata


@dataclass(frozen=True, slots=True)
class FrameFacts:
    """What is kept about a file at import. ``matrix`` and ``neutral`` as nested tuples, or None."""

    path: str
    sha256: str
    size_bytes: int
    mtime_ns: int
    width: int
    height: int
    metadata: FrameMetadata
    dark: bool
    white_dn: float
    black_dn: dict[str, float]
    layout: Layout
    matrix: tuple[tuple[float, ...], ...] | None
    neutral: tuple[float, ...] | None
    report: FrameReport


def inspect_file(path: str) -> FrameFacts:
    """Hash, decode and describe one file. Raises FrameError when it cannot be used."""
    where = Path(path)
    try:
        path.encode()
    except UnicodeEncodeError as error:
        raise FrameError(
            where, "name", "has a name that is not UTF-8 text.", "Rename it and import it again."
        ) from error
    # Before it is read: what is written to it afterwards shows as a change.
    stat = where.stat() if where.is_file() else None
    with _hashing(where) as digest:
        return _facts(where, stat, digest, *read_with_metadata(where))


def inspect_picture(path: str) -> FrameFacts:
    """The same of a rendered picture, where there are no raw files. Raises FrameError when it cannot be used."""
    where = Path(path)
    stat = where.stat() if where.is_file() else None
    with _hashing(where) as digest:
        return _facts(where, stat, digest, read_picture_frame(where), read_claims(where))


@contextlib.contextmanager
def _hashing(where: Path) -> Iterator[Future[str]]:
    """The digest of a file, worked out on another core while this one decodes: it takes nearly as long."""
    with ThreadPoolExecutor(1) as beside:
        yield beside.submit(sha256_of, where)


def _facts(
    where: Path, stat: os.stat_result | None, digest: Future[str], frame: RawFrame, metadata: FrameMetadata
) -> FrameFacts:
    report, dark = look_at(frame), looks_dark(frame, metadata.exposure_s)
    return FrameFacts(
        path=str(where),
        sha256=digest.result(),
        size_bytes=stat.st_size if stat else 0,
        mtime_ns=stat.st_mtime_ns if stat else 0,
        width=frame.size[0],
        height=frame.size[1],
        metadata=metadata,
        dark=dark,
        white_dn=frame.white_dn,
        black_dn=frame.black_dn,
        layout=frame.layout,
        matrix=None if frame.xyz_to_camera is None else tuple(tuple(map(float, row)) for row in frame.xyz_to_camera),
        neutral=None if frame.neutral is None else tuple(map(float, frame.neutral)),
        report=report,
    )
