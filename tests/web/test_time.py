"""The Time page: the stave, the map, answers that move with what is typed, files for others."""

import csv
import hashlib
import io
import json
import re

import numpy as np
import pytest
from astropy.io import fits
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from tests.growing import grow, queries
from tests.nights import WINDOW, night
from yellowjacket.bench.darks import measure
from yellowjacket.bench.models import Ladder, Reading
from yellowjacket.core.darks.hot_pixels import KINDS
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.simcam.bodies import HEATH
from yellowjacket.simcam.scene import HEIGHT_PX, WIDTH_PX
from yellowjacket.simcam.sensor import _fixed_pattern

pytestmark = pytest.mark.django_db


@pytest.fixture
def shot(data_folder):
    return night()


def page(client, sitting, query="") -> str:
    response = client.get(f"/sittings/{sitting.pk}/time/?{query}")
    assert response.status_code == 200
    text = response.content.decode()
    assert "nan" not in text.lower().replace("nand", "").replace("finance", "").split()
    return text


def test_before_any_time_ladder_the_test_is_one_click_away(client, sitting):
    text = page(client, sitting)
    assert "Plan the LENR test" in text
    assert "trip hazards in the dark" in text
    before = sitting.ladders.count()
    response = client.post(f"/sittings/{sitting.pk}/time/plan/", follow=True)
    assert "LENR off and on, lens capped" in response.content.decode()
    ladder = sitting.ladders.last()
    assert (sitting.ladders.count(), ladder.kind, ladder.method) == (before + 1, "time", "capped")
    assert {rung.lenr for rung in ladder.rungs.all()} == {False, True}
    assert "No dark of this ladder is in yet" in page(client, sitting, f"ladder={ladder.pk}")


def test_darks_that_are_in_are_measured_from_the_page(client, data_folder):
    sitting = night(
        ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 60), repeats=2),), measure=False
    )
    assert "2 rungs of darks are in and not measured yet" in page(client, sitting)
    client.post(f"/sittings/{sitting.pk}/time/start/")
    text = page(client, sitting)
    assert "Measure the darks" not in text
    assert "Hot pixels" in text


def test_the_page_tells_the_whole_story(client, shot):
    text = page(client, shot)
    for words in (
        "Sensor", "Hot pixels", "After repair", "With LENR", "Dark signal", "Lifted shadow", "Longest usable exposure",
        "Single-pixel repair", "Master dark", "worth it from", "Doubles every", "expected", "Where they are",
    ):  # fmt: skip
        assert words in text, words
    # A value opens its provenance.
    reading = Reading.objects.filter(rung__ladder=shot.ladders.first(), quantity="dark_signal_e").first()
    assert f'hx-get="/readings/{reading.pk}/"' in text
    assert "over the bias" in client.get(f"/readings/{reading.pk}/").content.decode()
    # Dark signal of every channel, and it grows with time.
    whole = measure.measured(shot.ladders.first()).whole
    for channel in ("R", "G1", "G2", "B"):
        signals = [whole.of_channel(one, channel)[0].value for one in whole.off]
        assert signals == sorted(signals)
        assert signals[-1] == pytest.approx(whole.signal_e(whole.off[-1]).value, rel=0.1)
    assert "Dark signal and noise by channel and time" in text
    # Columns are the times without LENR; those with it are a line.
    assert text.count('class="rung') == 4
    web = shot.uses.get(name="Web")
    assert "2 MP" in page(client, shot, f"use={web.pk}")


def test_darks_are_seen_as_they_are_without_lenr_and_with(client, shot):
    text = client.get(f"/sittings/{shot.pk}/time/").content.decode()
    for line in ("dark-crops", "lenr-crops"):
        row = text.partition(f'data-line="{line}"')[2].partition("</tr>")[0]
        found = [one.replace("&amp;", "&") for one in re.findall(r'src="(/frames/[^"]+)"', row)]
        assert found, line
        assert len(set(found)) == len(found)
        assert client.get(found[-1])["Content-Type"] == "image/png"


def test_the_queries_do_not_grow_with_the_rungs(client, shot):
    ladder = shot.ladders.filter(kind="time").first()
    path = f"/sittings/{shot.pk}/time/?ladder={ladder.pk}"
    queries(client, path)
    before = queries(client, path)
    assert before <= 12
    grow(ladder)
    # What darks say as a whole is kept between requests; the first one after a change works it out.
    client.get(path)
    assert queries(client, path) <= before


