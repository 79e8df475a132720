"""Crops and overviews: developed on demand from the raw mosaic, cached as files, safe to delete."""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlencode
from uuid import uuid4

import numpy as np
from django.conf import settings
from django.urls import reverse
from numpy.typing import NDArray
from PIL import Image

from yellowjacket.bench.darks import masters
from yellowjacket.bench.decoding import mosaic_of
from yellowjacket.bench.development import Developed
from yellowjacket.bench.look.blind_pictures import Finished, Shown
from yellowjacket.bench.models import Frame, LanePicture, MasterDark
from yellowjacket.bench.typed import identity
from yellowjacket.core.darks.close_up import repaired
from yellowjacket.core.darks.master import with_pedestal
from yellowjacket.core.raw.frame import BAYER, Layout
from yellowjacket.core.raw.rect import Rect, clamped
from yellowjacket.core.rendering.develop import (
    DEVELOPERS,
    PLAIN,
    Development,
    develop_at_use,
    develop_reduced,
)
from yellowjacket.core.rendering.png import stored_png

Picture = NDArray[np.uint8]
# Raise with every change of the development, so that old cached pictures are not shown.
_DEVELOPMENT_VERSION = 3
_OVERVIEW_LONG_SIDE_PX = 960
# What a repair looks at around a crop.
_MARGIN_PX = 8
# What an address may ask for.
_LARGEST_GAIN, _LARGEST_SHIFT_PX, _LARGEST_FACTOR = 1e6, 64.0, 64.0


@dataclass(frozen=True, slots=True)
class Treated:
    """What is done to the numbers of a frame before they are developed: a master dark taken off, and lone points repaired that
    stand more than ``repair_dn`` above all of their neighbours."""

    master: MasterDark | None = None
    repair_dn: float = 0.0

    def area(self, frame: Frame, rect: Rect) -> tuple[NDArray[np.uint16], Rect]:
        """Numbers of a frame, and where in them the crop lies. Raises FrameError for a lost original, Refusal for a master that
        does not fit."""
        mosaic = mosaic_of(frame)
        if self.master is not None:
            signal, raw, _ = masters.calibrated(frame, self.master)
            mosaic = with_pedestal(signal, sum(raw.black_dn.values()) / len(raw.black_dn), raw.white_dn)
        if self.repair_dn:
            step = frame.mosaic_layout.step
            outer, rect = rect.around(mosaic.shape[1], mosaic.shape[0], _MARGIN_PX, step)
            area = mosaic[outer.y : outer.y + outer.h, outer.x : outer.x + outer.w]
            mosaic = np.rint(repaired(area, self.repair_dn, step)).astype(np.uint16)
        return mosaic, rect

    @property
    def query(self) -> dict[str, object]:
        """Its part of an address."""
        parts: dict[str, object] = {}
        if self.master is not None:
            parts["less"] = f"{self.master.pk}-{self.master.sha256[:12]}"
        if self.repair_dn:
            parts["r"] = f"{self.repair_dn:.3f}"
        return parts

    @classmethod
    def asked_for(cls, query: Mapping[str, str], frame: Frame) -> Treated:
        """From an address. Raises ValueError for what no page of ours asks for."""
        bar = float(query.get("r", "0"))
        if not 0 <= bar <= frame.white_dn or (bar and frame.mosaic_layout.demosaiced):
            raise ValueError("a bar lies inside of the range of values")
        master = None
        if "less" in query:
            number, _, digest = query["less"].partition("-")
            master = MasterDark.objects.filter(pk=identity(number), sha256__startswith=digest).first()
            if master is None or len(digest) != 12:
                raise ValueError("no such master dark")
        return cls(master, bar)


UNTREATED = Treated()


def crop_address(frame: Frame, rect: Rect, how: Development, factor: float = 1.0, treated: Treated = UNTREATED) -> str:
    """Address of a crop: everything it depends on is in it, so that it never changes. See crop_png for ``factor``."""
    parts = _parts(frame, how, factor) | treated.query
    return f"{reverse('crop', args=[frame.pk, rect.x, rect.y, rect.w, rect.h])}?{_query(parts)}"


@dataclass(frozen=True, slots=True)
class CropView:
    """A crop on a page: its address and size, and by how many stops it was moved."""

    url: str
    width: int
    height: int
    moved_stops: float = 0.0


