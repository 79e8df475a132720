"""What a blind trial shows. Two pictures have the same field on the same pixels and are equally bright: nothing but what is
to be judged tells them apart."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from yellowjacket.bench.decoding import mosaic_of, rendered_pixels
from yellowjacket.bench.development import Developing, Switches
from yellowjacket.bench.look import blind_stimuli
from yellowjacket.bench.models import BlindTrial, Frame, LanePicture, Rung
from yellowjacket.bench.prediction.clean_frame import Predicting, Wanted, wanted_of
from yellowjacket.core.judging.equal_field import Side, equal_field
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.raw.picture_file import Picture
from yellowjacket.core.raw.rect import Rect, clamped
from yellowjacket.core.rendering.develop import Development, mean_light
from yellowjacket.core.renditions.picture import averaged_rendered, linear_of

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

    def light(self) -> float:
        """How bright it is as it is shown, as a share of display white."""
        return mean_light(*self.pixels, self.how, self.factor)

    def brighter(self, by: float) -> Shown:
        """The same, developed brighter."""
        red, green, blue = (round(gain * by, 9) for gain in self.how.gains)
        return replace(self, how=replace(self.how, gains=(red, green, blue)))


@dataclass(frozen=True, slots=True)
class Finished:
    """A crop of a lane's picture, its own pixels to a pixel of it, and by how much it is brightened in linear light."""

    picture: LanePicture
    rect: Rect
    factor: float
    monochrome: bool
    gain: float = 1.0

    def rendered(self) -> Picture:
        """As it is shown. Raises FrameError when the file is gone or damaged."""
        rect, pixels = self.rect, rendered_pixels(self.picture)
        cut = np.ascontiguousarray(pixels[rect.y : rect.y + rect.h, rect.x : rect.x + rect.w])
        return averaged_rendered(cut, self.factor, monochrome=self.monochrome, gain=self.gain)

    def light(self) -> float:
        """How bright it is as it is shown, as a share of display white."""
        return float(linear_of(self.rendered()).mean())

    def brighter(self, by: float) -> Finished:
        """The same, brighter."""
        return replace(self, gain=round(self.gain * by, 9))


@dataclass(frozen=True, slots=True)
class _Side:
    """A whole picture, where its spot lies, its pixels to a pixel of the use, and to one of the left side's frame."""

    width: int
    height: int
    spot: tuple[int, int]
    factor: float
    scale: float
    show: Callable[[Rect, float], Shown | Finished]

    @property
    def size(self) -> Side:
        return Side(self.width, self.height, self.factor)

    def cut(self, width: int, height: int, factor: float) -> Shown | Finished:
        return self.show(clamped(self.width, self.height, self.spot, (width, height)), factor)


def shown_of(trial: BlindTrial, side: str) -> Shown | Finished | None:
    """The picture of a side, "left" or "right"; None where it has none. Raises FrameError for an original that is gone."""
    left, right = _side(trial, "left", trial.rung), _side(trial, "right", trial.other or trial.rung)
    own = right if side == "right" else left
    if own is None:
        return None
    if trial.other is None or left is None or right is None:
        return own.cut(round(CROP_PX[0] * own.factor), round(CROP_PX[1] * own.factor), own.factor)
    # Both are made whichever is asked for: how long an answer takes tells nothing either.
    pair = _equally_bright(*_alike(left, right))
    return pair[side == "right"]


def _side(trial: BlindTrial, side: str, rung: Rung) -> _Side | None:
    use = trial.round.use
    factor, _ = use_noise_factor(rung.ladder.body.pixels, use.whole_frame_pixels)
    spot, scale = blind_stimuli.spot_on(trial, side), blind_stimuli.to_side(trial, side).scale
    if trial.other_lane_id if side == "right" else trial.lane_id:
        picture = blind_stimuli.finished_of(trial, side)
        if picture is None:
            return None
        # A finish has its own pixels; at the size of a use they are brought to the same scale, never enlarged.
        return _Side(
            picture.width, picture.height, spot, max(1.0, factor * picture.place.scale), scale,
            lambda rect, factor: Finished(picture, rect, factor, use.monochrome),
        )  # fmt: skip
    frame = blind_stimuli.frame_of(trial, side)
    if frame is None:
        return None
    made = None
    how = Developing.of(rung.ladder).of_frame(frame, rung.pk, Switches(monochrome=use.monochrome)).how
    if trial.predicted == side:
        predicting = Predicting.of(rung.ladder)
        if predicting is None:
            return None
        made = Made(predicting, wanted_of(rung))
        frame = predicting.frame
        how = predicting.development(predicting.asked(made.wanted), made.wanted, Switches(monochrome=use.monochrome))
    shown = Shown(frame, Rect(0, 0, frame.width, frame.height), how, factor, made)
    return _Side(
        frame.width, frame.height, spot, factor, scale,
        lambda rect, factor: replace(shown, rect=rect, factor=factor),
    )  # fmt: skip


def _alike(left: _Side, right: _Side) -> tuple[Shown | Finished, Shown | Finished]:
    one, other = equal_field(left.size, right.size, right.scale / left.scale, CROP_PX)
    return left.cut(one.width, one.height, one.factor), right.cut(other.width, other.height, other.factor)


def _equally_bright(left: Shown | Finished, right: Shown | Finished) -> tuple[Shown | Finished, Shown | Finished]:
    for _ in range(_BRIGHTNESS_ROUNDS):
        one, other = (max(side.light(), _DARKEST) for side in (left, right))
        target = math.sqrt(one * other)
        left, right = left.brighter(target / one), right.brighter(target / other)
    return left, right
