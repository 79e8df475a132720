"""The pictures of a blind trial. Two bodies are shown with the same field, on the same pixels, equally bright, in as many
bytes: nothing but what is to be judged tells them apart."""

from __future__ import annotations

import io
import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from yellowjacket.bench.look import blind_rounds
from yellowjacket.bench.look.development import Developing, Switches
from yellowjacket.bench.models import BlindTrial, Frame, Rung
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import Development
from yellowjacket.web import pictures

# Pixels of the picture at the use's size that are shown, one to a device pixel.
CROP_PX = (512, 480)
LEFT, RIGHT = "left", "right"
# Twice is enough: the second round only mends what clipping bent.
_BRIGHTNESS_ROUNDS = 2


@dataclass(frozen=True, slots=True)
class _Side:
    """What is shown of one side: frame and development, the spot, raw pixels to a pixel of the use."""

    frame: Frame
    how: Development
    spot: tuple[int, int]
    factor: float


def picture_of(trial: BlindTrial, side: str) -> bytes | None:
    """The PNG of a side, None where it has no frame. Raises FrameError for an original that is gone."""
    rungs = {LEFT: trial.rung, RIGHT: trial.other or trial.rung}
    sides = {name: _side(trial, name, rung) for name, rung in rungs.items()}
    own = sides.get(side)
    if own is None:
        return None
    left, right = sides[LEFT], sides[RIGHT]
    if trial.other is None or left is None or right is None:
        return pictures.crop_png(own.frame, _cut(own, *(round(px * own.factor) for px in CROP_PX)), own.how, own.factor)
    # Both are made whichever is asked for: how long an answer takes tells nothing either.
    pair = _equally_bright(*_alike(left, right, blind_rounds.scale_between(trial)))
    return pair[side == RIGHT]


def _side(trial: BlindTrial, side: str, rung: Rung) -> _Side | None:
    frame = blind_rounds.frame_of(trial, side)
    if frame is None:
        return None
    use = trial.round.use
    how = Developing.of(rung.ladder).of_frame(frame, rung.pk, Switches(monochrome=use.monochrome)).how
    factor, _ = use_noise_factor(rung.ladder.body.pixels, use.whole_frame_pixels)
    return _Side(frame, how, blind_rounds.spot_on(trial, side), factor)


def _cut(side: _Side, width: int, height: int) -> Rect:
    return pictures.clamped(side.frame.width, side.frame.height, side.spot, (width, height))


def _alike(left: _Side, right: _Side, scale: float) -> list[tuple[_Side, Rect]]:
    """Both sides with one field on one number of pixels. ``scale``: pixels of the right frame to one of the left."""
    widths = [px * left.factor for px in CROP_PX[:1]] + [CROP_PX[0] * right.factor / scale]
    widths += [left.frame.width, right.frame.width / scale]
    heights = [left.frame.height, right.frame.height / scale]
    width = min(*widths, *(height * CROP_PX[0] / CROP_PX[1] for height in heights))
    # No body is enlarged: the one with fewer pixels in the field says how many are shown.
    shown = math.floor(min(width / left.factor, width * scale / right.factor))
    rows = math.floor(shown * CROP_PX[1] / CROP_PX[0])
    found = []
    for side, one in ((left, 1.0), (right, scale)):
        factor = width * one / shown
        found.append((replace(side, factor=factor), _cut(side, round(shown * factor), round(rows * factor))))
    return found


def _equally_bright(left: tuple[_Side, Rect], right: tuple[_Side, Rect]) -> list[bytes]:
    pair = [left, right]
    for _ in range(_BRIGHTNESS_ROUNDS):
        means = [max(float(_linear(_made(*one)).mean()), 1e-4) for one in pair]
        target = math.sqrt(means[0] * means[1])
        pair = [(_brighter(side, target / mean), rect) for (side, rect), mean in zip(pair, means, strict=True)]
    return [_made(*one) for one in pair]


def _made(side: _Side, rect: Rect) -> bytes:
    return pictures.crop_png(side.frame, rect, side.how, side.factor)


def _brighter(side: _Side, by: float) -> _Side:
    red, green, blue = (round(gain * by, 9) for gain in side.how.gains)
    return replace(side, how=replace(side.how, gains=(red, green, blue)))


def _linear(png: bytes) -> NDArray[np.float64]:
    """Display values as light (IEC 61966-2-1; from memory), shape (rows, columns, 3) or (rows, columns)."""
    values = np.asarray(Image.open(io.BytesIO(png)), np.float64) / 255
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)
