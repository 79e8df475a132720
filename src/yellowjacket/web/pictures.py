"""Crops and overviews: developed on demand from the raw mosaic, cached as files, safe to delete."""

from __future__ import annotations

import hashlib
import io
import json
import os
import threading
from collections.abc import Callable, Mapping
from pathlib import Path

import numpy as np
from django.conf import settings
from numpy.typing import NDArray
from PIL import Image

from yellowjacket.bench.models import Frame, Ladder, MasterDark, Patch, Reading
from yellowjacket.bench.services import masters
from yellowjacket.core.develop import (
    GREY_TARGET,
    Development,
    develop_at_use,
    develop_crop,
    develop_reduced,
    gains_from_grey,
)
from yellowjacket.core.frames import CHANNELS, RawFrame, read_frame
from yellowjacket.core.master_dark import with_pedestal
from yellowjacket.core.patches import MID_GREY_SHARE, Rect

Picture = NDArray[np.uint8]
# Raise with every change of the development, so that old cached pictures are not shown.
_DEVELOPMENT_VERSION = 1
_OVERVIEW_LONG_SIDE_PX = 960


def grey_signals(ladder: Ladder) -> dict[int, dict[str, float]]:
    """Grey-patch signal by rung id and channel, DN above black; rungs without readings are left out."""
    found: dict[int, dict[str, float]] = {}
    rows = Reading.objects.filter(rung__ladder=ladder, patch__role=Patch.Role.GREY, quantity="signal_dn", value__gt=0)
    for rung_id, channel, value in rows.values_list("rung_id", "channel", "value"):
        found.setdefault(rung_id, {})[channel] = float(value or 0.0)
    return {rung_id: means for rung_id, means in found.items() if len(means) == len(CHANNELS)}


def development(
    frame: Frame, reference: Mapping[str, float] | None, own: Mapping[str, float] | None, *, equalised: bool,
    step_stops: float | None = None,
) -> tuple[Development, float]:  # fmt: skip
    """How to develop a frame, and by how many stops it was moved to equal brightness.

    ``reference``: grey-patch signals of the reference rung, which set white balance and brightness;
    ``own``: those of this frame's rung; ``step_stops``: its measured exposure instead, where the grey patch clips.
    Without readings the file's own neutral and levels serve.
    """
    offsets = {channel: (int(place[0]), int(place[1])) for channel, place in frame.offsets.items()}
    moved = 0.0
    if reference is None:
        neutral = frame.neutral or [1.0, 1.0, 1.0]
        grey = MID_GREY_SHARE * (frame.white_dn - max(frame.black_dn.values()))
        gains = tuple(GREY_TARGET / (grey * share) for share in neutral)
    else:
        gains = gains_from_grey(dict(reference))
        if equalised and own is not None:
            factor = (reference["G1"] + reference["G2"]) / (own["G1"] + own["G2"])
            gains = tuple(gain * factor for gain in gains)
            moved = float(np.log2(factor))
        elif equalised and step_stops is not None:
            gains = tuple(gain * 2.0**-step_stops for gain in gains)
            moved = -step_stops
    how = Development(offsets, dict(frame.black_dn), (gains[0], gains[1], gains[2]), frame.xyz_to_camera)
    return how, moved


def crop_png(frame: Frame, rect: Rect, how: Development) -> bytes:
    """A crop as PNG, one image pixel per sensor pixel. Raises ValueError outside the frame."""
    return _cached(
        "crops", _key(frame, "crop", [rect.x, rect.y, rect.w, rect.h], how), ".png",
        lambda: _encoded(develop_crop(_mosaic(frame), rect, how), "PNG"),
    )  # fmt: skip


def crop_at_use_png(frame: Frame, rect: Rect, how: Development, factor: float) -> bytes:
    """A crop averaged down to a use's size, ``factor`` sensor pixels to the side of a picture pixel."""
    return _cached(
        "crops", _key(frame, f"crop at {factor:.4f}", [rect.x, rect.y, rect.w, rect.h], how), ".png",
        lambda: _encoded(develop_at_use(_mosaic(frame), rect, how, factor), "PNG"),
    )  # fmt: skip


