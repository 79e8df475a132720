"""What single pixels of darks stand above their neighbours, and their average over darks; compiled: one walk over the
numbers, no copies of planes. Imported where it is called: the compiler takes its time to load.

All but the average works on a stack of repeats of one channel, uint16, shape (frames, rows, columns). The neighbourhood is
5 × 5 pixels of that channel, repeated at the edges.
"""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray

Stack = NDArray[np.uint16]
# Side of a tile in pixels of a channel.
_TILE_PX = 64
# Pixels of a neighbourhood up to its median, in order.
_TO_MIDDLE = 13
_CLIP_SIGMAS, _CLIP_ROUNDS = 5.0, 20
# Mean absolute deviation of a normal distribution, in σ.
_MEAN_DEVIATION = math.sqrt(2 / math.pi)
# Mean of those deviations of a normal distribution that lie below their mean, in σ.
_BELOW_MEAN = 0.378
_FEWEST = 8
# Pixels along the side of a tile that tell how its repeats lie to each other.
_SHIFT_SAMPLES = 16
# σ of two samples of one noise never differ by so much.
_CLEARLY_MORE = 1.1
# Farther than sums of numbers can be.
_NEVER = 1 << 30


@numba.njit(cache=True, nogil=True)
def insert(ordered, n, value):  # type: ignore[no-untyped-def]
    """Put a value into its place among the first ``n`` of an array that are in order already."""
    place = n
    while place > 0 and ordered[place - 1] > value:
        ordered[place] = ordered[place - 1]
        place -= 1
    ordered[place] = value


@numba.njit(cache=True, nogil=True)
def _middle(stack, frame, y, x, around):  # type: ignore[no-untyped-def]
    """Median of the 5 × 5 neighbourhood of one frame, or of the sum of all where ``frame`` is negative."""
    frames, rows, columns = stack.shape
    n = 0
    for down in range(-2, 3):
        row = min(max(y + down, 0), rows - 1)
        for across in range(-2, 3):
            column = min(max(x + across, 0), columns - 1)
            value = np.int32(0)
            if frame < 0:
                for k in range(frames):
                    value += np.int32(stack[k, row, column])
            else:
                value = np.int32(stack[frame, row, column])
            insert(around, n, value)
            n += 1
    return around[_TO_MIDDLE - 1]


@numba.njit(cache=True, nogil=True)
def _sample(stack, step, levels, excess):  # type: ignore[no-untyped-def]
    frames, rows, columns = stack.shape
    width = levels.shape[1]
    # A row of samples at a time: of each the lesser half of its neighbourhood, in order, and the number on its way in.
    lesser, coming, own = np.empty((_TO_MIDDLE, width), np.int32), np.empty(width, np.int32), np.empty(width, np.int32)
    for i in range(levels.shape[0]):
        lesser[:] = _NEVER
        for down in range(-2, 3):
            row = min(max(i * step + down, 0), rows - 1)
            for across in range(-2, 3):
                for j in range(width):
                    column = min(max(j * step + across, 0), columns - 1)
                    value = np.int32(0)
                    for k in range(frames):
                        value += np.int32(stack[k, row, column])
                    coming[j] = value
                if down == 0 and across == 0:
                    own[:] = coming
                for place in range(_TO_MIDDLE):
                    for j in range(width):
                        less, more = min(lesser[place, j], coming[j]), max(lesser[place, j], coming[j])
                        lesser[place, j] = less
                        coming[j] = more
        for j in range(width):
            levels[i, j] = lesser[_TO_MIDDLE - 1, j] / frames
            excess[i, j] = (own[j] - lesser[_TO_MIDDLE - 1, j]) / frames


def sample_step(stack: Stack) -> int:
    """Every how manieth pixel each way tells local levels and spreads: small frames have few tiles to smooth over."""
    pixels = stack.shape[1] * stack.shape[2]
    return 2 if pixels < 1_000_000 else 4 if pixels < 3_000_000 else 8


