"""What a blind trial shows. Two pictures have the same field on the same pixels and are equally bright: nothing but what is
to be judged tells them apart."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from yellowjacket.bench.decoding import mosaic_of
from yellowjacket.bench.development import Developing, Switches
from yellowjacket.bench.look import blind_stimuli
from yellowjacket.bench.models import BlindTrial, Frame, Rung
from yellowjacket.bench.prediction.clean_frame import Predicting, Wanted, wanted_of
from yellowjacket.core.judging.equal_field import Side, equal_field
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.raw.rect import Rect, clamped
from yellowjacket.core.rendering.develop import Development, mean_light

# Pixels of the picture at the use's size that are shown, one to a device pixel.
CROP_PX = (512, 480)
# Twice is enough: the second round only mends what clipping bent.
_BRIGHTNESS_ROUNDS = 2
# Darker than this nothing is brightened to, as a share of display white.
_DARKEST = 1e-4


@dataclass(frozen=True, slots=True)
class Made:
    """What a picture that was never shot is predicted from, and as what."""

    predicting: Predicting
    wanted: Wanted


@dataclass(frozen=True, slots=True)
class Shown:
    """A crop of a frame, how it is developed, and raw pixels to a pixel of it; ``made``: predicted instead of shot."""

    frame: Frame
    rect: Rect
    how: Development
    factor: float
    made: Made | None = None

    @property
    def pixels(self) -> tuple[NDArray[np.uint16], Rect]:
        """Raw numbers, and where in them the crop lies. Raises FrameError for an original that is gone."""
        if self.made is None:
            return mosaic_of(self.frame), self.rect
        return self.made.predicting.area(self.rect, self.made.wanted)


@dataclass(frozen=True, slots=True)
class _Side:
    frame: Frame
    how: Development
    spot: tuple[int, int]
    factor: float
    made: Made | None = None

    @property
    def size(self) -> Side:
        return Side(self.frame.width, self.frame.height, self.factor)

    def cut(self, width: int, height: int, factor: float) -> Shown:
        rect = clamped(self.frame.width, self.frame.height, self.spot, (width, height))
        return Shown(self.frame, rect, self.how, factor, self.made)


def shown_of(trial: BlindTrial, side: str) -> Shown | None:
    """The picture of a side, "left" or "right"; None where it has no frame. Raises FrameError for an original that is gone."""
    left, right = _side(trial, "left", trial.rung), _side(trial, "right", trial.other or trial.rung)
    own = right if side == "right" else left
    if own is None:
        return None
    if trial.other is None or left is None or right is None:
        return own.cut(round(CROP_PX[0] * own.factor), round(CROP_PX[1] * own.factor), own.factor)
    # Both are made whichever is asked for: how long an answer takes tells nothing either.
    pair = _equally_bright(*_alike(left, right, blind_stimuli.scale_between(trial)))
    return pair[side == "right"]


def _side(trial: BlindTrial, side: str, rung: Rung) -> _Side | None:
    frame = blind_stimuli.frame_of(trial, side)
    if frame is None:
        return None
    use = trial.round.use
    how = Developing.of(rung.ladder).of_frame(frame, rung.pk, Switches(monochrome=use.monochrome)).how
    factor, _ = use_noise_factor(rung.ladder.body.pixels, use.whole_frame_pixels)
    spot = blind_stimuli.spot_on(trial, side)
    if trial.predicted != side:
        return _Side(frame, how, spot, factor)
    predicting = Predicting.of(rung.ladder)
    if predicting is None:
        return None
    wanted = wanted_of(rung)
    how = predicting.development(predicting.asked(wanted), wanted, Switches(monochrome=use.monochrome))
    return _Side(predicting.frame, how, spot, factor, Made(predicting, wanted))


def _alike(left: _Side, right: _Side, scale: float) -> tuple[Shown, Shown]:
    one, other = equal_field(left.size, right.size, scale, CROP_PX)
    return left.cut(one.width, one.height, one.factor), right.cut(other.width, other.height, other.factor)


def _equally_bright(left: Shown, right: Shown) -> tuple[Shown, Shown]:
    for _ in range(_BRIGHTNESS_ROUNDS):
        one, other = (max(_light(side), _DARKEST) for side in (left, right))
        target = math.sqrt(one * other)
        left, right = _brighter(left, target / one), _brighter(right, target / other)
    return left, right


def _light(side: Shown) -> float:
    return mean_light(*side.pixels, side.how, side.factor)


def _brighter(side: Shown, by: float) -> Shown:
    red, green, blue = (round(gain * by, 9) for gain in side.how.gains)
    return replace(side, how=replace(side.how, gains=(red, green, blue)))
