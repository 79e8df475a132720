"""Comparing ladders, and what the record says besides ISO."""

import html
import io
import re

import pytest
from django.contrib.messages import get_messages

from tests.web.test_look import two  # noqa: F401 - a fixture
from yellowjacket.bench.compare import bodies
from yellowjacket.bench.look import grades, renditions
from yellowjacket.bench.models import (
    Body,
    Decision,
    ForeignCurve,
    Ladder,
    Reading,
    Record,
    RememberedLimit,
    Rung,
    Sitting,
    TrailEntry,
)
from yellowjacket.bench.prediction.clean_frame import Predicting, Wanted
from yellowjacket.bench.record import other_limits
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.refusal import Refusal
from yellowjacket.web.predicted import PredictedCrops

pytestmark = pytest.mark.django_db


def said(response) -> str:
    return " ".join(str(m) for m in get_messages(response.wsgi_request))


def address(sitting, **more):
    parts = [f"ladder={ladder.pk}" for ladder in sitting.ladders.all()] + [f"{k}={v}" for k, v in more.items()]
    return f"/compare/?{'&'.join(parts)}"


def test_two_bodies_are_held_against_each_other(client, two):  # noqa: F811
    text = client.get(address(two)).content.decode()
    assert re.search(r"Moor is worse than Heath: \d+ % less shadow SNR \(\d+ to \d+ %\)", text)
    assert "per pixel" in text
    assert "Compared at: same settings" in text
    charts = re.findall(r'<details class="unfolds".*?</details>', text, re.S)
    # A chart for every line that anybody measured, each with both bodies.
    assert len(charts) >= 5
    assert all(chart.count('<g class="body-curve style-') == 2 for chart in charts)
    assert [" open>" in chart for chart in charts] == [True] + [False] * (len(charts) - 1)
    # The sheet leads to them.
    for key in re.findall(r'<a href="#(chart-[a-z-]+)">', text):
        assert f'id="{key}"' in text
    assert "nan" not in text.lower().replace("nance", "")


def test_bodies_are_seen_beside_each_other_and_charts_have_axes(client, two):  # noqa: F811
    """A picture for every body and mark that was shot; round numbers on the axis of values, a legend for the curves."""
    text = client.get(address(two)).content.decode()
    rows = text.partition("crop-rows")[2].partition("</table>")[0]
    assert re.findall(r'<th scope="row">(\w+)</th>', rows) == ["Heath", "Moor"]
    found = [one.replace("&amp;", "&") for one in re.findall(r'src="(/frames/[^"]+)"', rows)]
    assert len(found) == 6
    assert all(client.get(one)["Content-Type"] == "image/png" for one in found[::3])
    chart = text.partition('class="compare-chart"')[2].partition("</svg>")[0]
    values = [float(one) for one in re.findall(r'class="tick">([\d.]+)</text>', chart)]
    assert len(values) >= 2
    assert all(f"{value:e}"[0] in "12345678" and len(f"{value:g}".strip("0.")) <= 2 for value in values)
    assert text.partition('class="legend"')[2].partition("</p>")[0].count("<svg") == 2
    # The threshold that decides, where it lies among the values.
    assert re.search(r'class="threshold-name">(clean|usable|emergency) [\d.]+<', text)


