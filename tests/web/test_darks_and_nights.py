"""The library of master darks and the night planner, as pages."""

import io
import re

import numpy as np
import pytest
from astropy.io import fits
from PIL import Image

from tests.nights import night
from yellowjacket.bench.models import Body, Frame, Ladder, MasterDark, Rung, Shot, Sitting

pytestmark = pytest.mark.django_db


@pytest.fixture
def library(client, data_folder):
    sitting = night()
    client.post(f"/darks/make/{sitting.pk}/")
    return sitting


def test_an_empty_library_says_how_it_is_filled(client, db):
    text = client.get("/darks/").content.decode()
    assert "No master dark yet" in text
    assert "No sitting has darks yet" in text


def test_masters_are_listed_downloaded_and_deleted(client, library):
    text = client.get(f"/darks/?sitting={library.pk}").content.decode()
    assert "Ostrel Heath" in text
    assert text.count("made</td>") >= 3
    master = MasterDark.objects.get(exposure_s=60.0)
    data = b"".join(client.get(f"/darks/{master.pk}/master.fits").streaming_content)
    assert fits.open(io.BytesIO(data))[0].header["NCOMBINE"] == 3
    gone = client.post(f"/darks/{master.pk}/remove/", follow=True).content.decode()
    assert "removed from the library" in gone
    assert not MasterDark.objects.filter(pk=master.pk).exists()
    assert Frame.objects.filter(sitting=library).count() == 25


def test_the_one_that_fits_comes_first(client, library):
    body = Body.objects.get()

    def found(**typed):
        return client.get("/darks/find/", {"body": body.pk, "iso": "800", "seconds": "60"} | typed).content.decode()

    master = MasterDark.objects.get(exposure_s=60.0)
    near = found(celsius=f"{master.temperature_c:.1f}")
    assert near.index("1 min") < near.index("1 s")
    assert "fits" in near
    assert "another temperature" in found(celsius=f"{master.temperature_c + 7:.1f}")
    assert "does not fit" in found(iso="1600")
    for typed, words in (
        ({"iso": "fast"}, "ISO: write a number"), ({"seconds": "-1"}, "cannot be"), ({"celsius": "warm"}, "Sensor °C"),
        ({"celsius": "900"}, "not a plausible camera temperature"), ({"body": "x"}, "Choose a body"),
    ):  # fmt: skip
        assert words in found(**typed)


def test_a_frame_before_and_after(client, library):
    light, master = Frame.objects.get(shot__kind="light"), MasterDark.objects.get(exposure_s=60.0)
    fitting = client.get(f"/darks/frames/{light.pk}/").content.decode()
    assert f"/darks/{master.pk}/frames/{light.pk}/" in fitting
    text = client.get(f"/darks/{master.pk}/frames/{light.pk}/").content.decode()
    assert "Less the master of 3 darks" in text
    crops = [
        Image.open(io.BytesIO(client.get(f"/darks/{master.pk}/frames/{light.pk}/{what}-80,80.png").content))
        for what in ("before", "after")
    ]
    assert crops[0].size == crops[1].size == (120, 120)
    assert crops[0].tobytes() != crops[1].tobytes()
    kept = client.get(f"/darks/{master.pk}/frames/{light.pk}/calibrated.dng")
    assert 'filename="yj00001-dark-taken-off.dng"' in kept["Content-Disposition"]
    assert kept.content[:4] == b"II*\0"
    assert client.get(f"/darks/{master.pk}/frames/{light.pk}/calibrated.fits").content[:6] == b"SIMPLE"
    assert client.get(f"/darks/{master.pk}/frames/{light.pk}/sideways-80,80.png").status_code == 404
    MasterDark.objects.filter(pk=master.pk).update(iso=100)
    refused = client.get(f"/darks/{master.pk}/frames/{light.pk}/", follow=True).content.decode()
    assert "does not fit" in refused
    assert client.get(f"/darks/{master.pk}/frames/{light.pk}/calibrated.dng", follow=True).status_code == 200


def test_a_dark_is_seen_repaired_and_less_its_master(client, library):
    """Lone points go by repair and the rest stays; a master takes the dark signal too."""
    text = client.get(f"/sittings/{library.pk}/time/").content.decode()

    def last_crop(line):
        row = text.partition(f'data-line="{line}"')[2].partition("</tr>")[0]
        url = [one.replace("&amp;", "&") for one in re.findall(r'src="(/frames/[^"]+)"', row)][-1]
        # More of the sensor than the page shows, so that points are in it.
        frame = Frame.objects.get(pk=re.search(r"frames/(\d+)/", url)[1])
        return re.sub(r"crop/[\d,]+\.png", f"crop/0,0,{frame.width},{frame.height}.png", url)

    def light(url):
        return np.asarray(Image.open(io.BytesIO(client.get(url).content)).convert("RGB"), float)

    dark, repaired, less = (light(last_crop(line)) for line in ("dark-crops", "repaired-crops", "master-crops"))
    bright = [int((one.max(axis=2) > dark.mean() + 100).sum()) for one in (dark, repaired)]
    assert bright[1] < 0.5 * bright[0]
    assert np.median(repaired) == pytest.approx(np.median(dark), abs=2)
    assert less.mean() < 0.7 * dark.mean()
    # Addresses of masters and bars that no page gives.
    url = last_crop("master-crops")
    assert client.get(re.sub(r"less=[^&]+", "less=999-abcdefabcdef", url)).status_code == 404
    assert client.get(re.sub(r"less=[^&]+", "less=x", url)).status_code == 404
    assert client.get(re.sub(r"r=[\d.]+", "r=-4", last_crop("repaired-crops"))).status_code == 404
    MasterDark.objects.update(iso=100)
    assert client.get(re.sub(r"crop/[\d,]+\.png", "crop/0,0,64,64.png", url)).status_code == 404
    assert "Less master dark" not in client.get(f"/sittings/{library.pk}/time/").content.decode()