def crop_view(
    frame: Frame,
    centre: tuple[int, int],
    size: tuple[int, int],
    developed: Developed,
    factor: float = 1.0,
    treated: Treated = UNTREATED,
) -> CropView:
    """The crop around ``centre`` (raw pixels) that fills ``size`` pixels of the page, ``factor`` sensor pixels to the side of
    one; smaller where the frame is."""
    rect, shown = framed(frame.width, frame.height, centre, size, factor)
    url = crop_address(frame, rect, developed.how, max(factor, 1.0), treated)
    return CropView(url, *shown, developed.moved_stops)


def framed(
    width: int, height: int, centre: tuple[int, int], size: tuple[int, int], factor: float
) -> tuple[Rect, tuple[int, int]]:
    """Of a frame of ``width`` × ``height`` the part around ``centre`` for ``size`` pixels of a page, and how many those are."""
    factor = max(factor, 1.0)
    rect = clamped(width, height, centre, (round(size[0] * factor), round(size[1] * factor)))
    return rect, (max(1, round(rect.w / factor)), max(1, round(rect.h / factor)))


def overview_address(frame: Frame, how: Development) -> str:
    """Address of a reduced frame."""
    return f"{reverse('overview', args=[frame.pk])}?{_query(_parts(frame, how, 1.0))}"


def _query(parts: Mapping[str, object]) -> str:
    return urlencode({**parts, "v": _DEVELOPMENT_VERSION}, safe=",")


def _parts(frame: Frame, how: Development, factor: float) -> dict[str, object]:
    parts: dict[str, object] = {"g": ",".join(f"{gain:.6g}" for gain in how.gains)}
    if how.developer != PLAIN:
        parts["d"] = how.developer
    if how.monochrome:
        parts["m"] = 1
    if how.shift_px != (0.0, 0.0):
        parts["s"] = ",".join(f"{part:.2f}" for part in how.shift_px)
    moved = [how.black_dn[channel] - frame.black_dn[channel] for channel in how.layout.channels]
    if any(moved):
        parts["b"] = ",".join(f"{black:.3f}" for black in moved)
    if factor > 1:
        parts["f"] = f"{factor:.4f}"
    return parts


def asked_for(frame: Frame, query: Mapping[str, str]) -> tuple[Development, float]:
    """Development and factor from an address. Raises ValueError for what no page of ours asks for."""
    gains = [float(part) for part in query.get("g", "").split(",")]
    shift = [float(part) for part in query.get("s", "0,0").split(",")]
    developer, factor = query.get("d", PLAIN), float(query.get("f", "1"))
    channels = frame.mosaic_layout.channels
    moved = [float(part) for part in query["b"].split(",")] if "b" in query else [0.0] * len(channels)
    if len(moved) != len(channels) or not all(abs(part) <= frame.white_dn for part in moved):
        raise ValueError("black is moved by channel, and inside of the range of values")
    if len(gains) != 3 or not all(0 < gain < _LARGEST_GAIN for gain in gains):
        raise ValueError("three gains above nothing are needed")
    if len(shift) != 2 or not all(abs(part) <= _LARGEST_SHIFT_PX for part in shift):
        raise ValueError("a shift has two parts, and is small")
    if developer not in DEVELOPERS or not 1 <= factor <= _LARGEST_FACTOR:
        raise ValueError("no such developer or size")
    how = Development(
        frame.mosaic_layout, {c: frame.black_dn[c] + part for c, part in zip(channels, moved, strict=True)},
        (gains[0], gains[1], gains[2]), frame.xyz_to_camera, developer, "m" in query, (shift[0], shift[1]),
    )  # fmt: skip
    return how, factor


def lane_crop_address(picture: LanePicture, rect: Rect, factor: float = 1.0, *, monochrome: bool = False) -> str:
    """Address of a crop of a lane's picture, in its own pixels."""
    parts: dict[str, object] = {"v": picture.sha256[:12]}
    if factor > 1:
        parts["f"] = f"{factor:.4f}"
    if monochrome:
        parts["m"] = 1
    return f"{reverse('lane-crop', args=[picture.pk, rect.x, rect.y, rect.w, rect.h])}?{urlencode(parts)}"


