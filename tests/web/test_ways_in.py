"""Ways in that must not end: an empty desk, a folder that is not allowed, three fields, numbers as they are typed."""

import re
from datetime import date

import pytest
from django.contrib.messages import get_messages

from tests.web.test_pages import plan_fields
from yellowjacket import data_folder as folders
from yellowjacket.bench import health
from yellowjacket.bench.exchange import deleted_sittings
from yellowjacket.bench.models import Body, Frame, Grade, Job, Reading, Record, Sitting
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.refusal import Refusal

pytestmark = pytest.mark.django_db


def said(response) -> str:
    return " ".join(str(m) for m in get_messages(response.wsgi_request))


def test_the_simulated_camera_is_one_click_and_can_be_removed(client, data_folder):
    response = client.post("/try-out/")
    sitting = Sitting.objects.get()
    assert response.url == f"/sittings/{sitting.pk}/shoot/"
    assert sitting.frames.count() == 40
    assert Body.objects.get().simulated_as
    assert "is in 1 sitting" in said(client.post(f"/bodies/{Body.objects.get().pk}/delete/"))
    client.post(f"/sittings/{sitting.pk}/delete/")
    assert "is deleted" in said(client.post(f"/bodies/{Body.objects.get().pk}/delete/"))
    assert not Body.objects.exists()


def test_without_a_camera_a_plan_begins_with_the_simulated_one(client, db):
    assert client.post("/bodies/simulated/").url == "/sittings/new/"
    assert "Save plan" in client.get("/sittings/new/").content.decode()


def test_a_folder_is_allowed_with_one_click_on_this_machine(client, card, data_folder):
    page = client.post("/adopt/", {"folder": str(card)}).content.decode()
    assert "Allow this folder?" in page
    assert str(card) in page
    assert not Sitting.objects.exists()
    response = client.post("/allow/", {"folder": str(card)})
    sitting = Sitting.objects.get()
    assert response.url == f"/sittings/{sitting.pk}/adopting/"
    assert sitting.frames.count() == 12
    assert folders.inside_allowed(data_folder, card)
    # A sitting that asked for it gets its frames.
    response = client.post("/allow/", {"folder": str(card), "sitting": sitting.pk})
    assert response.url.startswith(f"/sittings/{sitting.pk}/shoot/")


def test_nobody_else_may_allow_a_folder(client, card, data_folder):
    elsewhere = {"REMOTE_ADDR": "203.0.113.9"}
    told = said(client.post("/adopt/", {"folder": str(card)}, **elsewhere))
    assert "outside the folders" in told
    assert f"YELLOWJACKET_HOME={data_folder} yellowjacket allow {card}" in told
    assert "Only the computer" in said(client.post("/allow/", {"folder": str(card)}, **elsewhere))
    assert not folders.inside_allowed(data_folder, card)
    assert "cannot be allowed" in said(client.post("/allow/", {"folder": f"{card}/none"}))
    assert "cannot be allowed" in said(client.post("/allow/", {"folder": "a\0b"}))


def test_a_deleted_sitting_comes_back_whole(client, measured):
    ladder = measured.ladders.get()
    record = record_.open_record(ladder)
    record_.accept_proposed(record)
    record_.decide(record, measured.uses.first(), "clean", 200)
    Grade.objects.create(rung=ladder.rungs.first(), use=measured.uses.first(), grade=2, person="Wren")
    before = (Frame.objects.count(), Reading.objects.count(), Grade.objects.count(), Record.objects.count())
    paths = sorted(Frame.objects.values_list("path", flat=True))
    told = said(client.post(f"/sittings/{measured.pk}/delete/"))
    assert f"Its {before[0]} frames stay where they are" in told
    assert not Sitting.objects.exists()
    assert not Reading.objects.exists()
    desk = client.get("/").content.decode()
    assert "Deleted sittings" in desk
    (gone,) = deleted_sittings.deleted()
    assert "is restored" in said(client.post(f"/deleted/{gone.token}/"))
    assert (Frame.objects.count(), Reading.objects.count(), Grade.objects.count(), Record.objects.count()) == before
    assert sorted(Frame.objects.values_list("path", flat=True)) == paths
    assert Record.objects.get().decisions.get(level="clean", use__name="Pixel level").iso == 200
    assert "cannot be restored" in said(client.post(f"/deleted/{gone.token}/"))
    assert deleted_sittings.deleted() == []


