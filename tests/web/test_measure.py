"""The Measure page: lines, patches, grids, pictures of noise, codes."""

import io

import numpy as np
import pytest
from PIL import Image

from yellowjacket.bench.models import Frame, Reading

pytestmark = pytest.mark.django_db


def post(client, sitting, what, **values):
    return client.post(f"/sittings/{sitting.pk}/measure/{what}/", values).content.decode()


def test_lines_are_unfolded_folded_and_remembered(client, measured):
    base = f"/sittings/{measured.pk}/measure/"
    page = client.get(base).content.decode()
    assert 'class="line chart" data-line="snr"' in page
    assert 'class="line text" data-line="shadow_snr"' in page
    assert 'data-line="noise_luma"' not in page
    assert "Luma noise" in page
    sheet = post(client, measured, "line", key="shadow_snr", state="chart")
    assert 'class="line chart" data-line="shadow_snr"' in sheet
    sheet = post(client, measured, "line", key="noise_luma", state="numbers")
    assert 'class="line text" data-line="noise_luma"' in sheet
    sheet = post(client, measured, "line", key="snr", state="folded")
    assert 'data-line="snr"' not in sheet
    assert 'data-line="snr"' not in client.get(base).content.decode()
    # What is no line or no state changes nothing.
    assert post(client, measured, "line", key="shadow_snr", state="upside-down").count("<tr") == sheet.count("<tr")


def test_the_sheet_reads_at_the_size_of_the_use_in_force(client, measured):
    web = measured.uses.get(name="Web")
    base = f"/sittings/{measured.pk}/measure/"
    assert "luminance, per pixel" in client.get(base).content.decode()
    page = client.get(f"{base}?use={web.pk}").content.decode()
    assert f"luminance, {web.size_text}" in page
    assert "luminance, per pixel" in client.get(f"{base}?use={web.pk}&level=pixel").content.decode()


def test_patches_are_drawn_named_removed_and_refusals_keep_what_was_typed(client, measured):
    panel = post(client, measured, "patch", new=1, name="wing tip", role="other", x=100, y=60, w=64, h=64)
    assert 'data-patch="wing tip"' in panel
    panel = post(client, measured, "patch/rename", name="wing tip", new_name="eye spot")
    assert 'data-patch="eye spot"' in panel
    panel = post(client, measured, "patch", new=1, name="", role="other", x=100, y=60, w=64, h=64)
    assert "name of 1 to 40 characters" in panel
    assert '<details class="draw" open' in panel
    panel = post(client, measured, "patch/remove", name="eye spot")
    assert "eye spot" not in panel
    assert "move it instead" in post(client, measured, "patch/remove", name="grey")


def test_a_name_that_is_code_is_only_text(client, measured):
    name = "<b>\"'x"
    panel = post(client, measured, "patch", new=1, name=name, role="other", x=100, y=60, w=64, h=64)
    assert "<b>\"'x" not in panel
    assert "&lt;b&gt;" in panel
    assert measured.ladders.get().patches.filter(name=name).exists()


def test_a_grid_is_laid_and_one_that_cannot_be_says_why(client, measured):
    corners = {"x1": 0, "y1": 300, "x2": 640, "y2": 300, "x3": 640, "y3": 440, "x4": 0, "y4": 440}
    panel = post(client, measured, "grid", role="wedge", rows=1, columns=8, step_stops="1,0", **corners)
    assert "8 wedge steps" in panel
    panel = post(client, measured, "grid", role="wedge", rows=1, columns=8, step_stops=1, **(corners | {"x2": "right"}))
    assert "needs four corners" in panel
    panel = post(client, measured, "grid", role="wedge", rows=9, columns=60, step_stops=1, **corners)
    assert "cannot be laid" in panel
    assert 'value="60"' in panel
    assert "No other ladder" in post(client, measured, "copy")


@pytest.mark.parametrize(
    ("shown", "says"), [("difference", "differs between the two frames"), ("pattern", "What stays in 2 darks")]
)
def test_noise_is_shown_as_a_picture(client, measured, shown, says):
    base = f"/sittings/{measured.pk}/measure/"
    panel = client.get(f"{base}picture/?show={shown}&rung=200").content.decode()
    assert says in panel
    rung = measured.ladders.get().rungs.get(key="200")
    answer = client.get(f"{base}noise/{rung.pk}/{shown}.png")
    assert answer["Content-Type"] == "image/png"
    picture = np.asarray(Image.open(io.BytesIO(answer.content)), float)
    # Amplified to ± 3 σ around mid-grey: 68 % of a normal noise lie within one.
    assert np.median(picture) == pytest.approx(127.5, abs=2)
    assert np.mean(np.abs(picture - 127.5) < 127.5 / 3) == pytest.approx(0.68, abs=0.03)


def test_noise_pictures_that_cannot_be_are_not_found_or_say_what_they_need(client, measured):
    base = f"/sittings/{measured.pk}/measure/"
    rung = measured.ladders.get().rungs.get(key="200")
    assert client.get(f"{base}noise/{rung.pk}/portrait.png").status_code == 404
    assert client.get(f"{base}noise/99999/difference.png").status_code == 404
    Frame.objects.filter(shot__rung=rung, shot__kind="dark").delete()
    assert client.get(f"{base}noise/{rung.pk}/pattern.png").status_code == 404
    assert "needs darks of this rung" in client.get(f"{base}picture/?show=pattern&rung=200").content.decode()


def test_codes_are_shown_and_missing_ones_counted(client, measured):
    page = client.get(f"/sittings/{measured.pk}/measure/codes/?rung=200").content.decode()
    assert "No code is missing among the" in page
    assert page.count("<polyline") == 4
    first = Frame.objects.filter(shot__rung__key="200", shot__kind="light").order_by("shot__repeat").first()
    Frame.objects.filter(pk=first.pk).update(path="/nowhere/gone.dng", sha256="0" * 64)
    gone = client.get(f"/sittings/{measured.pk}/measure/codes/?rung=200").content.decode()
    assert "is not where it was" in gone


def test_the_grey_cards_place_is_said_on_check_and_measure(client, measured):
    """A card 3 stops under saturation lies on middle grey (12.7 % of it; ISO 12232, from memory)."""
    rung = measured.ladders.get().rungs.get(iso=100)
    for stops, words in (
        (2.98, "on middle grey"),
        (2.48, "0.5 stop over middle grey"),
        (3.98, "1.0 stop under middle grey"),
    ):
        Reading.objects.filter(rung=rung, quantity="headroom_stops").update(
            value=stops, low=stops - 0.1, high=stops + 0.1
        )
        for page in ("check", "measure"):
            assert f"{words}" in client.get(f"/sittings/{measured.pk}/{page}/?rung=100").content.decode(), page
