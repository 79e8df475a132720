"""Points in light frames: bright ones that are no detail, where no darks exist, and pixels that answer no light.

Less sure than darks: a lens draws no point on one pixel alone, but fine bright detail comes near it.
"""

from __future__ import annotations

from collections.abc import Sequence

import numba
import numpy as np
from numpy.typing import NDArray

from yellowjacket.core.darks.hot_pixels import DEAD, HOT, HotPixel
from yellowjacket.core.darks.pixel_statistics import insert
from yellowjacket.core.raw.frame import RawFrame

# Over the brightest of its neighbours by so many spreads of the texture around, and no less than the noise allows.
_BAR_SPREADS = 6.0
# A point of light spreads into the pixels beside it, of other colours; a hot pixel does not. What the four next to it
# stand over their own surroundings, as a share of what it does itself.
_BESIDE_SHARE = 0.25
_LEAST_DN = 3.0
# A pixel without response: below this share of its darkest neighbour of one colour, which must be clearly lit.
_DEAD_SHARE, _LIT_DN = 0.1, 60.0


@numba.njit(cache=True, nogil=True)
def _points(mosaic, row0, column0, step, bar, beside_share, least, places, values):  # type: ignore[no-untyped-def]
    """Sites of one channel brighter than any same-channel neighbour by a bar that the texture around them sets."""
    height, width = mosaic.shape
    around = np.empty(24, np.int32)
    found = 0
    for y in range(row0 + 2 * step, height - 2 * step, step):
        for x in range(column0 + 2 * step, width - 2 * step, step):
            own = np.int32(mosaic[y, x])
            if own <= mosaic[y, x - step] or own <= mosaic[y, x + step]:
                continue
            if own <= mosaic[y - step, x] or own <= mosaic[y + step, x]:
                continue
            highest, n = np.int32(0), 0
            for down in range(-2 * step, 2 * step + 1, step):
                for across in range(-2 * step, 2 * step + 1, step):
                    if down == 0 and across == 0:
                        continue
                    value = np.int32(mosaic[y + down, x + across])
                    if abs(down) <= step and abs(across) <= step:
                        highest = max(highest, value)
                    insert(around, n, value)
                    n += 1
            # From the first to the seventh eighth of the texture around: 2.3 σ of a normal one.
            spread = max((around[20] - around[3]) / 2.3, least / bar)
            over = own - highest
            if over < bar * spread:
                continue
            # What the pixels of other colours beside it stand over those two further on.
            beside = 0.0
            for k in range(4):
                down, across = (0, 0, 1, -1)[k], (1, -1, 0, 0)[k]
                near = np.float64(mosaic[y + down, x + across])
                far = np.float64(mosaic[y + 3 * down, x + 3 * across])
                beside = max(beside, near - far)
            if beside > beside_share * over + 2 * spread:
                continue
            if found == places.shape[0]:
                return found
            places[found, 0], places[found, 1] = x, y
            values[found, 0], values[found, 1] = own - around[12], spread
            found += 1
    return found


def bright_points(frame: RawFrame) -> list[HotPixel]:
    """Pixels of one textured light frame that look hot: less sure than from darks, and said so wherever they are shown.

    ``spreads`` of each is in spreads of the texture around it.
    """
    found: list[HotPixel] = []
    sites = [(channel, site) for channel in frame.channels for site in frame.layout.sites(channel)]
    # Interpolated samples have spread every point over its neighbours already.
    for channel, site in () if frame.layout.demosaiced else sites:
        places = np.empty((frame.mosaic.size // 200, 2), np.int32)
        values = np.empty((len(places), 2), np.float64)
        count = _points(
            np.ascontiguousarray(frame.mosaic), site.row, site.column, site.row_step, _BAR_SPREADS, _BESIDE_SHARE, _LEAST_DN,
            places, values,
        )  # fmt: skip
        for (x, y), (excess, spread) in zip(places[:count].tolist(), values[:count].tolist(), strict=True):
            found.append(HotPixel(x, y, channel, HOT, excess, excess / spread))
    return found


@numba.njit(cache=True, nogil=True)
def _unlit(plane, black, share, lit):  # type: ignore[no-untyped-def]
    rows, columns = plane.shape
    dead = np.zeros(plane.shape, np.bool_)
    for y in range(1, rows - 1):
        for x in range(1, columns - 1):
            own = plane[y, x] - black
            if plane[y, x - 1] - black < lit or own > share * (plane[y, x - 1] - black):
                continue
            lowest = 1e9
            for down in range(-1, 2):
                for across in range(-1, 2):
                    if down or across:
                        lowest = min(lowest, plane[y + down, x + across] - black)
            dead[y, x] = lowest >= lit and own < share * lowest
    return dead


def no_response(frames: Sequence[RawFrame]) -> list[HotPixel]:
    """Dead pixels: dark among lit neighbours of one colour in every one of some light frames, all of one size.

    Raises ValueError without frames or for several sizes. Where the scene is dark nothing can be told.
    """
    if not frames or len({frame.mosaic.shape for frame in frames}) != 1:
        raise ValueError("dead pixels are told from light frames of one size")
    found: list[HotPixel] = []
    layout = frames[0].layout
    for channel, number, site in ((c, n, s) for c in layout.channels for n, s in enumerate(layout.sites(c))):
        dead: NDArray[np.bool_] | None = None
        for frame in frames:
            one = _unlit(frame.planes(channel)[number], float(frame.black_dn[channel]), _DEAD_SHARE, _LIT_DN)
            dead = one if dead is None else dead & one
        if dead is None:
            continue
        for y, x in zip(*np.nonzero(dead), strict=True):
            plane = frames[0].planes(channel)[number]
            lack = float(plane[y, x]) - float(np.median(plane[y - 1 : y + 2, x - 1 : x + 2]))
            at_x = (site.column_step * int(x) + site.column) // layout.samples
            found.append(HotPixel(at_x, site.row_step * int(y) + site.row, channel, DEAD, lack, 0.0))
    return found
