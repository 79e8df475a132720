"""Comparing ladders, and what the record says besides ISO."""

import re

import pytest
from django.contrib.messages import get_messages

from tests.web.test_look import two  # noqa: F401 - a fixture
from yellowjacket.bench.models import Reading, Record, RememberedLimit
from yellowjacket.bench.services import comparing, judging, lanes, other_limits, recording
from yellowjacket.bench.services.errors import Refusal

pytestmark = pytest.mark.django_db


def said(response) -> str:
    return " ".join(str(m) for m in get_messages(response.wsgi_request))


def address(sitting, **more):
    parts = [f"ladder={ladder.pk}" for ladder in sitting.ladders.all()] + [f"{k}={v}" for k, v in more.items()]
    return f"/compare/?{'&'.join(parts)}"


def test_two_bodies_are_held_against_each_other(client, two):  # noqa: F811
    text = client.get(address(two)).content.decode()
    assert "Heath and Moor:</b> Heath better throughout" in text
    assert "per pixel" in text
    assert "Held equal: same settings" in text
    assert text.count('<g class="body-curve style-') == 2
    assert "nan" not in text.lower().replace("nance", "")


def test_a_size_is_never_mixed(two):  # noqa: F811
    ladders = list(two.ladders.all())
    assert comparing.sizes_of(ladders) == [("Web", 10_000)]
    plain, web = comparing.compare(ladders, None), comparing.compare(ladders, 10_000)
    first = plain.ladders[0]
    mark = first.rungs[0].iso
    per_pixel, at_web = first.at(mark, "shadow_snr"), web.ladders[0].at(mark, "shadow_snr")
    # 640 × 448 pixels on 10 000: SNR of white noise rises by the root of their ratio.
    assert at_web.value / per_pixel.value == pytest.approx((640 * 448 / 10_000) ** 0.5, rel=0.05)
    with pytest.raises(Refusal, match="Not all of them have a use of that size"):
        comparing.compare(ladders, 24_000_000)


def test_one_is_no_comparison(client, measured):
    assert "Choose 2 to 6" in client.get(address(measured)).content.decode()
    assert "Compare" in client.get("/compare/").content.decode()


def test_without_measured_ladders_the_way_to_them_is_shown(client, sitting):
    assert "Nothing to compare yet" in client.get("/compare/").content.decode()


def test_smoothed_raw_makes_a_comparison_unfair(client, two):  # noqa: F811
    rung = two.ladders.last().rungs.get(iso=400)
    Reading.objects.create(
        rung=rung, channel="all", quantity="flags", value=1, n=1, reason="smoothed: the raw is smoothed here"
    )
    assert "Moor smooths its raw at ISO 400" in client.get(address(two)).content.decode()


def test_the_page_asks_few_queries(client, two, django_assert_max_num_queries):  # noqa: F811
    client.get(address(two))
    with django_assert_max_num_queries(30):
        client.get(address(two))


# The record


def test_the_record_has_grades_with_a_finish_and_what_was_remembered(client, measured):
    ladder, use = measured.ladders.get(), measured.uses.first()
    lane = lanes.create_lane(ladder, "finish", "gentle")
    for rung, plain, finished in zip(ladder.rungs.all(), (1, 4, 5), (1, 2, 3), strict=True):
        judging.grade_rung(rung, use, "Wren", plain)
        judging.grade_rung(rung, use, "Wren", finished, lane=lane)
    base = f"/sittings/{measured.pk}/record"
    # As is the last usable mark is 100; with the finish the ladder ends before anything fails.
    assert re.search(r"400\+? ?[^<]*with gentle", client.get(f"{base}/").content.decode())
    assert "Say where it is from" in said(client.post(f"{base}/remember/", {"what": "usable", "text": "3200"}))
    client.post(
        f"{base}/remember/",
        {"what": "highest usable", "text": "3200", "use_name": "print", "source": "notebook of 2024"},
    )
    assert RememberedLimit.objects.get().body == ladder.body
    text = client.get(f"{base}/").content.decode()
    assert "typed by hand, not measured here" in text
    assert "notebook of 2024" in text
    assert "notebook of 2024" in client.get(f"{base}/print/").content.decode()


def test_a_signed_record_keeps_the_other_limits(client, measured):
    ladder = measured.ladders.get()
    found = other_limits.of_body(measured, ladder.body, list(measured.uses.all()))
    assert any(one.what == "invariant from" for one in found)
    base = f"/sittings/{measured.pk}/record"
    record = recording.open_record(ladder)
    recording.accept_measured(record)
    for use in measured.uses.all():
        for level in ("clean", "usable", "emergency"):
            if (use.pk, level) not in recording.decisions_of(record):
                recording.decide(record, use, level, None)
    client.post(f"{base}/sign/", {"answer": "x", "note": "", "signed_by": "Wren", "sign": "1"})
    record = Record.objects.get()
    assert record.signed
    assert record.evidence["others"] == other_limits.as_evidence(found)
