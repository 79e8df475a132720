"""Hot pixels of predicted pictures: where they stand and what they gather."""

import numpy as np
import pytest

from yellowjacket.core.prediction.hot_population import HotPopulation, population_from_csv
from yellowjacket.core.raw.rect import Rect

FOUND = HotPopulation.of([(10, 20, 3.0), (300, 40, 0.5), (31, 59, None)], (600, 400))


def test_they_stand_where_the_darks_have_them():
    hot = FOUND.within(Rect(0, 10, 100, 60), (600, 400), 60.0, 1)
    assert hot.rows.tolist() == [10, 49]
    assert hot.columns.tolist() == [10, 31]
    assert hot.electrons[0] == pytest.approx(180.0)
    # One that was cut off is full in any picture.
    assert hot.electrons[1] > 1e6


def test_a_frame_of_another_size_has_as_many_for_its_pixels():
    """Poisson with the density of the darks; mean over seeds, the bound is four standard errors."""
    many = HotPopulation.of([(n % 600, n // 600, 1.0 + n % 7) for n in range(240)], (600, 400))
    area = Rect(100, 100, 300, 200)
    found = [many.within(area, (1200, 800), 2.0, seed) for seed in range(200)]
    expected = 240 * area.w * area.h / (600 * 400)
    counts = [len(one.rows) for one in found]
    assert np.mean(counts) == pytest.approx(expected, abs=4 * (expected / 200) ** 0.5)
    assert np.var(counts) == pytest.approx(expected, rel=0.4)
    electrons = np.concatenate([one.electrons for one in found])
    assert electrons.mean() == pytest.approx(2.0 * many.e_per_s.mean(), rel=0.05)
    assert all((one.rows >= 0).all() and (one.rows < area.h).all() and (one.columns < area.w).all() for one in found)
    same = many.within(area, (1200, 800), 2.0, 3)
    assert (same.rows == found[3].rows).all()
    assert len(HotPopulation.of([], (600, 400)).within(area, (1200, 800), 2.0, 3).rows) == 0


def test_a_table_is_read_as_it_is_written():
    text = "x,y,channel,class,e_per_s\n10,20,R,hot,3\n31,59,G1,stuck,\n"
    found = population_from_csv(text, (600, 400))
    assert found.x.tolist() == [10, 31]
    assert found.e_per_s[0] == 3.0
    assert found.digest != FOUND.digest


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("a,b\n1,2\n", "has no column x or y or e_per_s"),
        ("", "has no column"),
        ("x,y,e_per_s\n1,two,3\n", "line 2: x, y and e_per_s are numbers"),
        ("x,y,e_per_s\n1,2,3\n700,2,3\n", "line 3: 700, 2 lies outside a frame of 600 × 400 px"),
        ("x,y,e_per_s\n1,2,-3\n", "line 2: e_per_s -3 cannot be"),
        ("x,y,e_per_s\n1,2,nan\n", "cannot be"),
        ("x,y,e_per_s\n1\n", "are numbers"),
    ],
)
def test_what_is_no_table_is_said(text, words):
    with pytest.raises(ValueError, match=words):
        population_from_csv(text, (600, 400))
