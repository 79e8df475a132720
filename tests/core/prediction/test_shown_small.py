"""Pictures that are drawn point by point against the same pictures drawn pixel by pixel, and against SciPy's distributions."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats

from yellowjacket.core.prediction.predicted_mosaic import Asked, HotPixels, predicted
from yellowjacket.core.prediction.sensor_at import SensorAt
from yellowjacket.core.prediction.shown_small import as_interpolated, blocks_of, is_small_enough, predicted_means
from yellowjacket.core.raw.frame import BAYER, LINEAR, Layout
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import (
    DEVELOPERS,
    Development,
    averaged,
    develop_at_use,
    develop_means,
    interpolated_crop,
)

LAYOUT = Layout(BAYER, (("R", "G1"), ("G2", "B")))
SIX = Layout("any", tuple(tuple("RGB"[(2 * row + column) % 3] for column in range(6)) for row in range(6)))
FACTOR, POINTS = 20, (60, 80)
SIDES = (POINTS[0] * FACTOR, POINTS[1] * FACTOR)


def at(iso, gain, read_e, *, black=512.0, **more):
    gains, blacks = (dict.fromkeys(LAYOUT.channels, value) for value in (gain, black))
    return SensorAt(iso, gains, blacks, blacks, clip_dn=16383.0, saturation_e=14000 * gain, read_noise_e=read_e, **more)


CLEAN = at(100, 4.0, 3.0)


def asked_of(light=0.02, target=None, **more):
    by = dict(zip(LAYOUT.channels, (0.8 * light, light, light, 0.6 * light), strict=True))
    return Asked(CLEAN, target or at(5000, 4.0 * light, 4.0), by, **more)


@pytest.fixture(scope="module")
def flat():
    """A clean frame of an even grey, with its own photon and read noise."""
    rng = np.random.default_rng(5)
    electrons = rng.poisson(6000.0, SIDES) + 3.0 * rng.standard_normal(SIDES)
    return np.rint(electrons / 4.0 + 512).astype(np.uint16)


def block_means(mosaic, target):
    blocks = blocks_of(mosaic, LAYOUT, POINTS)
    tiles = blocks.tall * blocks.wide
    return {
        name: blocks.sums[site.row * 2 + site.column] / tiles - target.tag_dn[name]
        for name in LAYOUT.channels for site in LAYOUT.sites(name)
    }  # fmt: skip


@pytest.mark.parametrize(
    "asked",
    [
        asked_of(), asked_of(0.5), asked_of(1.0, at(400, 4.0, 6.0)), asked_of(2e-5, at(5000, 0.5, 2.5)),
        asked_of(0.02, at(5000, 0.08, 4.0, row_noise_e=1.5, column_noise_e=1.0)), asked_of(dark_e=30.0),
        asked_of(0.02, at(5000, 0.4, 1.0, code_step=4)),
    ],
    ids=["few", "half", "all", "nearly dark", "lines", "dark signal", "coarse codes"],
)  # fmt: skip
def test_means_and_noise_are_those_of_every_pixel_drawn(flat, asked):
    """Means within four of their errors, noise within 3 %: so many points tell it to 0.7 %."""
    blocks = blocks_of(flat, LAYOUT, POINTS)
    whole = [block_means(predicted(flat, (0, 0), LAYOUT, asked, seed).mosaic, asked.target) for seed in range(4)]
    at_once = [predicted_means(blocks, LAYOUT, asked, seed) for seed in range(4, 8)]
    lines = bool(asked.target.row_noise_e)
    for name in LAYOUT.channels:
        one, other = (np.array([picture[name] for picture in found]) for found in (whole, at_once))
        # Lines are shared by all points along them: there are fewer of them to tell mean and noise from.
        error = np.hypot(one.std(), other.std()) / np.sqrt(one.size) * (7 if lines else 1)
        assert abs(one.mean() - other.mean()) < 4 * error
        assert other.std() == pytest.approx(one.std(), rel=0.10 if lines else 0.03)


@pytest.mark.parametrize("factor", [16.0, 20.0, 21.3])
@pytest.mark.parametrize("developer", DEVELOPERS)
def test_it_is_shown_as_what_is_developed_and_averaged(flat, developer, factor):
    """Brightness and noise on the screen as of a picture that was drawn, developed and averaged pixel by pixel."""
    asked, points = asked_of(), (int(SIDES[0] / factor), int(SIDES[1] / factor))
    area = Rect(0, 0, round(points[1] * factor), round(points[0] * factor))
    cut = np.ascontiguousarray(flat[: area.h, : area.w])
    how = Development(LAYOUT, dict(asked.target.tag_dn), (1 / 3000, 1 / 3000, 1 / 3000), None, developer)
    blocks, pixel_by_pixel, at_once = blocks_of(cut, LAYOUT, points), [], []
    for seed in range(4):
        whole = predicted(cut, (0, 0), LAYOUT, asked, seed).mosaic
        pixel_by_pixel.append(averaged(interpolated_crop(whole, area, how), factor))
        means = as_interpolated(predicted_means(blocks, LAYOUT, asked, seed + 9), LAYOUT, factor)
        at_once.append(np.stack([means["R"], (means["G1"] + means["G2"]) / 2, means["B"]], axis=-1) / 3000)
    for colour in range(3):
        one, other = (np.array(found)[..., colour] for found in (pixel_by_pixel, at_once))
        assert other.mean() == pytest.approx(one.mean(), rel=2e-3)
        assert other.std() == pytest.approx(one.std(), rel=0.03)
    pictures = [develop_at_use(whole, area, how, factor), develop_means(means, how)]
    assert pictures[0].shape == pictures[1].shape
    assert abs(pictures[0].mean() - pictures[1].mean()) < 0.3


def test_an_edge_lies_where_it_lay():
    """A bright half: no point is off by more than what a tile more or less behind it makes."""
    mosaic = np.full((960, 1290), 612, np.uint16)
    mosaic[:, 645:] = 4612
    asked = asked_of(1.0, at(100, 4.0, 3.0))
    shape = (48, 64)
    means = predicted_means(
        blocks_of(mosaic, LAYOUT, shape), LAYOUT, replace(asked, light=dict.fromkeys(asked.light, 1.0)), 1
    )
    share = (means["G1"].mean(axis=0) - 100) / 4000
    truth = np.clip((np.arange(1, 65) * 1290 / 64 - 645) / (1290 / 64), 0, 1)
    assert np.abs(share - truth).max() < 2 / (1290 / 64)


@pytest.mark.parametrize("light", [0.5, 2e-5])
def test_what_is_left_of_the_light_is_poisson(light):
    """Electrons behind a point, of a flat without any noise but that of light: variance over mean by the chi-squared test
    (SciPy)."""
    rng = np.random.default_rng(3)
    flat = np.rint(rng.poisson(8000.0, (640, 640)) + 512).astype(np.uint16)
    none = replace(CLEAN, gain_e_per_dn=dict.fromkeys(LAYOUT.channels, 1.0), read_noise_e=1e-6)
    fine = dict.fromkeys(LAYOUT.channels, 1e-4)
    target = replace(none, gain_e_per_dn=fine, clip_dn=1e12, saturation_e=1e9)
    asked = Asked(none, target, dict.fromkeys(LAYOUT.channels, light))
    means = predicted_means(blocks_of(flat, LAYOUT, (40, 40)), LAYOUT, asked, 4)
    for name in LAYOUT.channels:
        electrons = means[name] * 1e-4 * 64
        mean = electrons.mean()
        assert mean == pytest.approx(8000 * 64 * light, abs=5 * np.sqrt(mean / electrons.size))
        index = ((electrons - mean) ** 2).sum() / mean
        assert stats.chi2(electrons.size - 1).ppf(5e-4) < index < stats.chi2(electrons.size - 1).ppf(1 - 5e-4)


def test_lines_run_along_the_picture(flat):
    """Row noise is one number for all points of a row: what row means scatter by is that of every pixel drawn, within 10 %."""
    asked = asked_of(0.02, at(5000, 0.08, 6.0, row_noise_e=5.0))
    seeds = range(12)
    rows = [
        np.std([one["G1"].mean(axis=1) for one in found])
        for found in (
            [predicted_means(blocks_of(flat, LAYOUT, POINTS), LAYOUT, asked, seed) for seed in seeds],
            [block_means(predicted(flat, (0, 0), LAYOUT, asked, seed).mosaic, asked.target) for seed in seeds],
        )
    ]
    assert rows[0] == pytest.approx(rows[1], rel=0.10)


def test_hot_pixels_shine_behind_their_points_and_never_more_than_they_hold():
    mosaic = np.full((320, 320), 512, np.uint16)
    asked = asked_of(1.0, at(100, 4.0, 3.0))
    hot = HotPixels(np.array([33, 200]), np.array([48, 301]), np.array([20_000.0, 1e9]))
    with_hot, without = (
        predicted_means(blocks_of(mosaic, LAYOUT, (20, 20)), LAYOUT, one, 1)
        for one in (replace(asked, hot=(hot,)), asked)
    )
    more = {name: with_hot[name] - without[name] for name in LAYOUT.channels}
    # Row 33, column 48 is the second green; row 200, column 301 the first: a point stands for 64 pixels of a channel.
    assert more["G2"][2, 3] * 64 * 4.0 == pytest.approx(20_000, rel=0.05)
    assert more["G1"][12, 18] * 64 * 4.0 == pytest.approx(asked.target.saturation_e, rel=0.02)
    assert sum(int((abs(one) > 20).sum()) for one in more.values()) == 2


def test_sums_of_any_tile_are_those_of_plain_slices():
    rng = np.random.default_rng(1)
    mosaic = rng.integers(0, 60_000, (6 * 30, 6 * 41 + 5)).astype(np.uint16)
    blocks = blocks_of(mosaic, SIX, (7, 9))
    for row in range(7):
        for column in range(9):
            tiles = np.flatnonzero(blocks.row_of == row), np.flatnonzero(blocks.column_of == column)
            part = mosaic[tiles[0][0] * 6 : tiles[0][-1] * 6 + 6, tiles[1][0] * 6 : tiles[1][-1] * 6 + 6]
            sums = [int(part[place // 6 :: 6, place % 6 :: 6].astype(np.int64).sum()) for place in range(36)]
            assert blocks.sums[:, row, column].tolist() == sums


def test_a_point_of_few_pixels_or_noise_that_meets_the_end_is_drawn_pixel_by_pixel():
    asked = asked_of()
    assert is_small_enough(asked, LAYOUT, 16)
    assert not is_small_enough(asked, LAYOUT, 15.9)
    assert not is_small_enough(asked, SIX, 40)
    assert not is_small_enough(asked, Layout(LINEAR, (("R", "G", "B"),), 3), 40)
    assert not is_small_enough(asked_of(target=at(5000, 0.08, 4.0, black=150.0)), LAYOUT, 40)
