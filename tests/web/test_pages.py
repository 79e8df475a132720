"""Every page answers, shows what it should, and turns bad requests into sentences."""

import re

import pytest
from django.contrib.messages import get_messages

from yellowjacket.bench.models import Body, Frame, Grade, Patch, Reading, Record, Shot, Sitting

pytestmark = pytest.mark.django_db
STEPS = ("plan", "shoot", "measure", "look", "record")


def plan_fields(body, **changes):
    fields = {
        "name": "Drawer 3", "scene": "drawer", "question": "How high?", "expectation": "ISO 200",
        "held_on": "2026-03-14", "lens": "", "light": "", "temperature_c": "", "body": body.pk, "metered_iso": 100,
        "metered_shutter": "1/8", "aperture": "f/8", "step": "full", "repeats": 2, "darks": 2,
        "ladder": "iso:shutter", "under": 5, "over": 5, "shortest": "1 s",
        "longest": "4 min", "lenr": "off", "rest_s": 0, "values": "", "held_equal": "settings", "mains_hz": "0",
        "modulation": "0.3",
        "use_name_0": "Pixel level", "use_mp_0": "", "use_name_1": "Web", "use_mp_1": "2",
    }  # fmt: skip
    return fields | changes


def test_an_empty_desk_offers_the_first_step(client, db):
    page = client.get("/").content.decode()
    for words in ("Try it with the simulated camera", "Files, dropped here or chosen", "Plan a test"):
        assert words in page
    assert client.get("/sittings/new/").url == "/bodies/new/"
    assert "Use the simulated camera" in client.get("/bodies/new/").content.decode()


@pytest.mark.parametrize("step", STEPS)
def test_every_step_answers_before_any_frame(client, sitting, step):
    response = client.get(f"/sittings/{sitting.pk}/{step}/")
    assert response.status_code == 200
    assert "Drawer 1" in response.content.decode()


@pytest.mark.parametrize("step", STEPS)
def test_every_step_shows_the_stave_of_the_same_rungs(client, measured, step):
    page = client.get(f"/sittings/{measured.pk}/{step}/?rung=200").content.decode()
    for iso in (100, 200, 400):
        assert f'data-rung="{iso}"' in page
    assert 'aria-current="true"' in page


def test_a_plan_is_kept(client, body):
    response = client.post("/sittings/new/", plan_fields(body))
    sitting = Sitting.objects.get()
    assert response.url == f"/sittings/{sitting.pk}/plan/"
    assert [rung.iso for rung in sitting.ladders.get().rungs.all()] == [100, 200, 400]
    assert sitting.uses.get(name="Web").output_pixels == 2_000_000


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"metered_iso": 110}, "the nearest mark is 100"),
        ({"metered_shutter": "soon"}, "write it like 1/60"),
        ({"aperture": "wide"}, "write it like f/8"),
        ({"repeats": 0}, "0 frames a rung cannot be shot"),
        ({"use_name_0": "", "use_name_1": ""}, "Name at least one use"),
        ({"use_name_1": "pixel LEVEL"}, "same name"),
        ({"aperture": ""}, "required"),
    ],
)
def test_a_plan_that_cannot_be_is_refused_at_its_field(client, body, changes, words):
    page = client.post("/sittings/new/", plan_fields(body, **changes)).content.decode()
    assert words in page
    assert not Sitting.objects.exists()


def test_the_preview_is_the_ladder_that_would_be_stored(client, body):
    page = client.post("/sittings/new/stave/", plan_fields(body, metered_shutter="1/15")).content.decode()
    assert "1/30 s" in page
    assert "3 rungs, 12 shots" in page
    assert (
        "Aperture: This field is required"
        in client.post("/sittings/new/stave/", plan_fields(body, aperture="")).content.decode()
    )


def test_a_body_is_added_and_its_marks_must_rise(client, db):
    fields = {
        "make": "Quillon", "model": "Moor", "serial": "", "pixel_width": 5760, "pixel_height": 3840, "lowest_iso": 100,
        "native_lowest_iso": 200, "native_highest_iso": 100, "highest_iso": 25600, "fastest_shutter_s": "1/4000",
        "slowest_shutter_s": "30 s", "iso_step": "third", "ownership": "lent", "bulb": "on", "lenr_from_s": "1 s",
        "sensor_width_mm": "35.9", "sensor_height_mm": "23.9", "raw_modes": "full 5760×3840 14; small 2880x1920 12",
        "firmware": "1.02 2026-01-31",
    }  # fmt: skip
    assert "must not fall" in client.post("/bodies/new/", fields).content.decode()
    client.post("/bodies/new/", fields | {"native_highest_iso": 12800})
    moor = Body.objects.get()
    assert moor.fastest_shutter_s == pytest.approx(1 / 4000)
    assert [mode["name"] for mode in moor.raw_modes] == ["full", "small"]
    # 35.9 mm over 5760 pixels; diagonal 43.27 mm over 43.13 mm.
    assert moor.pixel_pitch_um == pytest.approx(6.233, abs=1e-3)
    assert moor.crop_factor == pytest.approx(1.0033, abs=1e-3)
    assert moor.firmware_versions.get().version == "1.02"
    assert "Quillon Moor" in client.get("/bodies/").content.decode()