def test_bodies_that_never_met_stand_on_one_scene_by_prediction(client, two, make_sitting):  # noqa: F811
    """The other body's noise on the first one's scene, marked; measured on the crop it is the noise that body has."""
    one, other = two.ladders.all()
    page = client.get(address(two)).content.decode()
    assert "predicted" not in page.partition("crop-rows")[2].partition("</table>")[0]
    # What is known of the other body's sensor: as the first one's, with twice the read noise.
    for own, its in zip(one.rungs.all(), other.rungs.all(), strict=True):
        for reading in own.readings.filter(patch=None, use=None).exclude(quantity="shadow_snr"):
            reading.pk, reading.rung = None, its
            if reading.quantity == "read_noise_e" and reading.value:
                reading.value, reading.low, reading.high = 2 * reading.value, 2 * reading.low, 2 * reading.high
            reading.save()
    elsewhere = make_sitting("Elsewhere")
    elsewhere.ladders.all().delete()
    type(other).objects.filter(pk=other.pk).update(sitting=elsewhere)
    text = client.get(f"/compare/?ladder={one.pk}&ladder={other.pk}").content.decode()
    rows = text.partition("crop-rows")[2].partition("</table>")[0]
    assert "of Heath, predicted" in rows
    assert "Moor never took the scene of Heath" in text
    urls = [url.replace("&amp;", "&") for url in re.findall(r'src="(/ladders/[^"]+)"', rows)]
    assert urls
    assert all(f"by={other.pk}" in url for url in urls)
    assert client.get(urls[-1])["Content-Type"] == "image/png"
    assert client.get(urls[-1].replace(f"by={other.pk}", "by=999999")).status_code == 404
    # On the mosaic: gain and saturation are the other body's.
    crops = PredictedCrops.of(one, (64, 48)).as_taken_by(Ladder.objects.get(pk=other.pk))
    own, asked = Predicting.of(Ladder.objects.get(pk=other.pk)), crops.predicting.asked(Wanted(400.0))
    assert asked.target == own.sensor.at(400.0)
    assert asked.target.read_noise_e == pytest.approx(2 * crops.predicting.sensor.at(400.0).read_noise_e)
    assert asked.clean == crops.predicting.clean != own.clean


def test_bodies_that_are_not_equally_bright_are_reported(two):  # noqa: F811
    one, other = two.ladders.all()
    grey = one.patches.get(role="grey")
    twin = type(grey).objects.create(ladder=other, name="grey", role="grey", x=grey.x, y=grey.y, w=grey.w, h=grey.h)
    for own, its in zip(one.rungs.all(), other.rungs.all(), strict=True):
        for reading in own.readings.filter(patch=grey, quantity="signal_dn"):
            reading.pk, reading.rung, reading.patch = None, its, twin
            reading.value *= 2 ** (1 / 3)
            reading.save()
    assert not any("bright" in words for words in bodies.compare([one, other], None).unfair)
    two.held_equal = "brightness"
    two.save()
    fresh = list(two.ladders.select_related("sitting", "body"))
    (words,) = [one for one in bodies.compare(fresh, None).unfair if "bright" in one]
    assert words.startswith("Moor is 0.33 stop brighter than Heath")
    # A tenth of a stop is within what a dial can do.
    for reading in Reading.objects.filter(patch=twin):
        reading.value *= 2 ** (-1 / 3 + 0.1)
        reading.save()
    assert not any("bright" in words for words in bodies.compare(fresh, None).unfair)


def test_whoever_is_named_first_the_statement_is_the_same(two):  # noqa: F811
    one, other = two.ladders.all()
    said = [bodies.compare(pair, None).against[0].sentences for pair in ([one, other], [other, one])]
    assert said[0] == said[1]


def test_a_ladder_held_fixed_stands_beside_no_metered_one(client, two):  # noqa: F811
    two.ladders.last().__class__.objects.filter(pk=two.ladders.last().pk).update(method="fixed")
    text = client.get(address(two)).content.decode()
    assert "exposure was held fixed, so its rungs did not get the light they are named for" in text
    assert "compare-chart" not in text


def test_a_size_is_never_mixed(two):  # noqa: F811
    ladders = list(two.ladders.all())
    assert bodies.sizes_of(ladders) == [("Web", 10_000)]
    plain, web = bodies.compare(ladders, None), bodies.compare(ladders, 10_000)
    first = plain.ladders[0]
    mark = first.rungs[0].iso
    per_pixel, at_web = first.at(mark, "shadow_snr"), web.ladders[0].at(mark, "shadow_snr")
    # 640 × 448 pixels on 10 000: SNR of white noise would rise by the root of their ratio, that of developed pixels by less.
    assert 0.6 < at_web.value / per_pixel.value / (640 * 448 / 10_000) ** 0.5 < 0.9
    with pytest.raises(Refusal, match="Not all of them have a use of that size"):
        bodies.compare(ladders, 24_000_000)


