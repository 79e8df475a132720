"""A chart's grid between four corners."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yellowjacket.core.patches.chart_grid import grid_cells
from yellowjacket.core.raw.rect import Rect

STRAIGHT = ((100, 200), (1100, 200), (1100, 500), (100, 500))


def test_a_straight_chart_gives_the_middle_of_every_cell():
    cells = grid_cells(STRAIGHT, 3, 10)
    assert len(cells) == 30
    assert cells[0] == Rect(120, 220, 60, 60)
    assert cells[11] == Rect(220, 320, 60, 60)
    assert cells[-1] == Rect(1020, 420, 60, 60)


def test_a_chart_upside_down_begins_at_its_own_first_corner():
    turned = (STRAIGHT[2], STRAIGHT[3], STRAIGHT[0], STRAIGHT[1])
    assert grid_cells(turned, 3, 10)[0] == grid_cells(STRAIGHT, 3, 10)[-1]


def test_perspective_makes_far_cells_smaller():
    # The right side of the chart is further away.
    cells = grid_cells(((100, 100), (1000, 250), (1000, 650), (100, 800)), 4, 6)
    heights = [cell.h for cell in cells[6:12]]
    assert heights == sorted(heights, reverse=True)
    widths = [cell.w for cell in cells[6:12]]
    assert widths[0] > widths[-1]


@given(
    dx=st.floats(-60, 60), dy=st.floats(-60, 60), rows=st.integers(2, 4), columns=st.integers(3, 8),
)  # fmt: skip
def test_cells_stay_apart_and_inside_the_chart(dx, dy, rows, columns):
    corners = ((100 + dx, 200 + dy), (1100, 200 - dy), (1100 + dx, 700), (100, 700 + dy))
    cells = grid_cells(corners, rows, columns)
    assert all(cell.x % 2 == cell.y % 2 == cell.w % 2 == cell.h % 2 == 0 for cell in cells)
    xs, ys = [c[0] for c in corners], [c[1] for c in corners]
    for n, one in enumerate(cells):
        assert min(xs) <= one.x
        assert one.x + one.w <= max(xs)
        assert min(ys) <= one.y
        assert one.y + one.h <= max(ys)
        for other in cells[n + 1 :]:
            assert (one.x + one.w <= other.x or other.x + other.w <= one.x
                    or one.y + one.h <= other.y or other.y + other.h <= one.y)  # fmt: skip


@pytest.mark.parametrize(
    ("corners", "rows", "columns", "says"),
    [
        (STRAIGHT[:3], 3, 10, "four corners"),
        (STRAIGHT, 0, 10, "1 to 400 cells"),
        (STRAIGHT, 30, 30, "1 to 400 cells"),
        ((STRAIGHT[0], STRAIGHT[2], STRAIGHT[1], STRAIGHT[3]), 3, 10, "in order around"),
        ((STRAIGHT[0],) * 4, 3, 10, "in order around"),
        (STRAIGHT, 20, 20, "fewer cells"),
        (((0, 0), (float("nan"), 0), (9, 9), (0, 9)), 1, 1, "finite"),
    ],
)  # fmt: skip
def test_what_is_no_grid_says_why(corners, rows, columns, says):
    with pytest.raises(ValueError, match=says):
        grid_cells(corners, rows, columns)