@pytest.mark.parametrize(
    ("field", "text", "words"),
    [
        ("raw_modes", "small", "write name, size, bits"), ("iso_list", "100, auto", "as numbers"),
        ("firmware", "1.02", "version and date"), ("lenr_from_s", "soon", "not an exposure time"),
        ("iso_step", "every", "List the marks"),
    ],
)  # fmt: skip
def test_what_a_body_cannot_have_is_refused_at_its_field(client, body, field, text, words):
    page = client.post(f"/bodies/{body.pk}/", {"make": "Ostrel", field: text}).content.decode()
    assert words in page


def test_a_body_begins_from_one_of_its_frames(client, db, card, data_folder):
    with (card / "F001.DNG").open("rb") as file:
        page = client.post("/bodies/from-frame/", {"frame": file}).content.decode()
    for text in ('value="Ostrel"', 'value="Heath"', 'value="OH-1"', "640×448 14", "1.10 2026-03-14"):
        assert text in page
    assert list((data_folder / "cache").iterdir()) == []
    (data_folder / "x.dng").write_text("no frame")
    with (data_folder / "x.dng").open("rb") as file:
        response = client.post("/bodies/from-frame/", {"frame": file})
    assert "x.dng is not a raw file" in message(response)


def test_a_lens_is_added_and_must_stop_down(client, db):
    fields = {"name": "90 mm macro", "focal_length_mm": "90", "widest_f": "2.8", "narrowest_f": "22"}
    client.post("/lenses/add/", fields)
    assert "90 mm macro" in client.get("/bodies/").content.decode()
    assert "is not narrower" in message(client.post("/lenses/add/", fields | {"name": "b", "narrowest_f": "2"}))


def message(response) -> str:
    return " ".join(str(m) for m in get_messages(response.wsgi_request))


def test_refusals_are_shown_as_sentences(client, sitting, data_folder):
    base = f"/sittings/{sitting.pk}"
    assert "is not a folder" in message(client.post(f"{base}/shoot/folder/", {"folder": f"{data_folder}/inbox/none"}))
    assert "real body" in message(client.post(f"{base}/shoot/simulate/"))
    assert "no frame to measure" in message(client.post(f"{base}/measure/start/"))
    assert "Choose one or more" in message(client.post(f"{base}/shoot/upload/"))


def test_the_sheet_of_findings_has_values_with_their_intervals(client, measured):
    page = client.get(f"/sittings/{measured.pk}/measure/").content.decode()
    for name in ("Grey SNR", "Shadow SNR", "Read noise", "Exposure error", "Neutral drift", "Clipped"):
        assert name in page
    assert "95 %:" in page
    assert not re.search(r"\bNaN\b", page)
    assert "nan" not in page.replace("nance", "")


def test_a_value_opens_its_provenance(client, measured):
    reading = Reading.objects.get(rung__iso=200, quantity="gain_e_per_dn", channel="all")
    page = client.get(f"/readings/{reading.pk}/").content.decode()
    assert "channels weighted by 1/SE²" in page
    assert "2 light, 2 dark" in page


def test_a_patch_is_placed_and_bad_numbers_are_told(client, measured):
    url = f"/sittings/{measured.pk}/measure/patch/"
    page = client.post(url, {"name": "grey", "x": "33", "y": "40.6", "w": "64", "h": "64"}).content.decode()
    patch = Patch.objects.get(role="grey")
    assert (patch.x, patch.y) == (32, 40)
    assert "Measure 3 rungs" in page
    for bad in ({"x": "left"}, {"x": "nan", "y": 0, "w": 9, "h": 9}, {"x": 0, "y": 0, "w": "inf", "h": 9}):
        assert "needs four numbers" in client.post(url, {"name": "grey", **bad}).content.decode()