def test_answers_follow_level_and_warmth(client, shot):
    address = f"/sittings/{shot.pk}/time/answers/"

    def answer(**typed) -> str:
        response = client.get(address, typed)
        assert response.status_code == 200
        return response.content.decode()

    assert "usable, sensor at" in answer()
    assert "emergency, sensor at 5 °C" in answer(level_of="emergency", celsius="5")
    assert "not a temperature in °C" in answer(celsius="cold")
    assert "not a temperature that a camera works at" in answer(celsius="400")
    assert answer(celsius="5") != answer(celsius="35")


def test_without_warmth_nothing_is_predicted_for_another(client, data_folder):
    sitting = night(ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 15, 60), repeats=2),))
    from yellowjacket.bench.models import Conditions

    Conditions.objects.all().delete()
    measure._assembled.clear()
    text = page(client, sitting)
    assert "temperature of the darks is not known" in text
    answer = client.get(f"/sittings/{sitting.pk}/time/answers/", {"celsius": "5"}).content.decode()
    assert "enter it below" in answer
    ladder = sitting.ladders.get()
    for rung in ladder.rungs.all():
        client.post(f"/sittings/{sitting.pk}/time/warmth/?ladder={ladder.pk}&rung={rung.key}", {"celsius": "21,5"})
    assert "sensor at 21.5 °C" in page(client, sitting)
    refused = client.post(
        f"/sittings/{sitting.pk}/time/warmth/?ladder={ladder.pk}", {"celsius": "mild"}, follow=True
    ).content.decode()
    assert "“mild” is not a temperature" in refused
    table = SimpleUploadedFile("t.csv", b"file,temperature_c\nYJ00001.DNG,18\n")
    read = client.post(f"/sittings/{sitting.pk}/time/warmth/csv/", {"table": table}, follow=True).content.decode()
    assert "1 frame has a temperature now" in read
    client.post(f"/sittings/{sitting.pk}/time/before/?ladder={ladder.pk}", {"before": "live"})
    assert Ladder.objects.get(pk=ladder.pk).before == "live"
    client.post(f"/sittings/{sitting.pk}/time/before/?ladder={ladder.pk}", {"before": "sauna"})
    assert Ladder.objects.get(pk=ladder.pk).before == "live"


def test_points_for_the_canvas_are_those_of_the_sensor(client, shot):
    found = json.loads(client.get(f"/sittings/{shot.pk}/time/points.json?rung=1min").content)
    assert (found["width"], found["height"]) == WINDOW
    _, _, truth = _fixed_pattern(HEATH, (HEIGHT_PX, WIDTH_PX))
    hot = [(x, y) for x, y, kind in zip(found["x"], found["y"], found["kind"], strict=True) if KINDS[kind] == "hot"]
    assert len(hot) > 20
    assert np.mean([truth[y, x] > 0 for x, y in hot]) > 0.95
    x, y = hot[0]
    near = client.get(f"/sittings/{shot.pk}/time/point/?rung=1min&x={x}&y={y}").content.decode()
    assert f"{x}, {y}" in near
    assert near.count("<rect") == 121
    for bad in ("x=-1&y=5", "x=99999&y=5", "x=a&y=5", ""):
        assert client.get(f"/sittings/{shot.pk}/time/point/?{bad}").status_code == 404


def test_what_repair_leaves_can_be_looked_at(client, shot):
    pictures = {
        what: np.asarray(Image.open(io.BytesIO(
            client.get(f"/sittings/{shot.pk}/time/repair/{what}-60,60.png?rung=1min").content
        )).convert("L")).astype(int)
        for what in ("before", "after")
    }  # fmt: skip
    assert pictures["before"].shape == (64, 64)
    assert (pictures["after"] <= pictures["before"]).all()
    assert client.get(f"/sittings/{shot.pk}/time/repair/during-60,60.png").status_code == 404