def test_the_doctor_leaves_the_frames_of_a_deleted_sitting_alone(client, sitting, card, data_folder):
    """Until it is deleted for good, it may want them again."""
    with (card / "F001.DNG").open("rb") as file:
        client.post(f"/sittings/{sitting.pk}/shoot/upload/", {"frames": [file]})
    (path,) = Frame.objects.values_list("path", flat=True)
    client.post(f"/sittings/{sitting.pk}/delete/")
    assert list(health.clean_up()) == []
    (gone,) = deleted_sittings.deleted()
    client.post(f"/deleted/{gone.token}/")
    assert Frame.objects.get().path == path
    client.post(f"/sittings/{Sitting.objects.get().pk}/delete/")
    (gone,) = deleted_sittings.deleted()
    client.post(f"/deleted/{gone.token}/", {"for_good": "yes"})
    assert list(health.clean_up()) == [f"removed {path}"]


def test_a_sitting_is_deleted_for_good_only_when_asked(client, sitting):
    client.post(f"/sittings/{sitting.pk}/delete/")
    (gone,) = deleted_sittings.deleted()
    assert "for good" in said(client.post(f"/deleted/{gone.token}/", {"for_good": "yes"}))
    assert deleted_sittings.deleted() == []
    assert client.post("/deleted/..%2f..%2fdb/").status_code == 404
    with pytest.raises(Refusal):
        deleted_sittings.restore("nothing")


def test_a_crash_between_archive_and_database_offers_nothing_twice(sitting, monkeypatch):
    def crash(*_):
        raise KeyboardInterrupt

    monkeypatch.setattr(Sitting, "delete", crash)
    with pytest.raises(KeyboardInterrupt):
        deleted_sittings.delete(sitting)
    assert Sitting.objects.exists()
    assert deleted_sittings.deleted() == []


def test_a_sitting_that_is_worked_on_is_not_deleted(client, sitting):
    Job.objects.create(sitting=sitting, kind=Job.Kind.MEASURE, state=Job.State.RUNNING)
    assert "under way" in said(client.post(f"/sittings/{sitting.pk}/delete/"))
    assert Sitting.objects.exists()


def test_a_sitting_that_cannot_be_kept_is_not_deleted(client, sitting, data_folder):
    (data_folder / "deleted").write_text("in the way")
    assert "Nothing is deleted" in said(client.post(f"/sittings/{sitting.pk}/delete/"))
    assert Sitting.objects.exists()


def test_three_fields_are_enough(client, body):
    fields = {
        "body": body.pk,
        "ladder": "exposure:shutter",
        "metered_iso": "100",
        "metered_shutter": "1/8",
        "aperture": "f/8",
    }
    page = client.get("/sittings/new/").content.decode()
    # Everything else keeps what the form shows.
    kept = plan_fields(body) | {"name": "", "scene": "", "question": "", "expectation": "", "held_on": "2026-11-27"}
    assert "specimen drawer" not in page
    response = client.post("/sittings/new/", kept | fields)
    sitting = Sitting.objects.get()
    assert response.url == f"/sittings/{sitting.pk}/plan/"
    assert sitting.name == "Heath, 27 Nov"
    assert sitting.held_on == date(2026, 11, 27)
    assert sitting.question == "How far can exposure be pushed and pulled?"
    for step in ("plan", "record", "record/print"):
        assert "<dt>Expected" not in client.get(f"/sittings/{sitting.pk}/{step}/").content.decode()


