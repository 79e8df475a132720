"""Range by model and by wedge beside each other, with why they differ."""

import pytest

from yellowjacket.bench.measure.ranges import range_table
from yellowjacket.bench.models import Reading

pytestmark = pytest.mark.django_db


def told(rung, notes=(), **values):
    for quantity, value in values.items():
        channel = "G" if quantity.startswith("wedge") else "all"
        Reading.objects.filter(rung=rung, patch=None, use=None, channel=channel, quantity=quantity).delete()
        Reading.objects.create(
            rung=rung, channel=channel, quantity=quantity, value=value, low=value - 0.1, high=value + 0.1, n=9,
            notes=list(notes),
        )  # fmt: skip


@pytest.fixture
def rung(measured):
    return measured.ladders.get().rungs.get(iso=100)


def test_the_model_stands_there_at_all_four_ratios(client, rung):
    table = range_table(rung)
    values = [row.model.value for row in table.rows]
    assert [row.snr for row in table.rows] == [1, 2, 4, 10]
    assert values == sorted(values, reverse=True)
    # Far above the read noise an SNR twice as high wants four times the light, below it twice (model of noise).
    assert 1.0 <= values[0] - values[1] <= 2.0
    page = client.get(f"/sittings/{rung.ladder.sitting_id}/measure/transfer/?rung={rung.key}").content.decode()
    assert "Range, stops, each pixel" in page
    assert "Seen on the wedge" not in page


def test_a_wedge_is_counted_from_saturation_and_agrees(rung):
    told(rung, range_snr1=11.0)
    told(rung, wedge_snr1=9.6, wedge_start=1.3)
    table = range_table(rung)
    assert table.rows[0].wedge.value == pytest.approx(10.9)
    assert [str(one) for one in table.why] == [
        "the wedge begins 1.3 stops under saturation, which is counted in",
        "model and wedge agree",
    ]


def test_why_they_differ_is_said(rung):
    told(rung, range_snr1=12.0)
    told(rung, wedge_snr1=9.0, wedge_start=0.1)
    assert "2.9 stops less" in str(range_table(rung).why[-1])
    told(rung, [["STRAY_LIGHT"]], wedge_floor=8.7)
    assert str(range_table(rung).why[-1]).startswith("stray light holds the wedge's dark steps up from 8.7 stops on")
    told(rung, [["AT_LEAST_DARKEST_STEP"]], wedge_snr1=9.0)
    assert "at least" in str(range_table(rung).why[-1])


def test_the_share_of_smoothing_is_taken_off_for_the_reader(rung):
    told(rung, range_snr1=12.0)
    told(rung, [["SMOOTHED"]], neighbour_correlation=0.3)
    (line,) = range_table(rung).why
    assert str(line).startswith("of 12.0 stops ")
    assert "are smoothing of the raw: without it" in str(line)
