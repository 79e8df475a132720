"""The Plan page: ladders added and changed, lists and files out, plans and templates in."""

import csv
import io
import json
import re
from pathlib import Path

import jsonschema
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.utils import timezone

from tests.web.test_pages import message, plan_fields
from yellowjacket.bench.models import Body, CheckItem, PlanTemplate, Shot, Sitting

pytestmark = pytest.mark.django_db


def get(client, path):
    response = client.get(path)
    assert response.status_code == 200, path
    return response.content.decode()


def test_a_second_ladder_is_added_changed_and_removed(client, sitting, body):
    base = f"/sittings/{sitting.pk}/plan"
    client.post(f"{base}/add/", plan_fields(body, ladder="exposure:shutter", under=2, over=1, closing_repeat="on"))
    second = sitting.ladders.last()
    assert [rung.key for rung in second.rungs.all()] == ["−2", "−1", "0", "+1"]
    assert Shot.objects.filter(rung__ladder=second, closing=True).count() == 1
    orders = list(Shot.objects.filter(rung__ladder__sitting=sitting).order_by("order").values_list("order", flat=True))
    assert orders == list(range(len(orders)))
    page = get(client, f"{base}/?ladder={second.pk}")
    assert "Exposure · Heath" in page
    client.post(f"{base}/change/?ladder={second.pk}", plan_fields(body, ladder="time:capped", longest="8 s"))
    second.refresh_from_db()
    assert [rung.key for rung in second.rungs.all()] == ["1", "2", "4", "8"]
    assert set(Shot.objects.filter(rung__ladder=second).values_list("kind", flat=True)) == {"dark"}
    client.post(f"{base}/remove/?ladder={second.pk}")
    assert sitting.ladders.count() == 1
    assert "needs a ladder" in message(client.post(f"{base}/remove/"))


def test_a_ladder_with_frames_stays_as_it_is(client, sitting, body, card, data_folder):
    from yellowjacket import data_folder as data_folder_
    from yellowjacket.bench.intake import importing

    data_folder_.allow_folder(data_folder, card)
    importing.import_folder(sitting, str(card))
    page = client.post(f"/sittings/{sitting.pk}/plan/change/", plan_fields(body)).content.decode()
    assert "has frames already" in page
    assert sitting.ladders.get().rungs.count() == 3


@pytest.mark.parametrize(
    ("ladder", "changes", "words"),
    [
        ("iso:lamp", {"lux": 400}, "Meter"), ("iso:nd", {"filters": "ND8 3 2.8 warm; ND64 6"}, "ND8"),
        ("iso:fixed", {}, "the upper rungs will clip"), ("setting:noise_reduction", {"values": "off, low, high"}, "high"),
        ("time:scene", {"longest": "2 min", "lenr": "pairs"}, "LENR"),
        ("exposure:shutter", {"crossed": ["full", "small"]}, "small"),
    ],
)  # fmt: skip
def test_every_kind_of_ladder_has_its_preview(client, body, ladder, changes, words):
    modes = [
        {"name": name, "width": 640 // n, "height": 448 // n, "bits": 14} for n, name in enumerate(("full", "small"), 1)
    ]
    Body.objects.update(native_highest_iso=1600, highest_iso=1600, raw_modes=modes)
    page = client.post("/sittings/new/stave/", plan_fields(body, ladder=ladder, **changes)).content.decode()
    assert words in page
    assert "rungs" in page


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"ladder": "iso:nd", "filters": "ND8"}, "write name, stops engraved"),
        ({"ladder": "iso:nd", "filters": "ND8 -3"}, "more than 0"),
        ({"picked": "230"}, "nearest mark is 250"), ({"picked": "high"}, "is no ISO setting"),
        ({"rest_s": -1}, "choose 0 to 86400"), ({"ladder": "time:capped", "longest": "1/2"}, "must not be shorter"),
        ({"metered_shutter": "1/8000", "picked": "400"}, "No rung fits"),
    ],
)  # fmt: skip
def test_impossible_ladders_are_refused_with_the_reason(client, body, changes, words):
    assert words in client.post("/sittings/new/stave/", plan_fields(body, **changes)).content.decode()
    assert words in client.post("/sittings/new/", plan_fields(body, **changes)).content.decode()
    assert not Sitting.objects.exists()