def test_pixels_in_open_formats_agree(client, shot):
    base, query = f"/sittings/{shot.pk}/time", "rung=1min"
    response = client.get(f"{base}/pixels.csv?{query}")
    assert 'filename="ostrel-heath-iso800-60s-pixels.csv"' in response["Content-Disposition"]
    rows = list(csv.DictReader(io.StringIO(response.content.decode())))
    assert {row["class"] for row in rows} <= set(KINDS)
    table = fits.open(io.BytesIO(client.get(f"{base}/pixels.fits?{query}").content), checksum=True)["PIXELS"].data
    assert [(int(row["x"]), int(row["y"]), row["class"]) for row in rows] == [
        (int(one["X"]), int(one["Y"]), str(one["CLASS"]).strip()) for one in table
    ]
    lasting = {(int(row["x"]), int(row["y"])) for row in rows if row["class"] != "transient"}
    listed = client.get(f"{base}/defects.txt?{query}").content.decode().splitlines()
    assert listed[0].startswith("# defective pixels of Ostrel Heath")
    assert {tuple(map(int, line.split())) for line in listed[1:]} == lasting
    mask = fits.open(io.BytesIO(client.get(f"{base}/mask.fits?{query}").content), checksum=True)[0]
    assert {(int(x), int(y)) for y, x in np.argwhere(mask.data > 0)} == lasting
    assert mask.header["BIT0"] == "hot"
    picture = np.asarray(Image.open(io.BytesIO(client.get(f"{base}/mask.png?{query}").content)))
    assert ((picture > 0) == (mask.data > 0)).all()


def test_files_of_a_ladder_that_is_not_measured_are_not_found(client, sitting):
    for name in ("pixels.csv", "pixels.fits", "defects.txt", "mask.fits", "mask.png", "points.json"):
        assert client.get(f"/sittings/{sitting.pk}/time/{name}").status_code == 404


def test_a_scene_without_darks_offers_the_less_sure_way(client, shot):
    scene = shot.ladders.last()
    text = page(client, shot, f"ladder={scene.pk}")
    assert "less surely" in text
    found = client.get(f"/sittings/{shot.pk}/time/light-points/?ladder={scene.pk}").content.decode()
    assert "Less sure: told from a light frame" in found
    assert client.get(f"/sittings/{shot.pk}/time/light-points/?ladder={shot.ladders.first().pk}").status_code == 404


def test_a_scene_is_seen_along_time_as_shot_and_repaired(client, shot):
    ladder = shot.ladders.get(method="scene")
    text = client.get(f"/sittings/{shot.pk}/time/?ladder={ladder.pk}").content.decode()
    table = text.partition("crop-rows")[2].partition("</table>")[0]
    assert re.findall(r'<th scope="col">([^<]+)</th>', table) == ["As shot", "Lone points repaired"]
    urls = [one.replace("&amp;", "&") for one in re.findall(r'src="(/frames/[^"]+)"', table)]
    assert len(urls) == 2
    shown = [np.asarray(Image.open(io.BytesIO(client.get(url).content)).convert("RGB"), int) for url in urls]
    # A lone point of one channel is a colour; where one went, there is less of it.
    changed = np.abs(shown[0] - shown[1]).max(axis=2) > 30
    assert 0 < changed.mean() < 0.05
    assert np.ptp(shown[1][changed], axis=1).mean() < 0.6 * np.ptp(shown[0][changed], axis=1).mean()


def test_a_leak_is_said_on_the_page(client, data_folder):
    sitting = night(
        ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 15, 60, 120), repeats=2),),
        measure=False,
    )
    from pathlib import Path

    from yellowjacket.bench.models import Frame
    from yellowjacket.core.raw.reader import read_frame

    for frame in Frame.objects.filter(sitting=sitting, shot__rung__exposure_s=60.0):
        raw = Path(frame.path).read_bytes()
        mosaic = read_frame(Path(frame.path)).mosaic
        leaked = mosaic + np.linspace(0, 250, mosaic.shape[1]).astype(np.uint16)[None, :]
        at = raw.rindex(np.ascontiguousarray(mosaic).tobytes())
        content = raw[:at] + np.minimum(leaked, 16383).astype("<u2").tobytes()
        Path(frame.path).write_bytes(content)
        # It leaked when it was shot: this is the original.
        Frame.objects.filter(pk=frame.pk).update(sha256=hashlib.sha256(content).hexdigest(), mtime_ns=None)
    client.post(f"/sittings/{sitting.pk}/time/start/")
    text = page(client, sitting)
    assert "light leaked in" in text
    assert "Cover lens and finder" in text
