"""Field cards: what was decided, as SVG, PDF and text, of signed records only."""

import base64
import re
import zlib
from xml.etree import ElementTree

import pytest

from yellowjacket.bench.models import Decision, Frame, Reading
from yellowjacket.bench.record import record as record_
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.core.metrology.estimate import missing, with_error
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.web.graphics.drawing import Dot, Stroke, svg
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
    assert text.count("data:image/png;base64,") == 3
    readings = Reading.objects.filter(quantity="shadow_snr", use=None, channel="all")
    assert readings.count() == 3
    for reading in readings:
        assert f"{number(reading.value)}<br>" in text
        assert f"{number(reading.low)} … {number(reading.high)}" in text
    for sha256 in Frame.objects.values_list("sha256", flat=True):
        assert sha256 in text
    assert "Signed by Wren &amp; &lt;Ash&gt;" in text
    assert "nan" not in re.sub(r"base64,[^\"]+", "", text).lower().replace("nance", "")


def test_the_report_on_paper_has_the_same_figures(client, signed):
    """The text of the PDF, read back through its own compressed streams."""
    sitting = signed.ladder.sitting
    response = client.get(f"/sittings/{sitting.pk}/record/report.pdf")
    assert response["Content-Type"] == "application/pdf"
    assert response.content.startswith(b"%PDF-")
    words = text_of(response.content)
    for reading in Reading.objects.filter(quantity="shadow_snr", use=None, channel="all"):
        assert number(reading.value) in words
    for sha256 in Frame.objects.values_list("sha256", flat=True):
        assert sha256 in words
    # The setter breaks a line where markup was escaped.
    assert "Signed by Wren & < Ash >" in words
    assert client.get(f"/sittings/{sitting.pk}/record/report.doc").status_code == 404
    # The same sitting gives the same bytes.
    assert client.get(f"/sittings/{sitting.pk}/record/report.pdf").content == response.content


def text_of(data: bytes) -> str:
    """What is shown as text in a PDF of ours: ASCII 85 and Flate around plain strings, no subset fonts."""
    parts = []
    for stream in re.findall(rb"stream\r?\n(.*?)endstream", data, re.S):
        packed = stream.strip()
        if packed.endswith(b"~>"):
            plain = zlib.decompress(base64.a85decode(b"<~" + packed, adobe=True))
            shown = re.findall(rb"\(((?:[^()\\]|\\.)*)\) Tj", plain)
            parts += [re.sub(rb"\\(.)", rb"\1", one).decode("latin-1") for one in shown]
    return " ".join(parts)


def test_a_plot_breaks_where_nothing_was_measured():
    values = [with_error(8.0, 0.1, 9), missing(Missing.NO_PAIR), with_error(2.0, 0.1, 9), with_error(1.0, 0.1, 9)]
    plot = plots.plot_of("SNR", ["100", "200", "400", "800"], values)
    lines = [shape for shape in plot.shapes if isinstance(shape, Stroke) and shape.width == 1.2]
    first, second, third = (shape.y for shape in plot.shapes if isinstance(shape, Dot))
    assert [[y for _, y in line.points] for line in lines] == [[second, third]]
    # Stops are equal steps: from 8 to 2 twice as far as from 2 to 1.
    assert (second - first) / (third - second) == pytest.approx(2, rel=0.01)
    assert plots.plot_of("SNR", ["100", "200"], [values[0], values[1]]) is None
    assert "&lt;b&gt;" in svg(plots.plot_of("<b>", ["100", "200"], [values[0], values[2]]))


def test_the_desk_draws_limits_along_iso(client, signed):
    """A bar for every use whose limits are numbers, in words for whoever cannot see it."""
    text = client.get("/").content.decode()
    bars = re.findall(r'class="limit-bar".*?aria-label="([^"]+)".*?</svg>', text, re.S)
    marks = {str(one.iso) for one in Decision.objects.filter(record__signed_at__isnull=False, iso__isnull=False)}
    assert bars
    assert {mark for words in bars for mark in re.findall(r"ISO (\d+)", words)} == marks
    ends = [float(x) for x in re.findall(r'class="(?:clean|usable|emergency)"\s+x1="0" x2="([\d.]+)"', text)]
    assert all(0 < x <= 168 for x in ends)