def lane_crop_png(picture: LanePicture, rect: Rect, factor: float, *, monochrome: bool = False) -> bytes:
    """A crop of a lane's picture, averaged down like a frame's. Raises FrameError when the file is gone or damaged."""
    shown = Finished(picture, rect, factor, monochrome)
    key = f"{picture.sha256} {picture.quarter_turns} {rect} {factor:.4f} {monochrome}"
    return _cached("crops", hashlib.sha256(key.encode()).hexdigest(), ".png", lambda: stored_png(shown.rendered()))


def crop_png(frame: Frame, rect: Rect, how: Development, factor: float = 1.0, treated: Treated = UNTREATED) -> bytes:
    """A crop as PNG, averaged down to ``factor`` sensor pixels to the side of a picture pixel; at 1 one to one.

    Raises ValueError outside the frame, FrameError for a lost original, Refusal for a master that does not fit.
    """
    what = f"crop at {factor:.4f}{f' {treated.query}' if treated.query else ''}"
    return _cached(
        "crops", _key(frame, what, [rect.x, rect.y, rect.w, rect.h], how), ".png",
        lambda: stored_png(develop_at_use(*treated.area(frame, rect), how, factor)),
    )  # fmt: skip


def blind_png(shown: Shown | Finished) -> bytes:
    """A picture of a blind round: shot, predicted, or finished elsewhere. Raises what its pixels raise."""
    if isinstance(shown, Finished):
        return stored_png(shown.rendered())
    if shown.made is None:
        return crop_png(shown.frame, shown.rect, shown.how, shown.factor)
    return stored_png(develop_at_use(*shown.pixels, shown.how, shown.factor))


def overview_jpeg(frame: Frame, how: Development) -> bytes:
    """The whole frame, averaged down."""
    step = max(1, -(-max(frame.width, frame.height) // (how.layout.cell * _OVERVIEW_LONG_SIDE_PX)))
    return _cached(
        "overviews", _key(frame, "overview", [step], how), ".jpg",
        lambda: _as_jpeg(develop_reduced(mosaic_of(frame), step, how)),
    )  # fmt: skip


def _as_text(how: Development) -> str:
    matrix = None if how.xyz_to_camera is None else how.xyz_to_camera.tolist()
    parts = [
        _DEVELOPMENT_VERSION,
        how.layout.plain,
        how.black_dn,
        how.gains,
        matrix,
        how.developer,
        how.monochrome,
        how.shift_px,
    ]
    return json.dumps(parts, sort_keys=True)


def _key(frame: Frame, what: str, numbers: list[int], how: Development) -> str:
    return hashlib.sha256(f"{frame.sha256} {what} {numbers} {_as_text(how)}".encode()).hexdigest()


def _as_jpeg(picture: NDArray[np.uint8]) -> bytes:
    buffer = io.BytesIO()
    Image.fromarray(picture).save(buffer, "JPEG", quality=90)
    return buffer.getvalue()


def _cached(room: str, key: str, suffix: str, make: Callable[[], bytes]) -> bytes:
    path = settings.HOME / "cache" / room / key[:2] / (key + suffix)
    # The cache may be emptied between any two lines.
    with contextlib.suppress(OSError):
        return bytes(path.read_bytes())
    data = make()
    # Without room, or in a folder that may not be written, the picture is shown all the same.
    with contextlib.suppress(OSError):
        _write_whole(path, data)
    return data


def _write_whole(path: Path, data: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    partial = path.with_name(f".{path.name}.{uuid4().hex}.part")
    try:
        partial.write_bytes(data)
        partial.replace(path)
    finally:
        partial.unlink(missing_ok=True)


def cached_png(room: str, key: str, make: Callable[[], Picture]) -> bytes:
    """A grey or colour picture as PNG, made once for its key."""
    return _cached(room, key, ".png", lambda: stored_png(make()))


def cached_text(room: str, key: str, make: Callable[[], str]) -> str:
    """A text, made once for its key."""
    return _cached(room, hashlib.sha256(key.encode()).hexdigest(), ".txt", lambda: make().encode()).decode()


def be_ready() -> None:
    """Develop a picture of a few pixels, which loads what was compiled: the first crop is then as quick as any."""
    layout = Layout(BAYER, (("R", "G1"), ("G2", "B")))
    how = Development(layout, dict.fromkeys(layout.channels, 0.0), (1.0, 1.0, 1.0), None)
    develop_at_use(np.zeros((8, 8), np.uint16), Rect(0, 0, 8, 8), how, 2.0)