def test_the_time_line_names_clock_card_and_battery(client, sitting):
    Body.objects.update(frame_mb=50, battery_frames=5)
    page = get(client, f"/sittings/{sitting.pk}/plan/")
    assert re.search(r"20:00 to 20:0\d, 12 shots", page)
    assert "card 600 MB" in page
    assert "battery changed at" in page
    Body.objects.update(frame_mb=None, battery_frames=None)
    assert "give the body its raw file size" in get(client, f"/sittings/{sitting.pk}/plan/")


def test_the_check_list_is_ticked_with_a_time_and_takes_own_items(client, sitting):
    base = f"/sittings/{sitting.pk}/plan/items"
    item = sitting.check_items.filter(caution=False).first()
    before = timezone.now()
    assert 'aria-checked="true"' in client.post(f"{base}/{item.pk}/").content.decode()
    item.refresh_from_db()
    assert item.ticked_at >= before
    client.post(f"{base}/{item.pk}/")
    item.refresh_from_db()
    assert item.ticked_at is None
    page = client.post(f"{base}/", {"text": "moths <asleep>"}).content.decode()
    assert "moths &lt;asleep&gt;" in page
    assert CheckItem.objects.filter(own=True).count() == 1
    caution = sitting.check_items.filter(caution=True).first()
    assert client.post(f"{base}/{caution.pk}/").status_code == 404


def test_the_shot_list_and_the_cards_stand_on_paper(client, sitting):
    listed = get(client, f"/sittings/{sitting.pk}/plan/shots/")
    assert listed.count('class="box"') == 12
    assert "shutter 1/15 s" in listed
    assert "cap on" in listed
    cards = get(client, f"/sittings/{sitting.pk}/plan/cards/")
    assert cards.count("<section>") == 3
    assert '<nav class="rail"' not in listed + cards


def test_the_shot_list_as_csv_has_every_shot_in_order(client, sitting):
    rows = list(csv.DictReader(io.StringIO(get(client, f"/sittings/{sitting.pk}/plan/shots.csv"))))
    assert [row["number"] for row in rows] == [str(n) for n in range(1, 13)]
    assert [row["iso"] for row in rows[:4]] == ["100", "100", "200", "200"]
    assert [row["iso"] for row in rows[-2:]] == ["100", "100"]
    assert rows[6]["change"].startswith("cap on")
    assert [row["begins"] for row in rows] == sorted(row["begins"] for row in rows)


def test_the_schedule_is_a_calendar_of_ladders(client, make_sitting):
    sitting = make_sitting("Night; long, name " + "x" * 80)
    text = client.get(f"/sittings/{sitting.pk}/plan/schedule.ics").content.decode()
    # RFC 5545: CRLF line ends, at most 75 octets a line, commas and semicolons escaped.
    lines = text.split("\r\n")
    assert lines[0] == "BEGIN:VCALENDAR"
    assert lines[-2] == "END:VCALENDAR"
    assert all(len(line.encode()) <= 75 for line in lines)
    assert "DTSTART:20260314T200000" in lines
    assert "SUMMARY:Night\\; long\\, name" in text.replace("\r\n ", "")


