"""Noise and clipping of a rectangle of frames in one channel, whatever their layout: one answer for plans and single files."""

from __future__ import annotations

from collections.abc import Sequence

from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.intervals import proportion
from yellowjacket.core.noise.two_frame import PairNoise, joint_noise, pair_noise, single_noise
from yellowjacket.core.raw.clipping import clipped_share
from yellowjacket.core.raw.frame import RawFrame
from yellowjacket.core.raw.rect import Rect


def area_noise(frames: Sequence[RawFrame], rect: Rect, channel: str, black_dn: float) -> PairNoise:
    """Signal above black and temporal noise in DN: of the first two frames as a pair, of one alone an upper bound.

    The rectangle must lie inside the frames, which are of one size.
    """
    white = frames[0].white_dn
    first = rect.parts(frames[0], channel)
    if len(frames) < 2:
        return joint_noise([single_noise(part, black_dn, clip_dn=white) for part in first])
    second = rect.parts(frames[1], channel)
    return joint_noise([pair_noise(a, b, black_dn, clip_dn=white) for a, b in zip(first, second, strict=True)])


def area_clipped(
    frames: Sequence[RawFrame], rect: Rect, channel: str, black_dn: float, clip_dn: float | None = None
) -> Quantity:
    """Share of pixels that clip, over all frames given, with its interval. ``clip_dn``: where the channel stops, else
    the white of the file."""
    found = [
        (clipped_share(part, black_dn, frame.white_dn if clip_dn is None else clip_dn), part.size)
        for frame in frames
        for part in rect.parts(frame, channel)
    ]
    n = sum(size for _, size in found)
    return proportion(sum(share * size for share, size in found) / n if n else 0.0, n)
