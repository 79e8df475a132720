"""One chart for page and print: points stand where their values are, in the sheet, in Compare and in the report."""

import io
import itertools
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pypdf import PdfReader

from yellowjacket.core.metrology.estimate import Missing, Quantity, missing
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.web.graphics.chart import RATIOS, STOPS, Axis, Curve, Layout, Point, axis_of, chart
from yellowjacket.web.graphics.drawing import Dot, Drawing, Group, Stroke, Text, inside, svg
from yellowjacket.web.graphics.pdf import pdf
from yellowjacket.web.record.plots import plot_of
from yellowjacket.web.sheet.charts import in_columns

LAYOUT = Layout(300, 200, left=40, right=10, top=10, foot=20, text=10, dot=3, line=2, axis_at=36)


def flat(shapes):
    for shape in shapes:
        if isinstance(shape, Group):
            yield from flat(shape.shapes)
        else:
            yield shape


def of(shapes, kind, role=""):
    return [one for one in flat(shapes) if isinstance(one, kind) and role in one.role]


def columns(quantities, thresholds=(("clean", 40.0),), axis=RATIOS, **more):
    labels = [f"rung {n}" for n in range(len(quantities))]
    return in_columns("t", quantities, labels, thresholds, axis=axis, column_px=76, height=150, **more)


def test_points_stand_in_the_middle_of_their_columns_on_their_intervals():
    found = columns([Quantity(80, 78, 82), Quantity(40, 39, 41), Quantity(20, 19, 21)])
    first, second, third = of(found.shapes, Dot)
    assert [first.x, second.x, third.x] == [38, 114, 190]
    assert first.y < second.y < third.y
    # Two equal steps in the logarithm are two equal steps on paper.
    assert second.y - first.y == pytest.approx(third.y - second.y, abs=0.2)
    (threshold,) = of(found.shapes, Stroke, "threshold")
    assert {y for _, y in threshold.points} == {second.y}
    intervals = [one.points for one in of(found.shapes, Stroke, "interval")]
    assert all(top[1] < dot.y < foot[1] for (top, foot), dot in zip(intervals, (first, second, third), strict=True))


def test_a_missing_value_breaks_the_line_and_nothing_makes_no_chart():
    known = [Quantity(80, 78, 82), Quantity(60, 59, 61), missing(Missing.CLIPPED), Quantity(20, 19, 21), None]
    found = columns(known)
    assert [len(one.points) for one in of(found.shapes, Stroke, "series")] == [2]
    assert len(of(found.shapes, Dot)) == 3
    assert columns([missing(Missing.NOT_MEASURED), None]) is None
    # A count of nothing has no place on a logarithmic axis; a difference of nothing has one on a straight axis.
    zeros = [Quantity(0.0, 0.0, 1.0), Quantity(4.0, 3.0, 5.0), Quantity(40.0, 38.0, 42.0)]
    assert [len(of(columns(zeros, (), axis).shapes, Dot)) for axis in (RATIOS, Axis(straight=True))] == [2, 3]


@given(st.lists(st.floats(0.02, 5e4), min_size=2, max_size=9))
def test_sheet_and_report_draw_one_course(values):
    """Shares of the height between the ends are the same in both, and both name the same thresholds."""
    quantities = [Quantity(value, value / 1.01, value * 1.01) for value in values]
    bars = [("clean", 16.0), ("usable", 8.0), ("emergency", 0.01)]
    sheet = columns(quantities, bars)
    report = plot_of("t", [str(n) for n in range(len(values))], quantities, RATIOS, bars)
    heights = []
    for shapes, top, foot in ((sheet.shapes, 44, 138), (report.shapes, 16, 94)):
        places = [(foot - dot.y) / (foot - top) for dot in of(shapes, Dot)]
        heights.append(places)
        assert all(-1e-9 <= place <= 1 + 1e-9 for place in places)
    assert heights[0] == pytest.approx(heights[1], abs=2e-3)
    said = [
        {one.words.split()[0] for one in of(shapes, Text) if one.words[0] in "cue"}
        for shapes in (sheet.axis, report.shapes)
    ]  # fmt: skip
    assert said[0] == said[1]