def test_a_plan_goes_out_and_comes_in_fitted_to_another_body(client, sitting, body):
    document = json.loads(get(client, f"/sittings/{sitting.pk}/plan/plan.json"))
    schema = json.loads(Path("docs/plan.schema.json").read_text())
    jsonschema.Draft202012Validator(schema).validate(document)
    small = Body.objects.create(
        make="Quillon", model="Tarn", pixel_width=100, pixel_height=100, lowest_iso=200, native_lowest_iso=200,
        native_highest_iso=800, highest_iso=800, fastest_shutter_s=1 / 4000, slowest_shutter_s=30,
    )  # fmt: skip
    upload = SimpleUploadedFile("plan.json", json.dumps(document).encode())
    response = client.post("/sittings/from-plan/", {"plan": upload, "body": small.pk, "name": "With Tarn"})
    made = Sitting.objects.get(name="With Tarn")
    assert made.ladders.get().body == small
    assert made.ladders.get().metered_iso == 200
    assert "metered at ISO 200 and 1/15 s instead of ISO 100" in message(response)


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"not json", "not JSON"), (b"[]", "not a plan"), (b'{"schema": "yellowjacket-plan/7"}', "of version"),
        (b'{"schema": "yellowjacket-plan/1", "ladders": [{"body": {"make": "No", "model": "One"}, "ladder": '
         b'{"kind": "iso", "method": "shutter", "metered": {"iso": 100, "exposure_s": 0.1, "f_number": 8}}}]}',
         "No One, which is not in the register"),
        (b" " * 1_000_001, "larger than a plan"),
    ],
)  # fmt: skip
def test_plan_files_that_cannot_be_read_are_explained(client, body, content, words):
    page = client.post("/sittings/from-plan/", {"plan": SimpleUploadedFile("plan.json", content)}).content.decode()
    assert words in page
    assert not Sitting.objects.exists()
    assert "Choose a template" in client.post("/sittings/from-plan/").content.decode()


def test_a_template_is_kept_and_used(client, sitting):
    client.post(f"/sittings/{sitting.pk}/plan/template/", {"name": "Drawer test"})
    assert "Give the template a name" in message(client.post(f"/sittings/{sitting.pk}/plan/template/", {"name": " "}))
    template = PlanTemplate.objects.get()
    client.post("/sittings/from-plan/", {"template": template.pk, "name": "Again"})
    again = Sitting.objects.get(name="Again").ladders.get()
    assert [rung.key for rung in again.rungs.all()] == ["100", "200", "400"]


def test_the_depth_of_the_lamps_pulses_widens_the_flicker(client, body):
    ranges = []
    for depth in ("0.1", "0.6"):
        fields = plan_fields(body, name=f"Lamp {depth}", mains_hz="50", modulation=depth, metered_shutter="1/250")
        client.post("/sittings/new/", fields)
        rung = Sitting.objects.get(name=f"Lamp {depth}").ladders.get().rungs.first()
        ranges.append(next(one["short"] for one in rung.warnings if one["code"] == "flicker"))
    # 1/256 s under 100 pulses a second: sinc(0.39) = 0.77 of the depth, so +0.11 and +0.55 stop.
    assert ranges == ["+0.11 flicker", "+0.55 flicker"]
    assert "less than or equal to 0.95" in client.post("/sittings/new/", fields | {"modulation": "2"}).content.decode()


def test_a_body_corrected_later_leaves_the_plan_as_it_was_and_says_so(client, sitting):
    Body.objects.update(lowest_iso=200, native_lowest_iso=200)
    page = get(client, f"/sittings/{sitting.pk}/plan/")
    assert "entry has changed since this was planned" in page
    assert get(client, f"/sittings/{sitting.pk}/plan/shots.csv").count("light") == 6


def test_what_is_still_to_shoot_is_listed_alone(client, filled):
    """On paper and as CSV: nothing while every shot has its frame, then only what is to be shot again."""
    from yellowjacket.bench.check import remedies
    from yellowjacket.bench.models import Frame

    base = f"/sittings/{filled.pk}/plan/shots"
    assert "Every shot has its frame" in client.get(f"{base}/?open=yes").content.decode()
    frame = Frame.objects.filter(sitting=filled, shot__rung__iso=200, shot__kind="light").first()
    remedies.reshoot(frame)
    page = client.get(f"{base}/?open=yes").content.decode()
    assert "1 shot still to take" in page
    rows = client.get(f"{base}.csv?open=yes").content.decode().splitlines()
    assert len(rows) == 2
    assert ",200," in rows[1]
    assert len(client.get(f"{base}.csv").content.decode().splitlines()) == 13
