"""Predicted crops on pages: there, like what was really shot, kept by what they rest on, and a sentence where there are none."""

import io
import re
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest
from PIL import Image

from tests import making
from tests.nights import WINDOW, night
from yellowjacket.bench.darks.hot_population import population_of
from yellowjacket.bench.decoding import mosaic_of
from yellowjacket.bench.development import Switches
from yellowjacket.bench.models import Frame, Ladder, Reading, Shot
from yellowjacket.bench.prediction.clean_frame import Predicting, Wanted, why_not
from yellowjacket.core.prediction.hot_population import HotPopulation
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import developed_crop


def addresses(text):
    return [found.replace("&amp;", "&") for found in re.findall(r'src="(/ladders/\d+/predicted/[^"]+)"', text)]


def test_every_option_has_its_picture(client, measured):
    text = client.get("/advice/").content.decode()
    found = addresses(text)
    assert len(found) == len(set(found)) >= 2
    for address in found:
        answer = client.get(address)
        assert (answer.status_code, answer["Content-Type"]) == (200, "image/png"), address
        assert "immutable" in answer["Cache-Control"]
    assert client.get(found[0]).content == client.get(found[0]).content
    assert "as it would look" in text


def test_a_predicted_crop_is_as_noisy_as_the_real_one(measured):
    ladder = measured.ladders.get()
    predicting = Predicting.of(ladder)
    rung = ladder.rungs.get(iso=400)
    frame = Frame.objects.filter(shot__rung=rung, shot__kind=Shot.Kind.LIGHT).first()
    grey = measured.ladders.get().patches.get(role="grey")
    rect = Rect(grey.x, grey.y, grey.w, grey.h)
    real = developed_crop(mosaic_of(frame), rect, predicting.developing.of_frame(frame, rung.pk).how)
    made = predicting.picture(rect, Wanted(400), 1.0, Switches()).astype(float) / 255
    linear = np.where(made <= 0.04045, made / 12.92, ((made + 0.055) / 1.055) ** 2.4)
    assert linear.mean() == pytest.approx(real.mean(), rel=0.02)
    assert linear[..., 1].std() == pytest.approx(real[..., 1].std(), rel=0.12)


def test_what_was_measured_anew_has_another_address(client, measured):
    address, other, *_ = addresses(client.get("/advice/?amount=800").content.decode())
    before = client.get(address).content
    for row in Reading.objects.filter(quantity="read_noise_e", channel="all"):
        row.value *= 1.5
        row.save()
    new, *_ = addresses(client.get("/advice/?amount=800").content.decode())
    assert new not in (address, other)
    assert client.get(new).content != before
    # An address holds all that its picture depends on: what was made stays, what was not cannot be made any more.
    assert client.get(address).content == before
    assert client.get(other).status_code == 404


@pytest.mark.parametrize(
    "change",
    [
        ("iso=", "iso=nan&x="),
        ("iso=", "iso=0&x="),
        ("k=", "k=0000&x="),
        ("/predicted/", "/predicted/9"),
        ("k=", "f=99&k="),
    ],
)
def test_addresses_that_no_page_gives_are_not_found(client, measured, change):
    (address, *_) = addresses(client.get("/advice/").content.decode())
    assert client.get(address.replace(*change)).status_code == 404


def test_without_a_clean_frame_there_is_a_sentence(client, measured):
    Frame.objects.all().delete()
    text = client.get("/advice/").content.decode()
    assert not addresses(text)
    assert "No raw frame of its correctly exposed base ISO is there" in text


def test_what_cannot_be_told_is_said(measured):
    predicting = Predicting.of(measured.ladders.get())
    assert why_not(predicting, Wanted(200)) == ""
    assert "more light than the clean frame has" in why_not(predicting, Wanted(100, stops_less=-2))
    assert "beyond ISO 400" in why_not(predicting, Wanted(51200))
    assert "no raw frame" in why_not(None, Wanted(200))


def test_pictures_ask_few_queries(client, measured, django_assert_max_num_queries):
    (address, *_) = addresses(client.get("/advice/").content.decode())
    with django_assert_max_num_queries(12):
        client.get(address)
    # What is there already is a file.
    with django_assert_max_num_queries(0):
        client.get(address)