@given(st.floats(1.0, 100.0), st.floats(1.0, 1.2), st.floats(1.0, 1.2))
def test_words_on_an_axis_never_stand_in_each_other(bar, second, third):
    quantities = [Quantity(bar * 3), Quantity(bar), Quantity(bar / 3)]
    bars = [("clean", bar), ("usable", bar / second), ("emergency", bar / second / third)]
    found = columns(quantities, bars)
    places = sorted(one.y for one in of(found.axis, Text))
    assert all(later - one >= 14.9 for one, later in itertools.pairwise(places))
    assert places[0] >= 44
    assert len([one for one in of(found.axis, Text) if one.role == ""]) == 3


def test_stops_are_not_stretched_and_shares_have_their_ends():
    level = [Quantity(11.30), Quantity(11.32), Quantity(11.31)]
    dots = [one.y for one in of(columns(level, (), STOPS).shapes, Dot)]
    assert max(dots) - min(dots) < 3
    assert axis_of(Measurand.RANGE_SNR1.described) == axis_of(Measurand.CLIPS_AT_STOPS.described) == STOPS
    assert axis_of(Measurand.SNR.described) == RATIOS
    shares = chart("t", [Curve([Point(60, Quantity(0.5))])], LAYOUT, axis=Axis(straight=True, includes=(0.0, 1.0)))
    assert [one.y for one in of(shares.shapes, Dot)] == [95.0]
    assert [one.words for one in of(shares.axis, Text, "tick")] == ["0", "0.2", "0.4", "0.6", "0.8", "1"]


def test_a_point_opens_what_it_came_from_and_tells_its_words():
    said = inside(columns([Quantity(80), Quantity(40)], reading_ids=[7, None]).shapes)
    assert re.findall(r'<g class="opens" hx-get="([^"]+)"', said) == ["/readings/7/"]
    assert re.findall(r"<title>([^<]+)</title>", said) == ["rung 0", "rung 1"]
    assert "&lt;b&gt;" in svg(Drawing("t", 9, 9, [Group([Dot(1, 1, 1)], "<b>")]))


def test_paper_has_the_dashes_and_every_word_of_the_page():
    curves = [Curve([Point(60, Quantity(30, 28, 32)), Point(200, Quantity(10, 9, 11))])]
    found = chart("t", curves, LAYOUT, axis=RATIOS, thresholds=[("usable", 16.0)], marks=[(60, "100"), (200, "800")])
    page = PdfReader(io.BytesIO(pdf([found.drawing]))).pages[0]
    drawn = page.get_contents().get_data()
    assert b"[5 3] 0 d" in drawn
    # What follows a dashed line is drawn through again.
    assert b"[] 0 d" in drawn[drawn.index(b"[5 3] 0 d") :]
    words = page.extract_text().split()
    assert {one.words for one in of(found.drawing.shapes, Text)} <= {*words, "usable 16"}


def test_a_threshold_at_the_top_is_named_under_its_line():
    """Over it stands the title of the plot."""
    low = [Quantity(1.0), Quantity(1.2), Quantity(1.1)]
    shapes = plot_of("Drift", ["100", "200", "400"], low, RATIOS, [("clean", 2.0), ("usable", 1.05)]).shapes
    (title,) = (one for one in of(shapes, Text) if one.strong)
    names = {one.words: one.y for one in of(shapes, Text, "threshold-name")}
    lines = {one.role.split()[-1]: one.points[0][1] for one in of(shapes, Stroke, "threshold")}
    assert names["clean 2"] > lines["clean"]
    assert names["usable 1.05"] < lines["usable"]
    assert all(y - 6.5 > title.y for y in names.values())
