"""Spots worth looking at, found once in a frame and kept beside the pictures."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict

from yellowjacket.bench.decoding import raw_frame
from yellowjacket.bench.development import Developing
from yellowjacket.bench.models import Frame
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.rendering.spots import Spot, spots_worth_looking_at
from yellowjacket.web import pictures

# Raise with every change of how spots are found.
_VERSION = 1


def of_frame(frame: Frame, developing: Developing) -> tuple[Sequence[Spot], str]:
    """Spots of a frame, and why there are none."""
    how = developing.clean(frame)

    def find() -> str:
        return json.dumps([asdict(spot) for spot in spots_worth_looking_at(raw_frame(frame), how)])

    try:
        text = pictures.cached_text("spots", f"{_VERSION} {frame.sha256} {how.gains}", find)
    except FrameError as error:
        return (), f"{error.reason} {error.remedy}"
    found = [Spot(**one) for one in json.loads(text)]
    return found, "" if found else "nothing stands out in this frame"