def test_grading_by_key_needs_a_name_and_stores_what_was_looked_at(client, measured):
    base = f"/sittings/{measured.pk}/look"
    assert "Say who is judging" in client.post(f"{base}/grade/?rung=200", {"grade": "2"}).content.decode()
    client.post(f"{base}/person/", {"person": "Wren"})
    client.post(f"{base}/grade/?size=200&brightness=as-shot", {"grade": "2", "rung": "200"})
    client.post(f"{base}/grade/", {"reason": "blotches", "rung": "200"})
    grade = Grade.objects.last()
    assert (grade.rung.iso, grade.letter, grade.reason, grade.person) == (200, "B", "blotches", "Wren")
    assert (grade.size_percent, grade.equalised) == (200, False)
    client.post(f"{base}/grade/", {"grade": "none", "rung": "200"})
    assert Grade.objects.last().grade is None


def test_a_single_shot_is_no_shots(client, sitting):
    first = Shot.objects.filter(rung__ladder__sitting=sitting).first()
    Shot.objects.filter(rung__ladder__sitting=sitting).exclude(pk=first.pk).delete()
    text = client.get(f"/sittings/{sitting.pk}/shoot/").content.decode()
    assert ">1 shot<" in text
    assert "1 shots" not in text


def test_the_spot_is_remembered_and_odd_ones_are_ignored(client, measured):
    client.get(f"/sittings/{measured.pk}/look/wall/?spot=7,7")
    client.post(f"/sittings/{measured.pk}/look/spot/?spot=100,120")
    ladder = measured.ladders.get()
    assert (ladder.spot_x, ladder.spot_y) == (100, 120)
    for spot in ("-5,3", "a,b", "1", "9999999,2"):
        assert client.get(f"/sittings/{measured.pk}/look/?spot={spot}").status_code == 200


def test_crops_are_pictures_of_one_pixel_per_sensor_pixel(client, measured):
    from io import BytesIO

    from PIL import Image

    frame = Frame.objects.filter(shot__kind="light").first()
    response = client.get(f"/frames/{frame.pk}/crop/10,10,60,40.png?g=0.0001,0.0001,0.0001")
    assert Image.open(BytesIO(response.content)).size == (60, 40)
    assert "immutable" in response["Cache-Control"]
    for outside in ("600,0,100,10", "0,0,5000,10", "0,0,0,0"):
        assert client.get(f"/frames/{frame.pk}/crop/{outside}.png?g=1,1,1").status_code == 404


def test_a_crop_whose_original_is_gone_is_not_found_rather_than_broken(client, measured, tmp_path):
    frame = Frame.objects.filter(shot__kind="light").first()
    Frame.objects.filter(pk=frame.pk).update(path=str(tmp_path / "gone.dng"), sha256="0" * 64)
    assert client.get(f"/frames/{frame.pk}/crop/10,10,60,40.png?g=0.0001,0.0001,0.0001").status_code == 404


def test_the_record_is_decided_signed_printed_and_exported(client, measured):
    base = f"/sittings/{measured.pk}/record"
    use = measured.uses.first()
    client.get(f"{base}/")
    page = client.post(f"{base}/decide/", {"for_use": use.pk, "level": "clean", "decided": "200"}).content.decode()
    assert "5 open limits" in page
    assert "Choose a mark" in client.post(f"{base}/decide/", {"for_use": use.pk, "level": "clean"}).content.decode()
    client.post(f"{base}/accept/")
    client.post(f"{base}/sign/", {"answer": "ISO 200", "note": "x", "signed_by": "Wren", "sign": "1"})
    record = Record.objects.get()
    assert record.signed_by == "Wren"
    printed = client.get(f"{base}/print/").content.decode()
    assert "Signed by" in printed
    assert '<nav class="rail"' not in printed
    assert client.get(f"{base}/sitting.json").json()["schema"] == "yellowjacket-sitting/1"
    assert b"".join(client.get(f"{base}/readings.csv").streaming_content).startswith(b"sitting,body")
    client.post(f"{base}/amend/")
    assert Record.objects.count() == 2
    assert "signed" in client.get("/").content.decode()


def test_what_does_not_exist_is_a_page_with_a_way_back(client, sitting):
    for path in ("/nowhere/", "/sittings/999/plan/", f"/sittings/{sitting.pk}/record/?version=7", "/readings/5/"):
        response = client.get(path)
        assert response.status_code == 404
        assert "To the desk" in response.content.decode()


def test_noise_against_signal_follows_the_rung(client, measured):
    page = client.get(f"/sittings/{measured.pk}/measure/transfer/?rung=200").content.decode()
    assert "Noise against signal, ISO 200" in page
    assert page.count('<polyline class="fit') == 4
    assert page.count('href="#mark-G1"') > 10
    assert "from darks" in page
    measured.ladders.get().rungs.get(key="200").readings.all().delete()
    page = client.get(f"/sittings/{measured.pk}/measure/transfer/?rung=200").content.decode()
    assert "<polyline" not in page
