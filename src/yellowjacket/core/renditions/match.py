"""Which frame or rung a rendered picture belongs to, and what its lane did to it: pure work on files, for worker processes."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.raw.frame import FrameError, RawFrame, sha256_of
from yellowjacket.core.raw.picture_file import Picture, read_rendered, size_of
from yellowjacket.core.raw.reader import read_claims, read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.registration.similarity import Grey, NoMatch, Similarity
from yellowjacket.core.rendering.develop import Development, develop_crop
from yellowjacket.core.renditions.finish import (
    Cuts,
    Effect,
    cut_like,
    effect_of,
    luminance_of,
    named_after,
    placed,
    same_noise,
    upright,
)

# Raw pixels of the middle of a frame by which its noise is recognised, and how many frames are tried.
_RECOGNISED_PX = 512
_MOST_TRIED = 40
# A picture of more is placed by a half or a quarter of its sides.
_ENOUGH_PIXELS = 100_000_000
# As testers write it: heath_iso1600.jpg, ISO 400.png.
_ISO_IN_NAME = re.compile(r"(?<![a-z])iso[ _-]?(\d{2,6})(?!\d)", re.IGNORECASE)
# Settings agree within this many stops.
_SAME_STOPS = 0.2


@dataclass(frozen=True, slots=True)
class Known:
    """A raw frame that a picture may come from; ``rung``: the rung it is on."""

    key: int
    rung: int
    path: str
    iso: int
    exposure_s: float
    captured_at: str


@dataclass(frozen=True, slots=True)
class PictureTask:
    """A picture to find a place for. ``rungs``: (key, ISO, seconds) of the ladder, for pictures without a raw frame."""

    path: str
    name: str
    frames: tuple[Known, ...]
    rungs: tuple[tuple[int, int, float], ...]


@dataclass(frozen=True, slots=True)
class Examined:
    """Where a picture belongs. ``frame`` None: only its rung is known; ``place``: from raw pixels to its own."""

    sha256: str
    width: int
    height: int
    quarter_turns: int
    frame: int | None
    rung: int
    matched_by: str
    place: Similarity | None
    remark: str


def examine(task: PictureTask) -> Examined:
    """Find frame, rung and place of a picture. Raises FrameError, saying what to do, when it belongs nowhere."""
    path = Path(task.path)
    told = _told(task)
    # Noise is looked for pixel by pixel; where a picture lies is told from fewer.
    picture = read_rendered(path, _ENOUGH_PIXELS if told else 0)
    frame, rung, how = told or _by_noise(task, picture)
    turns, place, remark = 0, None, ""
    by_rung = next((one for one in task.frames if one.rung == rung), None)
    # A picture of a rung lies as that rung's frames do, even if it is of none of them.
    stand_in = next((one for one in task.frames if one.key == frame), by_rung)
    if stand_in is not None:
        raw = read_frame(Path(stand_in.path))
        turns, place, remark = _laid(raw, picture)
    size = size_of(path)
    if place is not None:
        ratio = size[0] / picture.shape[1]
        place = Similarity(
            place.a * ratio,
            place.b * ratio,
            place.x0 * ratio,
            place.y0 * ratio,
            place.residual_px * ratio,
            place.points,
        )
    width, height = size if turns % 2 == 0 else size[::-1]
    return Examined(sha256_of(path), width, height, turns, frame, rung, how, place, remark)


def _laid(raw: RawFrame, picture: Picture) -> tuple[int, Similarity | None, str]:
    """Turns, place, and a sentence where something is to be said."""
    size = raw.size
    tried = upright(picture, size)
    turned = " It stands where the frame lies, and was turned." if len(tried) > 1 else ""
    reason = ""
    for turns, candidate in zip((1, 3) if turned else (0,), tried, strict=True):
        try:
            place = placed(_green(raw), size, candidate)
        except NoMatch as error:
            reason = str(error)
            continue
        scale = f" It has {place.scale:.3g} of the frame's pixels each way." if abs(place.scale - 1) > 0.002 else ""
        return turns, place, (turned + scale).strip()
    return 0, None, f"It could not be laid on its frame and is shown by its own middle. {reason}"


def _green(raw: RawFrame) -> Grey:
    return np.maximum(raw.green_cells(), 0)


def _told(task: PictureTask) -> tuple[int | None, int, str] | None:
    """Frame and rung as name and metadata tell them; None where they do not."""
    rung_of = {frame.key: frame.rung for frame in task.frames}
    stems = [Path(frame.path).stem for frame in task.frames]
    # Two cards may hold equal names: such a name tells nothing.
    single = {stem: frame.key for stem, frame in zip(stems, task.frames, strict=True) if stems.count(stem) == 1}
    by_name = named_after(task.name, single)
    if by_name is not None:
        return by_name, rung_of[by_name], "by its name"
    iso, seconds, taken_at = _said_by(Path(task.path))
    written = _ISO_IN_NAME.search(task.name)
    if written:
        hits = [key for key, its, _ in task.rungs if its == int(written[1])]
        if len(hits) == 1:
            return None, hits[0], "by the ISO in its name"
    if taken_at:
        same = [f for f in task.frames if f.captured_at and f.captured_at.replace("T", " ")[:19] == taken_at]
        if len(same) == 1:
            return same[0].key, same[0].rung, "by its time of capture"
    if iso and seconds:
        hits = [key for key, its, time in task.rungs if its == iso and abs(math.log2(time / seconds)) < _SAME_STOPS]
        if len(hits) == 1:
            return None, hits[0], "by ISO and exposure time"
    # Another picture of the same body: where its noise stands on the axis its ISO tells alone.
    hits = [key for key, its, _ in task.rungs if its == iso]
    return (None, hits[0], "by its ISO alone") if iso and len(hits) == 1 else None


def _by_noise(task: PictureTask, picture: Picture) -> tuple[int | None, int, str]:
    rung_of = {frame.key: frame.rung for frame in task.frames}
    by_noise = _recognised(task.frames, picture)
    if by_noise is not None:
        return by_noise, rung_of[by_noise], "by its noise"
    raise FrameError(
        Path(task.path), "no-place", "belongs to no frame of this ladder by name, settings or noise.",
        "Keep the frame's name as part of the picture's name, as in the exported table, or write its ISO: iso1600.",
    )  # fmt: skip


def _said_by(path: Path) -> tuple[int | None, float | None, str]:
    """ISO, exposure time and capture time as the picture's tags have them."""
    said = read_claims(path)
    taken = said.captured_at.replace(microsecond=0).isoformat(sep=" ") if said.captured_at else ""
    return said.iso, said.exposure_s, taken