def test_of_many_ladders_the_newest_of_each_body_is_offered_and_the_others_on_request(client, two, monkeypatch):  # noqa: F811
    heath, moor = two.ladders.all()
    for held_on in ("2024-05-01", "2025-05-01"):
        sitting = Sitting.objects.create(name=held_on, held_on=held_on, profile=two.profile)
        ladder = Ladder.objects.get(pk=heath.pk)
        ladder.pk, ladder.sitting = None, sitting
        ladder.save(force_insert=True)
        Rung.objects.create(ladder=ladder, key="a", position=0, at_stops=0, iso=100, exposure_s=1, measured_inputs="x")
    monkeypatch.setattr(bodies, "_MOST_OFFERED", 3)
    older = Ladder.objects.filter(sitting__name="2024-05-01").get()

    def offered(query=""):
        text = client.get(f"/compare/?{query}").content.decode()
        return text, {int(one) for one in re.findall(r'name="ladder"\s+value="(\d+)"', text)}

    text, found = offered()
    assert found == {heath.pk, moor.pk}
    assert "Offer 2 older ones too" in text
    # One that was chosen stays among them, and the link leads to all.
    text, found = offered(f"ladder={older.pk}&ladder={moor.pk}")
    assert found == {heath.pk, moor.pk, older.pk}
    everything = html.unescape(re.search(r'href="\?(all=1[^"]*)"', text)[1])
    text, found = offered(everything)
    assert len(found) == 4
    assert re.search(rf'value="{older.pk}" checked', text)
    assert "Offer " not in text


def test_one_is_no_comparison(client, measured):
    assert "Choose 2 to 6" in client.get(address(measured)).content.decode()
    assert "Compare" in client.get("/compare/").content.decode()


def test_without_measured_ladders_the_way_to_them_is_shown(client, sitting):
    assert "Nothing to compare yet" in client.get("/compare/").content.decode()


def test_smoothed_raw_makes_a_comparison_unfair(client, two):  # noqa: F811
    rung = two.ladders.last().rungs.get(iso=400)
    Reading.objects.create(rung=rung, channel="all", quantity="flags", value=1, n=1, notes=[["SMOOTHED_HERE"]])
    assert "Moor smooths its raw at ISO 400" in client.get(address(two)).content.decode()


def test_the_page_asks_few_queries(client, two, django_assert_max_num_queries):  # noqa: F811
    client.get(address(two))
    with django_assert_max_num_queries(30):
        client.get(address(two))


# The record


def test_the_record_has_grades_with_a_finish_and_what_was_remembered(client, measured):
    ladder, use = measured.ladders.get(), measured.uses.first()
    lane = renditions.create_lane(ladder, "finish", "gentle")
    for rung, plain, finished in zip(ladder.rungs.all(), (1, 4, 5), (1, 2, 3), strict=True):
        grades.grade_rung(rung, use, "Wren", plain)
        grades.grade_rung(rung, use, "Wren", finished, lane=lane)
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
    found = other_limits.of_body(ladder, list(measured.uses.all()))
    assert any(one.what == "invariant from" for one in found)
    base = f"/sittings/{measured.pk}/record"
    record = record_.open_record(ladder)
    record_.accept_proposed(record)
    for use in measured.uses.all():
        for level in ("clean", "usable", "emergency"):
            if (use.pk, level) not in Decision.objects.of(record):
                record_.decide(record, use, level, None)
    said_of = {"what": "invariant from", "limit_use": "", "decided_other": "ISO 400"}
    assert 'value="ISO 400"' in client.post(f"{base}/decide-other/", said_of).content.decode()
    client.post(f"{base}/sign/", {"answer": "x", "note": "", "signed_by": "Wren", "sign": "1"})
    record = Record.objects.get()
    assert record.signed
    kept = record.evidence["others"]
    assert [{k: v for k, v in one.items() if k != "decided"} for one in kept] == other_limits.as_evidence(found)
    assert [one["decided"] for one in kept if one["what"] == "invariant from"] == ["ISO 400"]
    late = client.post(f"{base}/decide-other/", said_of | {"decided_other": "ISO 100"}).content.decode()
    assert "was signed by Wren" in late
    amended = record_.amend(record)
    assert amended.other_decisions.get().text == "ISO 400"
    assert "ISO 400" in client.get(f"{base}/card.txt").content.decode()


def test_what_is_open_besides_iso_is_taken_over_as_found(client, measured):
    ladder, use = measured.ladders.get(), measured.uses.first()
    lane = renditions.create_lane(ladder, "finish", "gentle")
    for rung, grade in zip(ladder.rungs.all(), (1, 2, 3), strict=True):
        grades.grade_rung(rung, use, "Wren", grade, lane=lane)
    base = f"/sittings/{measured.pk}/record"
    assert "Clean ISO with gentle" in client.get(f"{base}/").content.decode()
    client.post(f"{base}/accept-others/")
    record = record_.open_record(ladder)
    decided = {one.what: one.text for one in record.other_decisions.filter(use=use.name)}
    # Clean is grade A: the first rung only; usable up to C, where the ladder ends.
    assert decided["clean ISO with gentle"] == "ISO 100"
    assert decided["usable ISO with gentle"] == "ISO 400"
    assert "Take over as found" not in client.get(f"{base}/").content.decode()


