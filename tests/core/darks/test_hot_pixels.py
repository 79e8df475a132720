"""Pixels that are not like their neighbours, on darks whose every pixel is known."""

import numpy as np
import pytest
from scipy.ndimage import median_filter

from tests import darks, making
from tests.making import CHANNELS
from yellowjacket.core.darks.hot_pixels import (
    BLINKING,
    DEAD,
    HOT,
    STUCK,
    TRANSIENT,
    WARM,
    also_in,
    coming_back,
    hot_pixels,
    showing_at,
    standing_at,
)
from yellowjacket.core.darks.pixel_statistics import excesses, outstanding, sample_step, sampled, spreads
from yellowjacket.core.metrology.intervals import density

S_DN = darks.READ_DN / np.sqrt(2)


def kinds_of(table) -> dict[tuple[int, int], str]:
    return {(one.x, one.y): one.kind for one in table.pixels()}


def test_the_neighbourhood_is_a_median_of_25_of_one_colour(rng):
    stack = np.stack([darks.dark(rng)[::2, ::2] for _ in range(2)])
    places = np.array([[0, 0], [0, 57], [40, 40], [127, 191], [63, 2]], np.int32)
    mean, each, beside = excesses(stack, places)
    whole = stack.astype(np.float64).mean(axis=0)
    expected = whole - median_filter(whole, size=5, mode="nearest")
    assert mean == pytest.approx(expected[tuple(places.T)])
    for k in range(2):
        own = stack[k].astype(np.float64)
        assert each[:, k] == pytest.approx((own - median_filter(own, size=5, mode="nearest"))[tuple(places.T)])
    around = np.delete(whole[39:42, 39:42].ravel(), 4)
    level = median_filter(whole, size=5, mode="nearest")[40, 40]
    assert beside[2] == pytest.approx([np.median(around) - level, around.max() - level])


def test_levels_and_spreads_are_sampled_like_the_whole(rng):
    stack = np.stack([darks.dark(rng, rate_e=1.0)[::2, ::2] for _ in range(2)])
    step = sample_step(stack)
    levels, apart = sampled(stack, step)
    whole = median_filter(stack.astype(np.float64).mean(axis=0), size=5, mode="nearest")
    assert levels == pytest.approx(whole[::step, ::step])
    spread = spreads(apart, 0.29, step)
    # Two frames averaged; the median of 25 that each is held against counts the pixel itself.
    sigma = np.sqrt(darks.READ_DN**2 + 60 / darks.GAIN**2 + 1 / 12) / np.sqrt(2)
    assert np.median(spread) == pytest.approx(sigma, rel=0.08)


@pytest.mark.parametrize("repeats", [2, 5])
def test_what_stands_out_is_what_a_plain_comparison_finds(rng, repeats):
    stack = np.stack([darks.dark(rng, hot=[(20, 30, 9.0)])[::2, ::2] for _ in range(repeats)])
    stack[-1] += 3
    stack[0, 7, 9] += 90
    stack[:, 90, 111] -= 40
    step = 4
    levels, apart = sampled(stack, step)
    spread = spreads(apart, 0.29, step)
    level = levels.repeat(step, axis=0).repeat(step, axis=1)[: stack.shape[1], : stack.shape[2]].astype(np.float64)
    rows, columns = np.indices(level.shape)
    tile = rows * spread.shape[0] // level.shape[0], columns // step * step * spread.shape[1] // level.shape[1]
    local = spread[tile]
    # The last repeat lies three numbers over the others.
    shifts = np.rint(3 * (np.arange(repeats) == repeats - 1) - 3 / repeats)
    each = stack - shifts[:, None, None]
    found = outstanding(stack, step, levels, spread, 4.0, 8.0)
    far = np.abs(stack.mean(axis=0) - level) - 4 * local
    once = np.maximum(each.max(axis=0) - level, level - each.min(axis=0)) - 8 * local
    told = np.zeros(level.shape, bool)
    told[tuple(found.T)] = True
    assert 3 <= len(found) < 60
    # By how much a repeat lies higher is told by the tile, to a number: within two of a bar either is right.
    sure = (np.abs(far) > 2) & (np.abs(once) > 2)
    assert np.array_equal(told[sure], ((far > 0) | (once > 0))[sure])
    assert told[[15, 7, 90], [10, 9, 111]].all()


def test_a_picture_is_refused(rng):
    light = [making.frame_of(making.shot(100, rng)) for _ in range(2)]
    light[0].mosaic[::3, ::2] += 900
    light[1].mosaic[::3, ::2] += 900
    with pytest.raises(ValueError, match="not darks"):
        hot_pixels(light, None)
    stack = np.stack([frame.cells("R") for frame in light])
    levels, _ = sampled(stack, 2)
    assert outstanding(stack, 2, levels, np.full((1, 1), 0.3), 4.0, 8.0) is None