def test_a_crop_at_a_use_is_smaller_than_its_place(measured):
    predicting = Predicting.of(measured.ladders.get())
    side = min(making.WIDTH, making.HEIGHT) // 2
    made = predicting.picture(Rect(3, 5, side, side), Wanted(200), 2.0, Switches())
    assert made.shape[:2] == (round(side / 2), round(side / 2))
    assert Image.fromarray(made).mode == "RGB"


def test_a_whole_frame_shown_small_is_as_bright_drawn_by_points_as_by_pixels(measured):
    """Either side of the size from which on one draw does for all pixels of a point, seen as sRGB codes."""
    predicting = Predicting.of(measured.ladders.get())
    whole = Rect(0, 0, predicting.frame.width, predicting.frame.height)
    made = [predicting.picture(whole, Wanted(400), factor, Switches()) for factor in (15.9, 16.0)]
    for factor, one in zip((15.9, 16.0), made, strict=True):
        assert one.shape == (round(whole.h / factor), round(whole.w / factor), 3)
    assert made[0].mean(axis=(0, 1)) == pytest.approx(made[1].mean(axis=(0, 1)), abs=1.0)
    assert np.array_equal(made[1], predicting.picture(whole, Wanted(400), 16.0, Switches()))


def test_a_limit_is_seen_from_both_of_its_sides(client, measured):
    """The last rung inside and the first outside, as measured until something is decided."""
    ladder = measured.ladders.get()
    text = client.get(f"/sittings/{measured.pk}/record/").content.decode()
    section = text.partition("limits-seen")[2].partition("</section>")[0]
    assert section
    captions = re.findall(r"<b\s*>ISO (\d+)</b><span>([a-z ]+)</span>", section)
    order = [rung.iso for rung in ladder.rungs.all()]
    assert len(captions) >= 2
    for (iso, where), (other, beyond) in pairwise(captions):
        if (where, beyond) == ("last inside", "first outside"):
            assert order.index(int(other)) == order.index(int(iso)) + 1
    assert {where for _, where in captions} <= {"last inside", "first outside"}
    for address in re.findall(r'src="(/frames/[^"]+)"', section):
        assert client.get(address.replace("&amp;", "&")).status_code == 200


def seen(client, **asked):
    return client.get("/tolerance/seen/", asked).content.decode()


def on(sitting, place=0):
    """Body and use of a sitting, as the form names them."""
    return {"body": sitting.ladders.get().body_id, "use": sitting.uses.all()[place].pk}


def isos_of(text):
    return [
        float(found.replace("\u202f", "").replace(" ", ""))
        for found in re.findall(r"as at\s+ISO <span\s*>([\d\s\u202f]+)<", text)
    ]


def test_a_threshold_is_seen_between_its_neighbours(client, measured):
    """Three pictures at the ISO settings where the body comes to them, in their order."""
    values = {
        r.rung.iso: r.value for r in Reading.objects.filter(quantity="snr", channel="G", patch__role="grey", use=None)
    }
    between = (values[100] * values[200]) ** 0.5
    text = seen(client, field="grey_snr-clean", base=between, **on(measured))
    isos = isos_of(text)
    assert isos == sorted(isos)
    assert any(100 < iso < 200 for iso in isos)
    assert addresses(text)
    assert "the threshold" in text


def test_a_threshold_is_seen_on_the_use_that_was_chosen(client, measured):
    offered = [on(measured, n)["use"] for n in range(measured.uses.count())]
    assert len(offered) > 1
    body = measured.ladders.get().body_id
    for wanted, chosen in [*((one, one) for one in offered), ("x", offered[0])]:
        text = seen(client, field="grey_snr-clean", base="20", body=body, use=wanted)
        assert re.findall(r'value="(\d+)" selected', text) == [str(body), str(chosen)]


def test_another_body_or_use_leaves_the_slider_where_it_was(client, measured):
    asked = {"criterion": "grey_snr", "level": "usable", "base": "20", "step": 40}
    here, elsewhere = (seen(client, **asked, **on(measured) | other) for other in ({}, {"body": 999}))
    assert 'value="40"' in here
    assert isos_of(here) == isos_of(elsewhere)
    assert isos_of(here) != isos_of(seen(client, **asked, **on(measured, 1)))