def calibrated_crop_png(frame: Frame, master: MasterDark, rect: Rect, how: Development) -> bytes:
    """The same crop with a master dark taken off. Raises Refusal where it does not fit, FrameError for a lost original."""

    def make() -> bytes:
        signal, raw, _ = masters.calibrated(frame, master)
        mosaic = with_pedestal(signal, sum(raw.black_dn.values()) / len(raw.black_dn), raw.white_dn)
        return _encoded(develop_crop(mosaic, rect, how), "PNG")

    key = _key(frame, f"less {master.sha256}", [rect.x, rect.y, rect.w, rect.h], how)
    return _cached("crops", key, ".png", make)


def overview_jpeg(frame: Frame, how: Development) -> bytes:
    """The whole frame, averaged down."""
    step = max(1, -(-max(frame.width, frame.height) // (2 * _OVERVIEW_LONG_SIDE_PX)))
    return _cached(
        "overviews", _key(frame, "overview", [step], how), ".jpg",
        lambda: _encoded(develop_reduced(_mosaic(frame), step, how), "JPEG"),
    )  # fmt: skip


def version_tag(how: Development) -> str:
    """Short digest of a development for URLs, so that browsers may keep a picture for good."""
    return hashlib.sha256(_as_text(how).encode()).hexdigest()[:12]


def clamped(frame_width: int, frame_height: int, centre: tuple[int, int], size: tuple[int, int]) -> Rect:
    """A crop of ``size`` around ``centre``, moved inside the frame; smaller frames give smaller crops."""
    w, h = min(size[0], frame_width), min(size[1], frame_height)
    x = min(max(0, centre[0] - w // 2), frame_width - w)
    y = min(max(0, centre[1] - h // 2), frame_height - h)
    return Rect(x, y, w, h)


def _as_text(how: Development) -> str:
    matrix = None if how.xyz_to_camera is None else how.xyz_to_camera.tolist()
    return json.dumps([_DEVELOPMENT_VERSION, how.offsets, how.black_dn, how.gains, matrix], sort_keys=True)


def _key(frame: Frame, what: str, numbers: list[int], how: Development) -> str:
    return hashlib.sha256(f"{frame.sha256} {what} {numbers} {_as_text(how)}".encode()).hexdigest()


def _encoded(picture: NDArray[np.uint8], kind: str) -> bytes:
    buffer = io.BytesIO()
    options = {"quality": 90} if kind == "JPEG" else {"compress_level": 1}
    Image.fromarray(picture).save(buffer, kind, **options)
    return buffer.getvalue()


def _cached(room: str, key: str, suffix: str, make: Callable[[], bytes]) -> bytes:
    path = settings.HOME / "cache" / room / key[:2] / (key + suffix)
    if path.is_file():
        return bytes(path.read_bytes())
    data = make()
    _write_whole(path, lambda partial: partial.write_bytes(data))
    return data


def _write_whole(path: Path, write: Callable[[Path], object]) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    partial = path.with_name(f".{path.name}.{os.getpid()}-{threading.get_ident()}")
    write(partial)
    partial.replace(path)


def cached_png(room: str, key: str, make: Callable[[], Picture]) -> bytes:
    """A grey or colour picture as PNG, made once for its key."""
    return _cached(room, key, ".png", lambda: _encoded(make(), "PNG"))


def raw_frame(frame: Frame) -> RawFrame:
    """The frame with its numbers, from the cache. Raises FrameError when the original is gone or changed."""
    offsets = {channel: (int(place[0]), int(place[1])) for channel, place in frame.offsets.items()}
    neutral = None if frame.neutral is None else np.array(frame.neutral)
    return RawFrame(_mosaic(frame), offsets, dict(frame.black_dn), frame.white_dn, frame.xyz_to_camera, neutral)


def _mosaic(frame: Frame) -> NDArray[np.uint16]:
    """The decoded mosaic, mapped from the cache so that a crop reads only its own rows.

    Raises FrameError when the original is gone or changed.
    """
    path = settings.HOME / "cache" / "mosaics" / f"{frame.sha256}.npy"
    if not path.is_file():
        mosaic = read_frame(Path(frame.path)).mosaic

        def write(partial: Path) -> None:
            with partial.open("wb") as file:
                np.save(file, mosaic)

        _write_whole(path, write)
        _trim(path.parent)
    return np.load(path, mmap_mode="r")


def _trim(folder: Path) -> None:
    """Drop the oldest mosaics beyond the size the cache may have."""
    files = sorted((f for f in folder.glob("*.npy")), key=lambda f: f.stat().st_mtime, reverse=True)
    total = 0
    for file in files:
        total += file.stat().st_size
        if total > settings.CACHE_MAX_BYTES:
            file.unlink(missing_ok=True)
