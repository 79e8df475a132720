"""One drawing gives the same picture as SVG and as PDF; one scale serves every axis."""

import base64
import io
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from pypdf import PdfReader

from yellowjacket.web.graphics.drawing import Dot, Drawing, Picture, Stroke, Text, svg
from yellowjacket.web.graphics.pdf import pdf
from yellowjacket.web.graphics.scale import Scale


def png():
    buffer = io.BytesIO()
    Image.new("L", (4, 3), 200).save(buffer, "PNG")
    return buffer.getvalue()


def drawn():
    return Drawing(
        "Test <1>", 100.0, 50.0,
        [Text(10, 20, "σ < 3 & −1", 4, "end", strong=True), Stroke([(0, 0), (100, 50)], 0.5), Dot(30, 10, 2),
         Picture(50, 5, 20, 15, png())],
        "mm",
    )  # fmt: skip


def test_both_say_and_place_the_same():
    text = svg(drawn())
    assert 'width="100mm"' in text
    assert 'x="10.00" y="20.00" font-size="4" text-anchor="end" font-weight="700">σ &lt; 3 &amp; −1</text>' in text
    assert 'points="0.00,0.00 100.00,50.00"' in text
    assert base64.b64encode(png()).decode() in text
    page = pdf([drawn(), drawn()])
    assert len(re.findall(rb"/Type /Page\b", page)) == 2
    width, height = (float(one) for one in re.search(rb"/MediaBox \[ 0 0 ([\d.]+) ([\d.]+) \]", page).groups())
    assert (width, height) == pytest.approx((100 * 72 / 25.4, 50 * 72 / 25.4), abs=0.01)
    first = PdfReader(io.BytesIO(page)).pages[0]
    # What no shipped typeface has is put plainly; the rest is as it was written.
    assert "sigma < 3 & −1" in first.extract_text()
    # PDF counts from the foot: 30 mm up are 85 points.
    assert b"85.03937" in first.get_contents().get_data()
    assert pdf([drawn()]) == pdf([drawn()])


@given(st.floats(0.01, 1e4), st.floats(1.1, 1e4), st.floats(0, 1), st.booleans())
def test_a_scale_keeps_order_and_ends(first, times, share, logarithmic):
    axis = Scale(first, first * times, 300, 20, logarithmic=logarithmic)
    assert (axis.at(axis.first), axis.at(axis.last)) == (300.0, 20.0)
    between = first + share * (axis.last - first)
    assert 20.0 <= axis.at(between) <= 300.0
    assert axis.at(-5.0) == 300.0
    assert axis.at(axis.last * 2) == 20.0
    values = [value for value, _ in axis.round_ticks(6)]
    assert values == sorted(set(values))
    assert 1 <= len(values) <= 7
    assert all(axis.first <= value <= axis.last for value in values)
    # One digit that counts, or two where equal steps are needed.
    assert all(float(f"{value:.3g}") == pytest.approx(value) for value in values if times > 1.2)


def test_a_decade_is_a_decade_and_one_value_stands_in_the_middle():
    axis = Scale(1.0, 1000.0, 0.0, 300.0, logarithmic=True)
    assert [axis.at(v) for v in (1, 10, 100, 1000)] == [0.0, 100.0, 200.0, 300.0]
    assert Scale(5.0, 5.0, 0.0, 100.0).at(5.0) == 50.0
