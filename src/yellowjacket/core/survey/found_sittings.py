"""A folder as it comes, sorted into what was shot together: by time gap and by body, from what the files say alone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.metadata.capture import FrameMetadata
from yellowjacket.core.raw.reader import read_claims

# Who puts the camera away and comes back later begins something else (common practice, no source).
_PAUSE = timedelta(hours=3)
# Endings of what lies beside frames and is none: notes, side-cars, films, sound, packed files.
NO_FRAMES = frozenset({
    ".json", ".txt", ".md", ".csv", ".xmp", ".html", ".pdf", ".log", ".ini", ".db", ".yaml", ".toml", ".xml", ".ds_store",
    ".mov", ".mp4", ".avi", ".mts", ".m2ts", ".m4v", ".mkv", ".mxf", ".wav", ".mp3", ".aac", ".thm", ".lrv",
    ".zip", ".tar", ".gz", ".7z", ".doc", ".docx", ".xls", ".xlsx", ".ods", ".odt", ".lnk", ".url",
})  # fmt: skip


@dataclass(frozen=True, slots=True)
class Claimed:
    """A file and what it says of its capture."""

    path: str
    body: str
    iso: int | None
    exposure_s: float | None
    captured_at: datetime | None


@dataclass(frozen=True, slots=True)
class FoundSitting:
    """Files that were shot together: one stretch of time, one body or bodies taken in turn.

    ``bodies``: names, empty texts for what does not say one. ``begin``, ``end``: by the body's clock; None without one.
    ``isos``, ``times``: how many settings of each there are.
    """

    paths: tuple[str, ...]
    bodies: tuple[str, ...]
    begin: datetime | None
    end: datetime | None
    isos: int
    times: int

    @classmethod
    def from_plain(cls, plain: Mapping[str, Any]) -> FoundSitting:
        """From what ``plain`` gave."""
        begin, end = (None if plain[name] is None else datetime.fromisoformat(plain[name]) for name in ("begin", "end"))
        return cls(tuple(plain["paths"]), tuple(plain["bodies"]), begin, end, plain["isos"], plain["times"])

    @property
    def plain(self) -> dict[str, Any]:
        """As JSON has it."""
        begin, end = (None if one is None else one.isoformat() for one in (self.begin, self.end))
        return {
            "paths": list(self.paths), "bodies": list(self.bodies), "begin": begin, "end": end, "isos": self.isos,
            "times": self.times,
        }  # fmt: skip

    @property
    def few(self) -> bool:
        """Whether no ladder can come of it."""
        return len(self.paths) < _FEWEST_FRAMES

    @property
    def title(self) -> str:
        """Its bodies, in words, last what says none: it may be one of them."""
        return ", ".join([*filter(None, self.bodies), *([] if all(self.bodies) else [_NAMELESS])])

    @property
    def named(self) -> str:
        """By which bodies it is to be called: those that have a name."""
        return ", ".join(filter(None, self.bodies)) or _NAMELESS

    @property
    def span(self) -> str:
        """When it was shot, by the body's clock, in words."""
        if self.begin is None or self.end is None:
            return "no clock"
        end = f"{self.end:%H:%M}" if self.begin.date() == self.end.date() else f"{self.end:%-d %b %H:%M}"
        return f"{self.begin:%-d %b %Y %H:%M} to {end}"

    @property
    def what(self) -> str:
        """What it looks like, in words."""
        if self.few:
            return "too few frames for a ladder"
        if self.isos >= _FEWEST_RUNGS:
            return f"{self.isos} ISO settings"
        if self.times >= _FEWEST_RUNGS:
            return f"{self.times} exposure times at {counted(self.isos, 'ISO setting')}"
        return "frames of one kind"


_FEWEST_RUNGS, _FEWEST_FRAMES = 3, 3
_NAMELESS = "a body without a name"


def could_be_frame(path: str) -> bool:
    """Whether a file's name leaves it open that it is a frame."""
    return Path(path).suffix.lower() not in NO_FRAMES


def others_in_words(paths: Iterable[str]) -> str:
    """How many of which kind were passed over: "12 .xmp, 3 .mov"; empty for none."""
    counted = Counter(Path(path).suffix.lower() or "without an ending" for path in paths)
    return ", ".join(f"{count} {suffix}" for suffix, count in counted.most_common())


def claimed(path: str) -> Claimed:
    """What a file says, from its tags alone: no pixel is decoded."""
    said: FrameMetadata = read_claims(Path(path))
    return Claimed(path, f"{said.make} {said.model}".strip(), said.iso, said.exposure_s, said.captured_at)


def sittings_in(files: Sequence[Claimed]) -> tuple[FoundSitting, ...]:
    """Every file in exactly one of them, in the order of their clock; files without one go with the largest."""
    timed = sorted((one for one in files if one.captured_at is not None), key=lambda one: (one.captured_at, one.path))
    stretches: list[list[Claimed]] = []
    for one in timed:
        last = stretches[-1][-1].captured_at if stretches else None
        if last is None or one.captured_at is None or one.captured_at - last > _PAUSE + _lasted(stretches[-1][-1]):
            stretches.append([])
        stretches[-1].append(one)
    found = [part for stretch in stretches for part in _by_body(stretch)]
    timeless = [one for one in files if one.captured_at is None]
    if timeless and found:
        max(found, key=len).extend(timeless)
    elif timeless:
        found = [timeless]
    return tuple(_sitting(part) for part in found)


def _lasted(one: Claimed) -> timedelta:
    return timedelta(seconds=one.exposure_s or 0.0)


def _by_body(stretch: list[Claimed]) -> list[list[Claimed]]:
    """One body after the other is two sittings; bodies taken in turn before one scene are one."""
    runs: list[list[Claimed]] = []
    for one in stretch:
        if not runs or runs[-1][-1].body != one.body:
            runs.append([])
        runs[-1].append(one)
    bodies = [run[0].body for run in runs]
    return runs if len(set(bodies)) == len(bodies) else [stretch]


def _sitting(files: Sequence[Claimed]) -> FoundSitting:
    moments = sorted(one.captured_at for one in files if one.captured_at is not None)
    return FoundSitting(
        tuple(one.path for one in files), tuple(sorted({one.body for one in files})), moments[0] if moments else None,
        moments[-1] if moments else None, len({one.iso for one in files} - {None}),
        len({one.exposure_s for one in files} - {None}),
    )  # fmt: skip
