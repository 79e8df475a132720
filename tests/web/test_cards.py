"""Field cards: what was decided, as SVG, PDF and text, of signed records only."""

import io
import re
from dataclasses import replace
from xml.etree import ElementTree

import pytest
from pypdf import PdfReader

from yellowjacket.bench.models import Decision, Frame, Reading
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.record.proposals import Proposal
from yellowjacket.bench.record.sides import sides_of
from yellowjacket.bench.record.standing import standing_of
from yellowjacket.core.limits.iso_limits import Limit
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.core.metrology.estimate import missing, with_error
from yellowjacket.core.metrology.notes import Missing, Note, Remark
from yellowjacket.web.graphics.chart import RATIOS
from yellowjacket.web.graphics.drawing import Group, Stroke, Text, svg
from yellowjacket.web.graphics.limit_chart import LimitMark, LimitRow, limit_chart
from yellowjacket.web.record import plots
from yellowjacket.web.templatetags.values import number

pytestmark = pytest.mark.django_db


@pytest.fixture
def signed(measured):
    record = record_.open_record(measured.ladders.get())
    for use in measured.uses.all():
        for level, iso in zip(LEVELS, (100, 200, 400), strict=True):
            record_.decide(record, use, level, iso)
    others = [{"what": "push, usable", "use": "Web", "text": "2.4 stops", "interval": "", "because": "", "source": ""}]
    return record_.sign(record, "Wren & <Ash>", others)


def test_a_card_says_what_was_decided(client, signed):
    base = f"/sittings/{signed.ladder.sitting_id}/record/card"
    text = client.get(f"{base}.txt").content.decode()
    assert re.search(r"Pixel level +100 +200 +400", text)
    assert re.search(r"Push, usable, web +2\.4 stops", text)
    assert "Wren & <Ash>" in text
    svg = client.get(f"{base}.svg").content.decode()
    root = ElementTree.fromstring(svg)
    assert (root.get("width"), root.get("height")) == ("105mm", "148mm")
    words = [element.text for element in root]
    assert {"100", "200", "400", "2.4 stops"} <= set(words)
    # Everything stands on the card.
    for element in root:
        assert 0 < float(element.get("x")) < 105
        assert 0 < float(element.get("y")) < 148
    pdf = client.get(f"{base}.pdf")
    assert pdf.content.startswith(b"%PDF")
    assert pdf["Content-Type"] == "application/pdf"
    assert "Field card" in client.get(f"/sittings/{signed.ladder.sitting_id}/record/").content.decode()


def test_there_is_no_card_before_somebody_signs(client, measured):
    base = f"/sittings/{measured.pk}/record"
    assert client.get(f"{base}/card.pdf").status_code == 404
    assert "Field card" not in client.get(f"{base}/").content.decode()


def test_other_kinds_of_cards_do_not_exist(client, signed):
    assert client.get(f"/sittings/{signed.ladder.sitting_id}/record/card.exe").status_code == 404


def test_the_report_needs_nothing_else_and_its_figures_are_the_databases(client, signed):
    sitting = signed.ladder.sitting
    response = client.get(f"/sittings/{sitting.pk}/record/report.html")
    assert response["Content-Disposition"].endswith('report.html"')
    text = response.content.decode()
    # No address leads out of the file.
    assert not re.search(r'(?:src|href)="(?!data:)', text)
    # Three rungs, and for each use both sides of 100, 200 and 400, which is where the ladder ends.
    assert text.count("data:image/png;base64,") == 3 + 5 * sitting.uses.count()
    readings = Reading.objects.filter(quantity="shadow_snr", use=None, channel="all")
    assert readings.count() == 3
    for reading in readings:
        assert f"<td>{number(reading.value)} ({number(reading.low)} … {number(reading.high)})</td>" in text
    for sha256 in Frame.objects.values_list("sha256", flat=True):
        assert sha256 in text
    assert "Signed by Wren &amp; &lt;Ash&gt;" in text
    assert "nan" not in re.sub(r"base64,[^\"]+", "", text).lower().replace("nance", "")


def test_the_report_on_paper_has_the_same_figures(client, signed):
    sitting = signed.ladder.sitting
    response = client.get(f"/sittings/{sitting.pk}/record/report.pdf")
    assert response["Content-Type"] == "application/pdf"
    assert response.content.startswith(b"%PDF-")
    pages = PdfReader(io.BytesIO(response.content)).pages
    words = " ".join(page.extract_text() for page in pages)
    for reading in Reading.objects.filter(quantity="shadow_snr", use=None, channel="all"):
        assert number(reading.value) in words
    for sha256 in Frame.objects.values_list("sha256", flat=True):
        assert sha256 in words
    assert "Signed by Wren & <Ash>" in words
    # Everything is set in the typefaces that ship, and in one with signs that they lack.
    names = {font["/BaseFont"].partition("+")[2] for page in pages for font in _fonts(page)}
    assert {"Yellowjacket-archivo-regular", "Yellowjacket-archivo-bold", "Yellowjacket-spline-sans-mono"} <= names
    assert client.get(f"/sittings/{sitting.pk}/record/report.doc").status_code == 404
    # The same sitting gives the same bytes.
    assert client.get(f"/sittings/{sitting.pk}/record/report.pdf").content == response.content


def _fonts(page):
    return [font.get_object() for font in page["/Resources"]["/Font"].values()]