def test_a_rung_off_by_stops_has_no_say_where_a_threshold_lies(client, measured):
    """The record and the pictures of a threshold look at the same rungs."""
    rungs = measured.ladders.get().rungs
    grey = {"quantity": "snr", "channel": "all", "patch__role": "grey", "use": None}
    values = [rungs.get(iso=iso).readings.get(**grey).value for iso in (200, 400)]
    asked = {"field": "grey_snr-clean", "base": (values[0] * values[1]) ** 0.5, **on(measured)}
    assert any(200 < iso < 400 for iso in isos_of(seen(client, **asked)))
    rungs.get(iso=200).readings.filter(quantity="snr").update(value=1.0, low=0.9, high=1.1)
    assert max(isos_of(seen(client, **asked))) < 200
    rungs.get(iso=200).readings.filter(quantity="exposure_error_stops").update(value=-2.0)
    assert max(isos_of(seen(client, **asked))) > 200


def places(client, **asked):
    return client.get("/tolerance/seen/places/", asked).json()["places"]


def test_the_slider_knows_what_the_panel_shows_at_each_of_its_places(client, measured):
    """What the browser shows while it moves, and what the server writes when it stands there, are the same."""
    asked = {"criterion": "grey_snr", "level": "usable", "base": "20", **on(measured)}
    told = places(client, **asked)
    typed = [float(one["typed"]) for one in told]
    assert typed == sorted(typed)
    assert typed[len(typed) // 2] == 20
    most = int(re.search(r'max="(\d+)"', seen(client, **asked))[1])
    before = (len(told) - 1 - most) // 2
    for step in (0, 30, 45, most):
        text = seen(client, step=step, **asked)
        figures = re.findall(r'data-apart="(-?\d+)">(.*?)</figure>', text, re.S)
        assert len(figures) == 3
        for apart, figure in figures:
            place = told[before + step + int(apart)]
            assert [place["url"]] == (
                [one.replace("&amp;", "&") for one in re.findall(r'src="([^"]*)"', figure)] or [""]
            )
            assert f"<b>{place['value']}</b>" in figure
            assert place["refusal"] in figure
        middle = told[before + step]
        assert f'<span id="seen-value">{middle["value"]}</span>' in text


def test_less_is_stricter_where_less_noise_is_better(client, measured):
    """Stricter stands to the left of the picture, and towards the end of the slider that says so."""
    for field, ends in (("grey_snr-usable", "laxer stricter"), ("chroma_noise-usable", "stricter laxer")):
        text = seen(client, field=field, **on(measured))
        assert " ".join(re.findall(r"laxer|stricter", text.partition("On <select")[0])) == ends
        aparts = [int(one) for one in re.findall(r'data-apart="(-?\d+)"', text)]
        assert aparts == ([4, 0, -4] if field.startswith("grey") else [-4, 0, 4])


@pytest.mark.parametrize(
    "asked",
    [
        {"field": "nothing-clean"},
        {"base": "nan"},
        {"base": "-3"},
        {"step": "x"},
        {"body": "9" * 30},
        {"body": "1", "use": "9" * 30, "step": "20"},
        {"body": "x", "use": "1", "step": "1e9"},
        {"level": "x"},
        {"profile": "x"},
    ],
)
def test_strange_thresholds_break_nothing(client, measured, asked):
    answer = client.get("/tolerance/seen/", asked)
    assert answer.status_code == 200
    assert 'class="pictured"' in answer.content.decode()
    assert len(places(client, **asked)) == 69


def test_a_threshold_that_no_iso_comes_to_is_a_sentence(client, measured):
    text = seen(client, field="grey_snr-clean", base="0.01", **on(measured))
    assert "No ISO of this body comes to a grey SNR of" in text
    assert not addresses(text)


def test_the_page_of_tolerance_shows_a_picture_at_once(client, measured):
    text = client.get("/tolerance/").content.decode()
    assert 'data-apart="0"' in text
    assert "/look/blind/" in text


def test_without_a_measured_body_nothing_is_seen(client, sitting):
    assert "once a body has a measured ISO ladder" in client.get("/tolerance/").content.decode()
    assert places(client) == []


def test_iso_against_push_is_seen(client, measured):
    """Every ISO up to the wanted one, brought to its brightness, with what that costs below it."""
    text = client.get(f"/sittings/{measured.pk}/push/").content.decode()
    strip = text.partition('class="pictured"')[2].partition("</div>")[0]
    assert re.findall(r"<b>ISO (\d+)</b>", strip) == ["100", "200", "400"]
    assert [float(one.replace("−", "-")) for one in re.findall(r"<span\s*>([+−][\d.]+)</span>", strip)] == [2.0, 1.0]
    assert len(addresses(strip)) == 3
    assert strip.count("costs") == 2


def test_whether_anybody_can_tell_is_asked_blind(client, measured):
    """Shot beside predicted, either side; the answer is exact, and nothing but the picture tells them apart."""
    from yellowjacket.bench.models import BlindRound

    said = {"sitting": measured.pk, "use": measured.uses.first().pk, "person": "Wren", "apart": "1", "kind": "real"}
    address = client.post("/practice/", said)["Location"]
    round_ = BlindRound.objects.get(kind="real")
    sides = [trial.predicted for trial in round_.trials.all()]
    assert {"left", "right"} == set(sides)
    base = measured.ladders.get().rungs.first()
    assert base.pk not in {trial.rung_id for trial in round_.trials.all()}
    trial = round_.trials.first()
    pair = []
    for side in ("left", "right"):
        answer = client.get(f"{address}{trial.token}/{side}.png")
        assert answer.status_code == 200
        pair.append(answer.content)
    assert len(pair[0]) == len(pair[1])
    light = [np.asarray(Image.open(io.BytesIO(one)).convert("L"), float) for one in pair]
    assert light[0].mean() == pytest.approx(light[1].mean(), rel=0.02)
    assert light[0].std() == pytest.approx(light[1].std(), rel=0.1)
    assert (light[0] != light[1]).mean() > 0.3
    page = client.get(address).content.decode()
    assert "Which one was really shot?" in page
    assert "predicted" not in page
    for n, trial in enumerate(round_.trials.all()):
        right = "yes" if trial.predicted == "right" else "no"
        wrong = {"yes": "no", "no": "yes"}[right]
        client.post(f"{address}answer/", {"trial": trial.token, "accepted": right if n < 12 else wrong})
    round_.refresh_from_db()
    assert round_.finished_at is not None
    text = client.get("/practice/").content.decode()
    assert "12 of 20" in text
    assert "which was really shot" in text


def test_a_ladder_that_was_not_measured_has_nothing_to_tell_apart(client, filled):
    said = {"sitting": filled.pk, "use": filled.uses.first().pk, "person": "Wren", "apart": "1", "kind": "real"}
    assert "needs a measured ISO ladder" in client.post("/practice/", said, follow=True).content.decode()


def test_a_long_exposure_shows_the_hot_pixels_of_its_body(client, measured):
    """Advice at a minute: the same places as the darks have them, so bright as they would be by then."""
    body = measured.ladders.get().body
    dark = night()
    Ladder.objects.filter(sitting=dark).update(body=body)
    found = population_of(body)
    assert len(found.x) > 20
    assert found.size == WINDOW
    asked = {
        "body": body.pk,
        "use": measured.uses.first().pk,
        "aperture": "8",
        "shutter": "60",
        "light": "iso",
        "amount": "400",
        "level": "usable",
    }
    urls = addresses(client.get("/advice/", asked).content.decode())
    assert urls
    assert all("s=60.0000" in one for one in urls)
    assert client.get(urls[0]).status_code == 200
    assert client.get(re.sub(r"s=[\d.]+", "s=50.0000", urls[0])).status_code == 404
    assert not any(
        "s=" in one for one in addresses(client.get("/advice/", asked | {"shutter": "1/60"}).content.decode())
    )


def test_hot_pixels_stand_where_the_darks_have_them(measured):
    predicting = Predicting.of(measured.ladders.get())
    frame = predicting.frame
    full = HotPopulation.of([(40, 30, None), (101, 77, None)], (frame.width, frame.height))
    area, inside = replace(predicting, hot=full).area(Rect(32, 16, 128, 96), Wanted(400.0, hot_s=1.0))
    clip = predicting.sensor.at(400.0).clip_dn
    rows, columns = np.nonzero(area >= 0.97 * clip)
    assert {(int(x) - inside.x + 32, int(y) - inside.y + 16) for x, y in zip(columns, rows, strict=True)} == {
        (40, 30),
        (101, 77),
    }
