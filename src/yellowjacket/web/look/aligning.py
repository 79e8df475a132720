"""By how much frames of one ladder lie off one another at a spot; told once, kept beside the pictures."""

from __future__ import annotations

import json

import numpy as np
from numpy.typing import NDArray

from yellowjacket.bench.decoding import raw_frame
from yellowjacket.bench.models import Frame
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.raw.rect import Rect, clamped
from yellowjacket.core.registration.similarity import NoMatch, shift_between
from yellowjacket.web import pictures

# A window of raw pixels around the spot, on a grid, so that neighbouring spots share what was told.
_WINDOW_PX, _GRID_PX = 384, 128


def shift_of(reference: Frame, frame: Frame, rect: Rect) -> tuple[float, float]:
    """Pixels (x, y) by which a frame must be moved to lie on the reference around a crop. Raises NoMatch."""
    if (reference.width, reference.height) != (frame.width, frame.height):
        raise NoMatch("The frames differ in size.")
    window = _window(frame, rect)
    key = f"{reference.sha256} {frame.sha256} {window.x},{window.y}"
    found = json.loads(pictures.cached_text("shifts", key, lambda: json.dumps(_told(reference, frame, window))))
    if "why" in found:
        raise NoMatch(found["why"])
    return float(found["x"]), float(found["y"])


def _told(reference: Frame, frame: Frame, window: Rect) -> dict[str, object]:
    try:
        x, y = shift_between(_green(reference, window), _green(frame, window))
    except NoMatch as error:
        return {"why": str(error)}
    except FrameError as error:
        return {"why": f"{error.reason} {error.remedy}"}
    cell = frame.mosaic_layout.cell
    return {"x": cell * x, "y": cell * y}


def _window(frame: Frame, rect: Rect) -> Rect:
    centre = [
        (at + half // 2) // _GRID_PX * _GRID_PX + _GRID_PX // 2 for at, half in ((rect.x, rect.w), (rect.y, rect.h))
    ]
    side = min(_WINDOW_PX, frame.width // 2 * 2, frame.height // 2 * 2)
    found = clamped(frame.width, frame.height, (centre[0], centre[1]), (side, side))
    return Rect(found.x // 2 * 2, found.y // 2 * 2, side - 2, side - 2)


def _green(frame: Frame, window: Rect) -> NDArray[np.float32]:
    raw = raw_frame(frame)
    parts = [window.cells(raw, name).astype(np.float32) - raw.black_dn[name] for name in raw.layout.greens]
    return np.sqrt(np.maximum(sum(parts[1:], parts[0]) / len(parts), 0)).astype(np.float32)