def test_every_class_is_told(rng):
    frames = darks.frames(rng, 3, hot=[(100, 50, 2.0), (201, 77, 0.2)])
    for frame in frames:
        frame.mosaic[30, 30] = making.WHITE
        frame.mosaic[90, 91] = making.BLACK - 60
    frames[0].mosaic[140, 140] += 400
    for n in (0, 2):
        frames[n].mosaic[201, 300] += 400
    shortest = making.frame_of(darks.dark(rng, 1.0))
    shortest.mosaic[30, 30] = making.WHITE
    table = hot_pixels(frames, darks.GAIN, shortest)
    kinds = kinds_of(table)
    assert kinds[100, 50] == HOT
    assert kinds[201, 77] in (HOT, WARM)
    assert kinds[30, 30] == STUCK
    assert kinds[91, 90] == DEAD
    assert kinds[140, 140] == TRANSIENT
    assert kinds[300, 201] == BLINKING
    assert len(kinds) <= 8


def test_channels_are_those_of_the_mosaic(rng):
    places = [(100, 50), (101, 50), (100, 51), (101, 51)]
    table = hot_pixels(darks.frames(rng, hot=[(x, y, 3.0) for x, y in places]), darks.GAIN)
    found = {one.channel: (one.x, one.y) for one in table.pixels() if one.kind == HOT}
    assert found == dict(zip(CHANNELS, places, strict=True))


def test_warm_lies_between_the_bars(rng):
    rates = np.linspace(0.04, 0.3, 60)
    places = [(10 + 6 * n, 20 + (n % 20) * 10, rate) for n, rate in enumerate(rates)]
    table = hot_pixels(darks.frames(rng, 4, hot=places), darks.GAIN)
    warm = [one.spreads for one in table.pixels() if one.kind == WARM]
    hot = [one.spreads for one in table.pixels() if one.kind == HOT]
    assert warm
    assert min(warm) > 5.5
    assert min(hot) > 8.0
    assert np.median(warm) < 10 < np.median(hot)


def test_shot_noise_of_a_bright_one_is_no_change(rng):
    # 120 e⁻/s over a minute: its repeats differ by 240 DN and more, forty times what others do.
    table = hot_pixels(darks.frames(rng, 4, hot=[(150, 100, 120.0)]), darks.GAIN)
    assert kinds_of(table)[150, 100] == HOT


def test_a_body_that_warms_up_between_repeats_makes_none_blink(rng):
    places = [(20 + 15 * n, 30 + 9 * (n % 20), 20.0 + 4 * n) for n in range(24)]
    frames = []
    for warmth in (1.0, 1.12, 1.25):
        (frame,) = darks.frames(rng, 1, hot=[(x, y, rate * warmth) for x, y, rate in places])
        frame.mosaic[200, 200] = making.WHITE
        frames.append(frame)
    kinds = kinds_of(hot_pixels(frames, darks.GAIN))
    assert {kinds[x, y] for x, y, _ in places} == {HOT}
    # One that is cut off in all of them is alike in all of them.
    assert kinds[200, 200] == HOT


@pytest.mark.parametrize("glow", [0.0, 6.0])
def test_a_body_that_warms_by_ten_degrees_during_a_rung_is_still_dark(rng, glow):
    """Every pixel brighter from repeat to repeat, an edge most of all: what stands out is what stands out of each repeat."""
    places = [(20 + 15 * n, 30 + 9 * (n % 20), 20.0 + 4 * n) for n in range(24)]
    edge = glow * np.exp(-np.arange(darks.SHAPE[1]) / 60)
    frames = []
    for warmth in (1.0, 1.5, 2.2, 3.2):
        expected = np.broadcast_to(60 * warmth * (4.0 + edge), darks.SHAPE).copy()
        for x, y, rate in places:
            expected[y, x] += 60 * warmth * rate
        numbers = rng.poisson(expected) / darks.GAIN + rng.normal(0, darks.READ_DN, darks.SHAPE) + making.BLACK
        frames.append(making.frame_of(np.rint(numbers).astype(np.uint16)))
    kinds = kinds_of(hot_pixels(frames, darks.GAIN))
    assert {kinds[x, y] for x, y, _ in places} == {HOT}
    # Of 280 000 ordinary ones hardly any is mistaken.
    assert len(kinds) - len(places) <= 6


