"""Pictures of noise for the Measure page: made from the cached mosaics, kept like crops."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

from yellowjacket.bench.decoding import raw_frame
from yellowjacket.bench.models import Frame, Rung, Shot
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.noise.maps import SHOWN_SIGMAS, difference_image, pattern_image
from yellowjacket.web import pictures

_VERSION = 1
# Long side of the picture: one pixel of it is at least a cell of the mosaic.
_LONG_SIDE_PX = 960
_NEEDS = {
    "difference": "needs two frames of this rung: shoot or import a second one",
    "pattern": "needs darks of this rung: shoot them with the lens capped",
}


@dataclass(frozen=True, slots=True)
class Described:
    """What a noise picture shows in words, and a digest for its address; no digest when there is none to show."""

    words: str
    tag: str = ""


@dataclass(frozen=True, slots=True)
class Shown:
    """A picture as PNG."""

    png: bytes


def described(rung: Rung, what: str) -> Described:
    """What the picture of a rung shows, or what it lacks."""
    frames = _frames(rung, what)
    if not frames:
        return Described(f"The {'fixed pattern' if what == 'pattern' else what} {_NEEDS[what]}.")
    cell = frames[0].mosaic_layout.cell
    side = cell * _step(frames[0])
    size = (
        f"{side} × {side} raw pixels averaged to one" if side > cell else f"one pixel for each cell of {cell} × {cell}"
    )
    if what == "difference":
        text = "What differs between the two frames: noise, and anything that moved"
    else:
        text = f"What stays in {counted(len(frames), 'dark')}: fixed pattern, bands, glow"
    return Described(
        f"{text}. Black to white is ±{SHOWN_SIGMAS:g} σ; slow shading is taken off; {size}.", _tag(frames, what)
    )


def noise_picture(rung: Rung, what: str) -> Shown | None:
    """The picture, or None when the rung lacks what it needs. Raises FrameError when an original is gone."""
    frames = _frames(rung, what)
    if not frames:
        return None
    return Shown(pictures.cached_png("noise", _tag(frames, what), lambda: _made(frames, what)))


def _made(frames: list[Frame], what: str) -> pictures.Picture:
    step = _step(frames[0])
    read = [raw_frame(frame) for frame in frames]
    found = difference_image(read[0], read[1], step) if what == "difference" else pattern_image(read, step)
    return found.picture


def _frames(rung: Rung, what: str) -> list[Frame]:
    if what not in _NEEDS:
        return []
    kind = Shot.Kind.LIGHT if what == "difference" else Shot.Kind.DARK
    found = list(Frame.objects.filter(shot__rung=rung, shot__kind=kind).defer("report").order_by("shot__repeat"))
    found = [frame for frame in found if (frame.width, frame.height) == (found[0].width, found[0].height)]
    if what == "difference":
        return found[:2] if len(found) > 1 else []
    return found


def _step(frame: Frame) -> int:
    return max(1, -(-max(frame.width, frame.height) // (frame.mosaic_layout.cell * _LONG_SIDE_PX)))


def _tag(frames: list[Frame], what: str) -> str:
    parts = [what, str(_VERSION), *(frame.sha256 for frame in frames)]
    return hashlib.sha256(" ".join(parts).encode()).hexdigest()
