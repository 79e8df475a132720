"""Bands of one line and of many, periodic and by chance, in frames whose bands are known."""

import numpy as np
import pytest

from yellowjacket.core.metrology.notes import Remark
from yellowjacket.core.noise.banding import banding_of

# Lines and columns of a channel's plane; raw lines lie two to one of it.
LINES, COLUMNS, SIGMA = 1536, 256, 4.0


def pair(rng, bands):
    """Two frames, whose bands are drawn anew as bands of read-out are: their difference holds them √2 times."""
    return [np.rint(rng.normal(512, SIGMA, (LINES, COLUMNS)) + bands(rng)[:, None]).astype(np.uint16) for _ in range(2)]


def blocks(width, sigma):
    def drawn(rng):
        raw = rng.normal(0, sigma, 2 * LINES // width + 2).repeat(width)
        return raw[rng.integers(width) :][: 2 * LINES : 2]

    return drawn


@pytest.mark.parametrize("width", [1, 2, 5, 9, 15, 30])
def test_bands_of_any_width_are_read_in_full(width):
    """Within 5 % on the mean of frames, for one line as for thirty."""
    rng = np.random.default_rng(width)
    found = [banding_of(*pair(rng, blocks(width, 1.2))).row_dn for _ in range(24)]
    # By chance bands of a frame are more or less than they are on average: the more so, the fewer fit into it.
    assert np.sqrt(np.mean([one.value**2 for one in found])) == pytest.approx(1.2, rel=0.05)
    inside = sum(one.low <= 1.2 <= one.high for one in found)
    assert inside >= 19
    told = [note.details[0] for one in found for note in one.notes if note.kind is Remark.BANDS_WIDE]
    if width >= 9:
        assert np.median(told) == pytest.approx(width, rel=0.25)
    if width == 1:
        assert not told


@pytest.mark.parametrize("period", [6.0, 14.4, 60.0])
def test_a_period_is_told_with_its_strength(period):
    def waves(rng):
        return 0.8 * np.sqrt(2) * np.sin(2 * np.pi * (2 * np.arange(LINES) / period + rng.random()))

    rng = np.random.default_rng(5)
    found = [banding_of(*pair(rng, waves)).row_dn for _ in range(24)]
    assert np.sqrt(np.mean([one.value**2 for one in found])) == pytest.approx(0.8, rel=0.05)
    told = [note.details[0] for one in found for note in one.notes if note.kind is Remark.BANDS_EVERY]
    assert len(told) >= 20
    assert np.median(told) == pytest.approx(period, rel=0.02)


def test_direction_is_told_and_light_that_changes_slowly_is_no_band():
    rng = np.random.default_rng(6)
    frames = [np.rint(rng.normal(512, SIGMA, (LINES, COLUMNS)) + rng.normal(0, 1.2, COLUMNS)) for _ in range(2)]
    # Light that falls over the frame by four times the noise of a pixel, in one of the two.
    frames[1] += np.linspace(0, 16, LINES)[:, None]
    found = banding_of(*(frame.astype(np.uint16) for frame in frames))
    assert found.column_dn.low < 1.2 < found.column_dn.high
    assert found.row_dn.value < 0.2


def test_where_there_are_none_that_is_said_with_a_bound():
    rng = np.random.default_rng(7)
    accused = 0
    for _ in range(100):
        found = banding_of(*pair(rng, lambda _: np.zeros(LINES))).row_dn
        accused += found.value > 0
        assert found.high < 0.2
    assert accused <= 6