@pytest.mark.parametrize(
    ("picked", "isos"),
    [
        ("200-800", [200, 400, 800]), ("200 – 800", [200, 400, 800]), ("250-640, thirds", [250, 320, 400, 500, 640]),
        ("100, 250, 6400", [100, 250, 6400]), ("125-800", [125, 200, 400, 800]),
    ],
)  # fmt: skip
def test_iso_lists_are_understood(client, body, picked, isos):
    body.highest_iso = body.native_highest_iso = 12800
    body.save()
    client.post("/sittings/new/", plan_fields(body, picked=picked))
    assert list(Sitting.objects.get().ladders.get().rungs.values_list("iso", flat=True)) == isos


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"metered_iso": "1oo"}, "Enter a whole number"), ({"under": "five"}, "Enter a number"),
        ({"picked": "64..800"}, "is no ISO setting"), ({"picked": "3-5"}, "has no setting between ISO 3 and 5"),
        ({"picked": "-5, 0, 3"}, "is no ISO setting"),
    ],
)  # fmt: skip
def test_what_is_no_number_is_not_made_one(client, body, changes, words):
    assert words in client.post("/sittings/new/", plan_fields(body, **changes)).content.decode()
    assert not Sitting.objects.exists()


def test_a_decimal_comma_is_one_and_browsers_keep_what_is_typed(client, body):
    page = client.get("/sittings/new/").content.decode()
    assert 'type="number"' not in page
    client.post("/sittings/new/", plan_fields(body, temperature_c="20,5", rest_s="−0") | {"rest_s": "1,5"})
    assert Sitting.objects.get().temperature_c == 20.5


def test_raw_modes_that_the_form_hides_are_not_crossed(client, body):
    modes = (("full", 640, 448), ("half", 320, 224))
    body.raw_modes = [{"name": name, "width": width, "height": height, "bits": 14} for name, width, height in modes]
    body.save()
    both = ["full", "half"]
    client.post("/sittings/new/", plan_fields(body, ladder="setting:noise_reduction", values="off, low", crossed=both))
    assert Sitting.objects.get().ladders.get().rungs.count() == 2


def test_raw_modes_are_ticked_and_are_those_of_the_body(client, body):
    """Tick boxes of what the body has; they are what a raw-mode ladder compares; another body brings its own."""
    modes = (("full", 640, 448), ("half", 320, 224))
    body.raw_modes = [{"name": name, "width": width, "height": height, "bits": 14} for name, width, height in modes]
    body.save()
    page = client.get("/sittings/new/").content.decode()
    assert re.findall(r'name="crossed" value="(\w+)"', page) == ["full", "half"]
    fields = plan_fields(body, ladder="setting:raw_mode", crossed=["full", "half"])
    client.post("/sittings/new/", fields)
    assert [rung.value for rung in Sitting.objects.get().ladders.get().rungs.all()] == ["full", "half"]
    refused = client.post("/sittings/new/", fields | {"crossed": ["full", "huge"]}).content.decode()
    assert "huge is not a raw mode of this body." in refused
    other = Body.objects.create(
        make="Ostrel", model="Fen", pixel_width=64, pixel_height=48, lowest_iso=100, highest_iso=800,
        native_lowest_iso=100, native_highest_iso=800, fastest_shutter_s=1 / 8000, slowest_shutter_s=30,
    )  # fmt: skip
    trigger = {"HX-Request": "true", "HX-Trigger-Name": "body"}
    renewed = client.post("/sittings/new/stave/", fields | {"body": other.pk}, headers=trigger).content.decode()
    assert 'hx-swap-oob="true"' in renewed
    assert "none listed for this body" in renewed
    kept = client.post("/sittings/new/stave/", fields, headers=trigger | {"HX-Trigger-Name": "crossed"})
    assert 'id="raw-modes"' not in kept.content.decode()