def _recognised(frames: Sequence[Known], picture: Picture) -> int | None:
    """The frame whose noise is in the picture; of a few frames only, as each must be read."""
    if not 2 <= len(frames) <= _MOST_TRIED:
        return None
    greys: dict[int, Grey] = {}
    seen: Grey | None = None
    for known in frames:
        raw = read_frame(Path(known.path))
        width, height = raw.size
        cell = raw.layout.cell
        unit = 2 * cell
        side = min(_RECOGNISED_PX, height, width) // unit * unit
        rect = Rect((width - side) // (2 * unit) * unit, (height - side) // (2 * unit) * unit, side, side)
        if seen is None:
            try:
                place = placed(_green(raw), (width, height), picture)
            except NoMatch:
                # A scene without much to see: a picture as large as the frame lies as it does.
                if picture.shape[:2] != (height, width):
                    return None
                place = Similarity()
            cut = cut_like(picture, place, rect)
            if cut is None:
                return None
            seen = luminance_of(cut).reshape(side // cell, cell, side // cell, cell).mean(axis=(1, 3))
        greys[known.key] = rect.of_cells(_green(raw), cell)
    shapes = {grey.shape for grey in greys.values()}
    return same_noise(seen, greys) if seen is not None and len(shapes) == 1 else None


@dataclass(frozen=True, slots=True)
class Finished:
    """A picture of a lane with the frame it came from, how that is developed, and where it lies."""

    path: str
    quarter_turns: int
    place: Similarity
    raw_path: str
    how: Development


@dataclass(frozen=True, slots=True)
class EffectTask:
    """A rung of a lane: its pictures, even patches and a texture of the ladder, and the cleanest rung's frame."""

    key: int
    pictures: tuple[Finished, ...]
    uniform: tuple[Rect, ...]
    texture: Rect | None
    clean_path: str
    clean_how: Development


def effect_from(task: EffectTask) -> Effect:
    """Measure what a lane did to a rung. Raises FrameError for files that are gone or changed."""
    pictures = [np.rot90(read_rendered(Path(one.path)), one.quarter_turns) for one in task.pictures[:2]]
    raws = [read_frame(Path(one.raw_path)).mosaic for one in task.pictures[:2]]
    clean = read_frame(Path(task.clean_path)).mosaic

    def cuts(rect: Rect) -> Cuts | None:
        finished = [cut_like(p, one.place, rect) for p, one in zip(pictures, task.pictures, strict=False)]
        if any(cut is None for cut in finished):
            return None
        as_is = [develop_crop(raw, rect, one.how) for raw, one in zip(raws, task.pictures, strict=False)]
        return Cuts(as_is, [cut for cut in finished if cut is not None])

    even = [found for rect in task.uniform if (found := cuts(rect)) is not None]
    texture = cuts(task.texture) if task.texture else None
    reference: NDArray[np.uint8] | None = None
    samples = task.clean_how.layout.samples
    if task.texture is not None and task.texture.fits(clean.shape[1] // samples, clean.shape[0]):
        reference = develop_crop(clean, task.texture, task.clean_how)
    return effect_of(even, texture, reference)


def as_numbers(effect: Effect) -> Mapping[str, Sequence[object]]:
    """An effect as plain values: {field: [value, low, high, n, reason]}."""
    fields = ("luma_as_is", "luma", "chroma_as_is", "chroma", "colour_de00", "detail_kept")
    return {name: getattr(effect, name).plain for name in fields}