def sampled(stack: Stack, step: int) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Local median of the mean of all repeats, and what the pixel stands above it, at every ``step``-th pixel; DN.

    Shapes (height, width), DN.
    """
    shape = tuple(-(-length // step) for length in stack.shape[1:])
    levels, excess = np.empty(shape, np.float32), np.empty(shape, np.float32)
    _sample(stack, step, levels, excess)
    return levels, excess


@numba.njit(cache=True, nogil=True)
def _spread(values, least):  # type: ignore[no-untyped-def]
    """Mean deviation in σ; what lies beyond five of them is left out, again and again until nothing more goes.

    It begins from the deviations below their mean, which few outliers can reach.
    """
    whole, below, few = 0.0, 0.0, 0
    for n in range(values.size):
        whole += abs(values[n])
    for n in range(values.size):
        if abs(values[n]) * values.size <= whole:
            below += abs(values[n])
            few += 1
    spread, before = below / max(few, 1) / _BELOW_MEAN + 2 * least, -1
    for _ in range(_CLIP_ROUNDS):
        total, count = 0.0, 0
        for n in range(values.size):
            apart = abs(values[n])
            if apart <= _CLIP_SIGMAS * spread:
                total += apart
                count += 1
        if count < _FEWEST or count == before:
            break
        spread, before = max(least, total / count / _MEAN_DEVIATION), count
    return max(spread, least) if before > 0 else least


@numba.njit(cache=True, nogil=True)
def _tile_spreads(excess, least, found):  # type: ignore[no-untyped-def]
    rows, columns = found.shape
    for i in range(rows):
        top, bottom = i * excess.shape[0] // rows, (i + 1) * excess.shape[0] // rows
        for j in range(columns):
            left, right = j * excess.shape[1] // columns, (j + 1) * excess.shape[1] // columns
            found[i, j] = _spread(excess[top:bottom, left:right].copy().ravel(), least)


def spreads(excess: NDArray[np.float32], least: float, step: int) -> NDArray[np.float64]:
    """Spread of samples by tile, outliers out, never under ``least``; smoothed over neighbouring tiles.

    Told from the mean deviation: medians and quantiles of whole numbers come in steps.
    Shapes (rows, columns), DN.
    """
    rows, columns = (max(1, length * step // _TILE_PX) for length in excess.shape)
    found = np.empty((rows, columns))
    _tile_spreads(excess, least, found)
    padded = np.pad(found, 1, mode="edge")
    around = [padded[i : i + rows, j : j + columns] for i in range(3) for j in range(3)]
    return np.asarray(np.median(around, axis=0))


@numba.njit(cache=True, nogil=True)
def _bounds(stack, step, y, levels, spread, bar, once, shifts, ends, shift):  # type: ignore[no-untyped-def]
    """Within what the sum of all repeats and each of them stay along row ``y``, in whole numbers so that the walk over the pixels
    compares integers only: ``ends``, shape (4, columns), and by how much each repeat lies higher, (frames, columns)."""
    frames, rows, columns = stack.shape
    tile_rows, tile_columns = spread.shape
    i, tile_i = y // step, min(y * tile_rows // rows, tile_rows - 1)
    for j in range(levels.shape[1]):
        tile_j = min(j * step * tile_columns // columns, tile_columns - 1)
        local, level = spread[tile_i, tile_j], levels[i, j]
        here = (
            min(math.ceil((level + bar * local) * frames), _NEVER), max(math.floor((level - bar * local) * frames), -_NEVER),
            min(math.ceil(level + once * local), _NEVER), max(math.floor(level - once * local), -_NEVER),
        )  # fmt: skip
        for x in range(j * step, min((j + 1) * step, columns)):
            for end in range(4):
                ends[end, x] = here[end]
            for k in range(frames):
                shift[k, x] = shifts[k, tile_i, tile_j]


@numba.njit(cache=True, nogil=True)
def _outstanding(stack, step, levels, spread, bar, once, shifts, places):  # type: ignore[no-untyped-def]
    frames, rows, columns = stack.shape
    tile_rows = spread.shape[0]
    ends, shift = np.empty((4, columns), np.int32), np.empty((frames, columns), np.int32)
    total, highest, lowest = np.empty(columns, np.int32), np.empty(columns, np.int32), np.empty(columns, np.int32)
    out = np.empty(columns, np.uint8)
    found, tile_before = 0, -1
    for y in range(rows):
        tile_i = min(y * tile_rows // rows, tile_rows - 1)
        if y % step == 0 or tile_i != tile_before:
            _bounds(stack, step, y, levels, spread, bar, once, shifts, ends, shift)
            tile_before = tile_i
        # Plain walks over a row, of which the processor does several pixels at a time.
        for x in range(columns):
            value = np.int32(stack[0, y, x])
            total[x] = value
            highest[x] = lowest[x] = value - shift[0, x]
        for k in range(1, frames):
            for x in range(columns):
                value = np.int32(stack[k, y, x])
                total[x] += value
                value -= shift[k, x]
                highest[x] = max(highest[x], value)
                lowest[x] = min(lowest[x], value)
        any_out = np.uint8(0)
        for x in range(columns):
            beyond = (
                (total[x] > ends[0, x]) | (total[x] < ends[1, x]) | (highest[x] > ends[2, x]) | (lowest[x] < ends[3, x])
            )
            out[x] = beyond
            any_out |= out[x]
        if not any_out:
            continue
        for x in range(columns):
            if out[x]:
                if found == places.shape[0]:
                    return -1
                places[found, 0] = y
                places[found, 1] = x
                found += 1
    return found


def _shifts(stack: Stack, tiles: tuple[int, ...]) -> NDArray[np.int64]:
    """By how many DN each repeat lies over the mean of all, by tile; shape (frames, rows of tiles, columns of tiles)."""
    rows, columns = stack.shape[1:]
    side = min(rows // tiles[0], columns // tiles[1])
    within = np.arange(0, side, max(1, side // _SHIFT_SAMPLES))
    down, across = (
        (np.arange(n) * length // n)[:, None] + within for n, length in zip(tiles, (rows, columns), strict=True)
    )
    levels = np.median(stack[:, down[:, None, :, None], across[None, :, None, :]], axis=(3, 4))
    return np.asarray(np.rint(levels - levels.mean(axis=0)), np.int64)


def outstanding(
    stack: Stack, step: int, levels: NDArray[np.float32], spread: NDArray[np.float64], bar: float, once: float
) -> NDArray[np.int32] | None:
    """Places (row, column), shape (n, 2), whose mean stands about ``bar`` spreads off its level, or one repeat ``once``,
    either way; a repeat as a whole may lie higher than another, by the tile: a body warms up.

    Levels are those of a neighbour less than a step off: ask for a bar a little under the one that is meant. None
    where more than a twentieth of all pixels do: that is no dark.
    """
    places = np.empty((max(64, stack[0].size // 20), 2), np.int32)
    found = _outstanding(stack, step, levels, spread, bar, once, _shifts(stack, spread.shape), places)
    return None if found < 0 else places[:found].copy()


@numba.njit(cache=True, nogil=True)
def _excesses(stack, places, mean, each, beside):  # type: ignore[no-untyped-def]
    around = np.empty(25, np.int32)
    eight = np.empty(8, np.int32)
    frames, rows, columns = stack.shape
    for n in range(places.shape[0]):
        y, x = places[n, 0], places[n, 1]
        level = _middle(stack, -1, y, x, around)
        own = np.int32(0)
        for k in range(frames):
            own += np.int32(stack[k, y, x])
            each[n, k] = np.float32(stack[k, y, x]) - np.float32(_middle(stack, k, y, x, around))
        count = 0
        for down in range(-1, 2):
            for across in range(-1, 2):
                if down == 0 and across == 0:
                    continue
                row, column = min(max(y + down, 0), rows - 1), min(max(x + across, 0), columns - 1)
                value = np.int32(0)
                for k in range(frames):
                    value += np.int32(stack[k, row, column])
                insert(eight, count, value)
                count += 1
        mean[n] = (own - level) / frames
        beside[n, 0] = ((eight[3] + eight[4]) / 2 - level) / frames
        beside[n, 1] = (eight[7] - level) / frames


def excesses(
    stack: Stack, places: NDArray[np.int32]
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]]:
    """What each place stands above its neighbourhood's median, DN: mean of the repeats (n,), every repeat (n, frames),
    and (n, 2) the median and the largest of its eight nearest neighbours of one colour. Shapes in brackets."""
    count = len(places)
    mean, each = np.empty(count, np.float32), np.empty((count, stack.shape[0]), np.float32)
    beside = np.empty((count, 2), np.float32)
    _excesses(stack, places, mean, each, beside)
    return mean, each, beside


def spread_at(spread: NDArray[np.float64], places: NDArray[np.int32], shape: tuple[int, int]) -> NDArray[np.float64]:
    """The spread of the tile each place lies in; ``shape``: of the plane."""
    rows, columns = spread.shape
    i = np.minimum(places[:, 0].astype(np.int64) * rows // shape[0], rows - 1)
    j = np.minimum(places[:, 1].astype(np.int64) * columns // shape[1], columns - 1)
    return np.asarray(spread[i, j])


def repeat_sigma(stack: Stack) -> float:
    """σ in DN of one frame, told from the difference of the first two at a sample of pixels, or where a body warmed up and the
    last two scatter clearly more, of those."""
    first, last = _difference_sigma(stack[:2]), _difference_sigma(stack[-2:])
    return last if last > _CLEARLY_MORE * first else first


def _difference_sigma(pair: Stack) -> float:
    step = sample_step(pair)
    first, second = pair[0, ::step, ::step], pair[1, ::step, ::step]
    difference = first.astype(np.float32) - second.astype(np.float32)
    return float(_spread(difference.ravel() - np.float32(np.median(difference)), 0.29)) / math.sqrt(2)


@numba.njit(cache=True, nogil=True)
def _tile_levels(stack, side, step, levels, apart):  # type: ignore[no-untyped-def]
    """Median of sampled sums by tile, and how far each sample lies from it."""
    frames = stack.shape[0]
    each = -(-side // step)
    count = each * each
    ordered = np.empty(count, np.int64)
    for i in range(levels.shape[0]):
        for j in range(levels.shape[1]):
            n = 0
            for y in range(i * side, (i + 1) * side, step):
                for x in range(j * side, (j + 1) * side, step):
                    total = np.int64(0)
                    for k in range(frames):
                        total += np.int64(stack[k, y, x])
                    # Kept in order as they come; written down as they came.
                    apart[i, j, n] = total / frames
                    insert(ordered, n, total)
                    n += 1
            levels[i, j] = (ordered[(n - 1) // 2] + ordered[n // 2]) / 2 / frames
            for m in range(n):
                apart[i, j, m] -= levels[i, j]


@numba.njit(cache=True, nogil=True)
def _tile_sums_within(stack, side, levels, bound, means, variances):  # type: ignore[no-untyped-def]
    """Mean, and half the variance of the difference of neighbouring frames, of pixels within ``bound`` of the level.

    Their mean difference is none of the noise: a body that warms up shifts one against the other.
    """
    frames = stack.shape[0]
    shift = np.zeros(max(frames - 1, 1), np.int64)
    for i in range(levels.shape[0]):
        for j in range(levels.shape[1]):
            shift[:] = 0
            low = np.int64(math.ceil((levels[i, j] - bound) * frames))
            high = np.int64(math.floor((levels[i, j] + bound) * frames))
            total, square, count = np.int64(0), np.int64(0), 0
            for y in range(i * side, (i + 1) * side):
                for x in range(j * side, (j + 1) * side):
                    own = np.int64(0)
                    for k in range(frames):
                        own += np.int64(stack[k, y, x])
                    if low <= own <= high:
                        total += own
                        count += 1
                        for k in range(frames - 1):
                            apart = np.int64(stack[k, y, x]) - np.int64(stack[k + 1, y, x])
                            square += apart * apart
                            shift[k] += apart
            count = max(count, 2)
            means[i, j] = total / frames / count
            shifted = 0.0
            for k in range(frames - 1):
                shifted += shift[k] * shift[k] / count
            variances[i, j] = (square - shifted) / 2 / (count - 1) / max(frames - 1, 1)


# Every nth pixel of a tile each way tells its level.
_LEVEL_STEP = 4


def ordinary_tiles(stack: Stack, side: int, bar: float) -> tuple[NDArray[np.float64], NDArray[np.float64], float]:
    """By tile of ``side`` pixels the mean in DN and the temporal variance in DN² (NaN from one frame) of pixels within
    ``bar`` spreads of the tile's level; and the median over a sample of all pixels. Shapes (rows of tiles,
    columns of tiles).
    """
    side = min(side, *stack.shape[1:])
    shape = (stack.shape[1] // side, stack.shape[2] // side)
    levels = np.empty(shape)
    apart = np.empty((*shape, (-(-side // _LEVEL_STEP)) ** 2))
    _tile_levels(stack, side, _LEVEL_STEP, levels, apart)
    bound = bar * float(_spread(apart.ravel(), 0.29 / math.sqrt(stack.shape[0])))
    means, variances = np.empty(shape), np.empty(shape)
    _tile_sums_within(stack, side, levels, bound, means, variances)
    if stack.shape[0] < 2:
        variances[:] = math.nan
    return means, variances, float(np.median(apart + levels[..., None]))


@numba.njit(cache=True, nogil=True)
def add_dark(mosaic, total, highest, second, lowest, first):  # type: ignore[no-untyped-def]
    """Add a dark, uint16 of shape (rows, columns), to sums of that shape, and keep the extremes of every pixel."""
    for y in range(mosaic.shape[0]):
        for x in range(mosaic.shape[1]):
            value = mosaic[y, x]
            total[y, x] += np.uint32(value)
            if first:
                highest[y, x] = value
                second[y, x] = 0
                lowest[y, x] = value
            elif value > highest[y, x]:
                second[y, x] = highest[y, x]
                highest[y, x] = value
            else:
                second[y, x] = max(second[y, x], value)
                lowest[y, x] = min(lowest[y, x], value)


@numba.njit(cache=True, nogil=True)
def average_without_outliers(total, highest, second, lowest, count, sigma, shot, bar, black, out):  # type: ignore[no-untyped-def]
    """Average of each pixel without extremes that lie far off the core of its numbers; returns how many were left out."""
    left_out = 0
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            high, low, whole = np.int64(highest[y, x]), np.int64(lowest[y, x]), np.int64(total[y, x])
            next_high = np.int64(second[y, x])
            core, n = whole - high - low, count - 2
            if count >= 5:
                core, n = core - next_high, count - 3
            level = core / n
            # The pixel's own dark signal lets its numbers scatter, and their core is uncertain too.
            allowed = bar * math.sqrt((sigma * sigma + max(level - black, 0.0) * shot) * (1 + 1 / n))
            kept, m = whole, count
            if high - level > allowed:
                kept, m = kept - high, m - 1
            if count >= 5 and next_high - level > allowed:
                kept, m = kept - next_high, m - 1
            if level - low > allowed:
                kept, m = kept - low, m - 1
            left_out += count - m
            out[y, x] = kept / m
    return left_out
