"""A pixel among its neighbours, and what repair leaves of a lone point."""

import numpy as np
import pytest

from tests import making
from yellowjacket.core.darks.close_up import AROUND_PX, REPAIR_PX, close_up, repair_shown


def dark(value=300, at=(41, 30)):
    made = np.full((100, 120), 64, np.uint16)
    made[at[1], at[0]] = value
    return made


def test_a_pixel_stands_in_the_middle_with_its_repeats():
    found = close_up([dark(300), dark(310)], 41, 30, 64.0, making.LAYOUT)
    assert (found.channel, found.repeats, found.side) == ("G1", (300, 310), 2 * AROUND_PX + 1)
    own = [cell for row in found.cells for cell in row if cell.own]
    assert [(cell.x, cell.y, cell.value, cell.shade, cell.same) for cell in own] == [
        (AROUND_PX, AROUND_PX, 300, 1.0, True)
    ]
    others = [cell for row in found.cells for cell in row if not cell.own]
    assert {(cell.value, cell.shade) for cell in others} == {(64, 0.0)}
    # Of 121 pixels, every second one of every second row has its colour: 5 × 5 around it, itself among them.
    assert sum(cell.same for row in found.cells for cell in row) == 25


@pytest.mark.parametrize(("x", "y"), [(0, 0), (119, 99), (3, 98)])
def test_at_the_edge_the_square_stays_inside(x, y):
    found = close_up([dark(at=(x, y))], x, y, 64.0, making.LAYOUT)
    assert [len(row) for row in found.cells] == [found.side] * found.side
    assert [cell.value for row in found.cells for cell in row if cell.own] == [300]


def test_outside_there_is_nothing():
    with pytest.raises(ValueError, match="outside a frame of 120 × 100 px"):
        close_up([dark()], 120, 5, 64.0, making.LAYOUT)


def test_repair_takes_a_lone_point_away_and_nothing_else():
    before = repair_shown(dark(), 41, 30, 2.0, 2, after=False)
    after = repair_shown(dark(), 41, 30, 2.0, 2, after=True)
    assert before.shape == after.shape == (REPAIR_PX, REPAIR_PX)
    assert (before.max(), np.count_nonzero(before == before.max())) == (255, 1)
    assert (after == 35).all()