def test_of_many_sittings_the_newest_are_listed_and_the_chosen_one_stays(client, library, monkeypatch):
    own = library
    dark = Shot.objects.filter(kind=Shot.Kind.DARK, frame__isnull=False).first()
    for day in (1, 2, 3):
        sitting = Sitting.objects.create(name=f"Drawer {day}", held_on=f"2099-05-0{day}", profile=own.profile)
        ladder = Ladder.objects.get(pk=dark.rung.ladder_id)
        ladder.pk, ladder.sitting = None, sitting
        ladder.save(force_insert=True)
        rung = Rung.objects.create(ladder=ladder, key="a", position=0, at_stops=0, iso=100, exposure_s=1)
        shot = Shot.objects.create(rung=rung, kind=Shot.Kind.DARK, repeat=1, order=1)
        frame = Frame.objects.get(pk=dark.frame.pk)
        frame.pk, frame.sitting, frame.shot, frame.sha256 = None, sitting, shot, f"{day:064}"
        frame.save(force_insert=True)

    def listed(query=""):
        text = client.get(f"/darks/?{query}").content.decode()
        choice = text.partition("From the darks of")[2].partition("</select>")[0]
        return text, [int(one) for one in re.findall(r'<option value="(\d+)"', choice)]

    newest = list(Sitting.objects.filter(name__startswith="Drawer").values_list("pk", flat=True))
    text, found = listed()
    assert (found, "sittings are listed" in text) == ([*newest, own.pk], False)
    monkeypatch.setattr("yellowjacket.web.darks.views._MOST_SITTINGS", 2)
    text, found = listed()
    assert (found, "sittings are listed" in text) == (newest[:2], True)
    text, found = listed(f"sitting={own.pk}")
    assert (found[0], "sittings are listed" in text) == (own.pk, True)
    # Where older ones are said to be found.
    assert f"/darks/?sitting={own.pk}" in client.get(f"/sittings/{own.pk}/time/").content.decode()


def test_nothing_can_be_averaged_where_no_time_has_three_darks(client, filled):
    text = client.get(f"/darks/?sitting={filled.pk}").content.decode()
    assert text.count("too few: three make one") == 3
    assert '<button class="do" disabled>Average the darks' in text


def test_what_can_be_averaged_is(client, library):
    text = client.get(f"/darks/?sitting={library.pk}").content.decode()
    assert '<button class="do">Average the darks' in text


def test_too_few_darks_are_said_on_the_page(client, sitting):
    text = client.post(f"/darks/make/{sitting.pk}/", follow=True).content.decode()
    assert "has no darks of a time without LENR" in text


# Night

ASKED = {
    "begins": "2026-08-12T22:00", "hours": "3", "exposure_s": "60", "iso": "800", "frames": "60", "purpose": "stack",
    "care": "darks", "gap_s": "2", "begin_c": "16", "end_c": "12", "batteries": "2", "battery_minutes": "100", "card_gb": "64",
}  # fmt: skip


def test_the_night_begins_with_a_plan(client, db):
    text = client.get("/night/").content.decode()
    assert "60 frames" in text
    assert "somebody knows where you are" in text


def test_the_schedule_follows_what_is_typed(client, db):
    text = client.get("/night/schedule/", ASKED).content.decode()
    assert "darks of the warm end" in text
    assert "The air changes by 4 °C" in text
    assert "22:01" in text
    trails = client.get("/night/schedule/", ASKED | {"purpose": "star trails", "care": "LENR"}).content.decode()
    assert "LENR off for star trails" in trails
    wrong = client.get("/night/schedule/", ASKED | {"exposure_s": "long"}).content.decode()
    assert "Exposure, s: Enter a number" in wrong
    hurried = ASKED | {"hours": "0.05", "exposure_s": "900", "frames": ""}
    assert "Not one frame fits" in client.get("/night/schedule/", hurried).content.decode()


def test_the_night_as_calendar_and_on_paper(client, db):
    text = client.get("/night/night.ics", ASKED).content.decode()
    # RFC 5545: content lines end in CRLF, every event is closed, times of one event follow the other.
    assert text.startswith("BEGIN:VCALENDAR\r\nVERSION:2.0\r\n")
    assert text.count("BEGIN:VEVENT") == text.count("END:VEVENT") >= 4
    assert "DTSTART:20260812T220000" in text
    assert all(len(line.encode()) <= 75 for line in text.split("\r\n"))
    paper = client.get("/night/print/", ASKED).content.decode()
    assert "Night of 12 August 2026" in paper
    assert "ISO 800" in paper
    for address in ("/night/night.ics", "/night/print/"):
        assert client.get(address, ASKED | {"hours": "x"}).status_code == 404


def test_what_a_measured_body_bears_stands_beside_it(client, library):
    body = Body.objects.get()
    text = client.get("/night/schedule/", ASKED | {"body": body.pk}).content.decode()
    assert "Longest usable exposure with Ostrel Heath" in text
    assert "predicted for a sensor at 14 °C" in text
    assert "has no measured darks" in client.get(
        "/night/schedule/", ASKED | {"body": Body.objects.create(
            make="Quillon", model="Moor", pixel_width=10, pixel_height=10, lowest_iso=100, native_lowest_iso=100,
            native_highest_iso=100, highest_iso=100, fastest_shutter_s=0.001).pk}
    ).content.decode()  # fmt: skip