# Curves from elsewhere


def upload(text, **more):
    fields = {"name": "Tarn II", "quantity": "range", "unit": "", "megapixels": "", "source": "a magazine, 2025"}
    return fields | more | {"curve": io.BytesIO(text.encode())}


def test_a_curve_from_elsewhere_stands_beside_ones_own_and_is_marked(client, two):  # noqa: F811
    text = "ISO;range (dB)\n100;72,2\n200;66,2\n"
    answer = client.post("/compare/foreign/?" + address(two).split("?")[1], upload(text), follow=True).content.decode()
    assert "marked as foreign data" in answer
    assert "turned from dB into stops; decimal commas read as such" in answer
    row = re.search(r'<tr class=" foreign">.*?</tr>', answer, re.S).group(0)
    assert "not measured here: a magazine, 2025" in row
    assert re.search(r">\s*12\.0<", row)
    # It is drawn as well, beside one's own range.
    assert "Dynamic range along ISO" in answer
    assert answer.count('class="body-curve elsewhere"') == 1
    # It was given per pixel, so at a size it is not shown.
    assert '<tr class=" foreign">' not in client.get(address(two, size=10_000)).content.decode()
    again = client.post("/compare/foreign/", upload(text), follow=True).content.decode()
    assert "is here already" in again
    client.post(f"/compare/foreign/{ForeignCurve.objects.get().pk}/delete/")
    assert not ForeignCurve.objects.exists()
    assert set(TrailEntry.objects.values_list("act", flat=True)) >= {"foreign curve taken in", "foreign curve deleted"}


@pytest.mark.parametrize(
    ("text", "more", "words"),
    [
        ("ISO,read noise (DN)\n100,3\n", {"quantity": "read_noise"}, "without the gain"),
        ("ISO,range (stops)\n100,12\n", {"source": ""}, "where it is from"),
        ("ISO,range (stops)\n100,12\n", {"megapixels": "many"}, "in megapixels"),
        ("ISO,range (stops)\n" + "100,12\n" * 99999, {}, "larger than 256 kB"),
    ],
)
def test_a_doubtful_curve_is_refused_and_nothing_is_kept(client, db, text, more, words):
    assert words in client.post("/compare/foreign/", upload(text, **more), follow=True).content.decode()
    assert not ForeignCurve.objects.exists()


def test_a_file_that_is_no_text_is_refused(client, db):
    fields = upload("") | {"curve": io.BytesIO(b"\xff\xfe\x00\x01")}
    assert "not UTF-8 text" in client.post("/compare/foreign/", fields, follow=True).content.decode()
    assert (
        "Choose a CSV file"
        in client.post("/compare/foreign/", upload("") | {"curve": ""}, follow=True).content.decode()
    )


def test_bodies_of_one_sensor_are_grouped_and_it_is_said(client, two):  # noqa: F811
    Body.objects.update(sensor="S-22")
    text = client.get(address(two)).content.decode()
    assert "One sensor, S-22" in text
    assert "have one sensor, S-22" in text


def test_differences_carry_intervals(client, two):  # noqa: F811
    """A range of 12.0 ± 0.3 against 11.0 ± 0.4 is a stop less, ± 0.5."""
    for ladder, value, half in zip(two.ladders.all(), (12.0, 11.0), (0.3, 0.4), strict=True):
        Reading.objects.create(
            rung=ladder.rungs.get(iso=100), channel="all", quantity="range_snr1", value=value, low=value - half,
            high=value + half, n=9,
        )  # fmt: skip
    found = bodies.compare(list(two.ladders.all()), None)
    (against,) = found.against
    ranges = next(one for one in against.differences if one.name == f"Dynamic range against {found.ladders[0].name}")
    one = ranges.by_mark[100]
    assert (one.value, one.low, one.high) == pytest.approx((-1.0, -1.5, -0.5))
    assert f"Dynamic range against {found.ladders[0].name}" in client.get(address(two)).content.decode()