def test_a_flash_that_comes_back_at_another_time_blinks(rng):
    tables = []
    for seconds in (30.0, 60.0, 120.0):
        frames = darks.frames(rng, 2, seconds=seconds)
        if seconds > 30:
            frames[0].mosaic[80, 120] += 300
        frames[1].mosaic[10 + int(seconds), 200] += 300
        tables.append(hot_pixels(frames, darks.GAIN))
    before, after = kinds_of(tables[1]), kinds_of(coming_back(tables)[1])
    assert before[120, 80] == TRANSIENT
    assert after[120, 80] == BLINKING
    assert after[200, 70] == TRANSIENT


def test_repair_leaves_pairs_of_one_colour(rng):
    lone = [(40, 40, 4.0), (200, 100, 4.0), (300, 60, 4.0)]
    pair = [(100, 150, 4.0), (102, 150, 3.0)]
    diagonal_other_colour = [(250, 200, 4.0), (251, 201, 4.0)]
    table = hot_pixels(darks.frames(rng, 4, hot=[*lone, *pair, *diagonal_other_colour]), darks.GAIN)
    assert standing_at(table) == 7
    assert showing_at(table, 0.0, repaired=True) == 1


def test_fewer_stand_out_when_pixels_are_averaged(rng):
    places = [(20 + 15 * n, 30 + 9 * n, 0.15 * 1.4**n) for n in range(20)]
    table = hot_pixels(darks.frames(rng, 4, hot=places), darks.GAIN)
    counts = [standing_at(table, factor) for factor in (1.0, 2.0, 4.0, 16.0)]
    assert counts == sorted(counts, reverse=True)
    assert counts[0] > counts[2] > 0
    # Averaging over f × f leaves excess/f² over spread/f: the bar is f times as high.
    rows = [one for one in table.pixels() if one.kind == HOT]
    assert counts[1] == sum(one.spreads > 16 for one in rows)


@pytest.mark.parametrize(("count", "low", "high"), [(0, 0.0, 3.689), (5, 1.623, 11.668), (10, 4.795, 18.390)])
def test_density_has_the_exact_interval_of_a_count(count, low, high):
    """Garwood (1936), Biometrika 28:437, 95 % limits of a Poisson count (from memory)."""
    found = density(count, 2.0)
    assert found.value == count / 2
    assert (found.low, found.high) == pytest.approx((low / 2, high / 2), abs=0.001)


def test_what_persists_stands_in_both(rng):
    stays = [(30 + 12 * n, 60, 3.0) for n in range(20)]
    first = hot_pixels(darks.frames(rng, hot=[*stays, (300, 200, 3.0)]), darks.GAIN)
    second = hot_pixels(darks.frames(rng, hot=[*stays, (310, 210, 3.0)]), darks.GAIN)
    share = also_in(first, [second])
    assert share.value == pytest.approx(20 / 21)
    assert share.low < 20 / 21 < share.high <= 1
    assert also_in(hot_pixels(darks.frames(rng), darks.GAIN), [second]).value is None


def test_a_clean_sensor_has_none(rng):
    table = hot_pixels(darks.frames(rng, 2, rate_e=2.0), darks.GAIN)
    assert len(table.rows) == 0


@pytest.mark.parametrize("count", [0, 1])
def test_one_dark_tells_nothing(rng, count):
    with pytest.raises(ValueError, match="two or more"):
        hot_pixels(darks.frames(rng, count), None)


def test_without_a_gain_the_darks_own_noise_tells_pixels_apart(rng):
    """What was hit while it stood out already is no hot pixel as it seems: with light frames or without, the same is said."""
    rates = np.geomspace(0.4, 8, 60)
    hot = [(12 + 6 * n, 16 + (37 * n) % 220, rate) for n, rate in enumerate(rates)]
    hit = [(x, y, 120.0) for x, y, _ in hot[:10]]
    made = [making.frame_of(darks.dark(rng, hot=hot, extra=hit if n == 0 else ())) for n in range(3)]
    told, alone = (kinds_of(hot_pixels(made, gain)) for gain in (darks.GAIN, None))
    assert alone == told
    assert sum(alone[x, y] == HOT for x, y, _ in hot[10:]) >= 48
    assert sum(alone.get(one[:2]) == HOT for one in hit) <= 2


def test_the_gain_by_repeats_is_the_gain(rng):
    from yellowjacket.core.darks.hot_pixels import _candidates, _gain_by_repeats, _warming

    hot = [(8 + 8 * (n % 46), 16 + 40 * (n // 46), 3.0 + 0.1 * n) for n in range(230)]
    for count in (2, 4):
        made = darks.frames(rng, count, hot=hot)
        found = [_candidates(made, channel, 0, 8.0) for channel in CHANNELS]
        assert _gain_by_repeats(found, _warming(found)) == pytest.approx(darks.GAIN, rel=0.25)