def test_a_limit_has_the_last_rung_inside_and_the_first_outside(signed):
    ladder = signed.ladder
    rungs, use = list(ladder.rungs.all()), ladder.sitting.uses.first()
    standing = standing_of(signed, list(ladder.sitting.uses.all()))
    found = {one.proposal.level: one for one in sides_of(standing, use.name, rungs)}
    assert [(one.inside.iso, one.outside and one.outside.iso) for one in found.values()] == [
        (100, 200),
        (200, 400),
        (400, None),
    ]
    # What holds to the end of what was measured has nothing outside, and what nothing holds has nothing inside.
    proposal = found["clean"].proposal
    held = Proposal(use, "clean", Limit("clean", 200, at_least=True), proposal.graded, None)
    never = Proposal(
        use, "usable", Limit("usable", None, ended=Note(Remark.IN_WORDS, ("noise",))), proposal.graded, None
    )
    unknown = Proposal(use, "emergency", Limit("emergency", None), proposal.graded, None)
    open_ = replace(standing, proposals=[held, never, unknown], decided={})
    sides = sides_of(open_, use.name, rungs)
    assert [(s.inside and s.inside.iso, s.outside and s.outside.iso) for s in sides] == [(200, None), (None, 100)]


def test_limits_stand_on_a_stop_axis():
    rows = [
        LimitRow("Web", [LimitMark("clean", 400), LimitMark("usable", 1600, 1500, 1900), LimitMark("emergency", 6400)]),
        LimitRow("Print", [], "not measured yet"),
    ]
    chart = limit_chart("Limits", rows, [100, 6400])
    ends = {
        shape.width: shape.points[-1][0]
        for shape in chart.shapes
        if isinstance(shape, Stroke) and shape.width in (9, 4, 1.4)
    }
    # Two stops each; the thicker the bar the better the level.
    assert ends[1.4] - ends[4.0] == pytest.approx(ends[4.0] - ends[9.0], abs=0.2)
    words = [shape.words for shape in chart.shapes if isinstance(shape, Text)]
    assert {"100", "200", "400", "800", "1600", "3200", "6400", "Web", "usable", "not measured yet"} <= set(words)
    assert all(
        0 <= shape.x <= chart.width and 0 <= shape.y <= chart.height
        for shape in chart.shapes
        if isinstance(shape, Text)
    )
    assert limit_chart("Limits", [rows[1]], [100, 6400]) is None


def test_the_answer_in_words_names_the_uses_that_nothing_is_good_for():
    marks = [("Web", 6400), ("Large print", None), ("Pixel level", None)]
    assert record_.usable_in_words(marks) == (
        "Usable up to ISO 6400 for web. No ISO setting is usable for large print or pixel level."
    )
    assert record_.usable_in_words([]) == ""


def test_the_page_of_a_body_draws_the_limits_it_has_signed(client, signed):
    body = signed.ladder.body
    text = client.get(f"/bodies/{body.pk}/").content.decode()
    (chart,) = re.findall(r'class="limit-chart">.*?<svg.*?</svg>', text, re.S)
    assert (
        re.findall(r'font-weight="700">(?:≥ )?(\d+)</text>', chart)
        == ["400", "200", "100"] * signed.ladder.sitting.uses.count()
    )
    signed.signed_at = None
    signed.save()
    assert "limit-chart" not in client.get(f"/bodies/{body.pk}/").content.decode()


def test_the_card_shows_the_usable_limit(client, signed):
    root = ElementTree.fromstring(client.get(f"/sittings/{signed.ladder.sitting_id}/record/card.svg").content.decode())
    shown = [one for one in root if one.tag.endswith("image")]
    assert len(shown) == 2 * signed.ladder.sitting.uses.count()
    assert "Last usable setting, first one that is not" in [one.text for one in root]


def test_a_plot_breaks_where_nothing_was_measured():
    values = [with_error(8.0, 0.1, 9), missing(Missing.NO_PAIR), with_error(2.0, 0.1, 9), with_error(1.0, 0.1, 9)]
    plot = plots.plot_of("SNR", ["100", "200", "400", "800"], values, RATIOS)
    (curve,) = [shape for shape in plot.shapes if isinstance(shape, Group)]
    lines = [shape for shape in curve.shapes if isinstance(shape, Stroke)]
    first, second, third = (point.shapes[1].y for point in curve.shapes if isinstance(point, Group))
    assert [[y for _, y in line.points] for line in lines] == [[second, third]]
    # Stops are equal steps: from 8 to 2 twice as far as from 2 to 1.
    assert (second - first) / (third - second) == pytest.approx(2, rel=0.01)
    assert plots.plot_of("SNR", ["100", "200"], [values[0], values[1]], RATIOS) is None
    assert "&lt;b&gt;" in svg(plots.plot_of("<b>", ["100", "200"], [values[0], values[2]], RATIOS))


def test_the_desk_draws_limits_along_iso(client, signed):
    """A bar for every use whose limits are numbers, in words for whoever cannot see it."""
    text = client.get("/").content.decode()
    bars = re.findall(r'class="limit-bar".*?aria-label="([^"]+)".*?</svg>', text, re.S)
    marks = {str(one.iso) for one in Decision.objects.filter(record__signed_at__isnull=False, iso__isnull=False)}
    assert bars
    assert {mark for words in bars for mark in re.findall(r"ISO (\d+)", words)} == marks
    ends = [float(x) for x in re.findall(r'class="(?:clean|usable|emergency)"\s+x1="0" x2="([\d.]+)"', text)]
    assert all(0 < x <= 168 for x in ends)
