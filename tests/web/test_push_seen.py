"""The pictures of the Push page: with and without the black corrected, and the same spot at every value of a setting."""

import io
import re

import numpy as np
import pytest
from PIL import Image

from tests.bench.push.test_latitude import METERED, shot
from yellowjacket.bench.models import Frame, Patch
from yellowjacket.core.exposure.srgb import linear_of_srgb
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.simcam.bodies import HEATH, MOOR

pytestmark = pytest.mark.django_db


def mean_colour(client, url):
    """Mean light of a crop in red, green and blue, 0 to 1: noise moves the mean of encoded values, not that of light."""
    answer = client.get(url.replace("&amp;", "&"))
    assert answer.status_code == 200
    encoded = np.asarray(Image.open(io.BytesIO(answer.content)).convert("RGB"), float) / 255
    return linear_of_srgb(encoded).mean((0, 1))


def middles(urls):
    """Where the crops of these addresses have their middle."""
    rects = (map(int, re.search(r"crop/(\d+),(\d+),(\d+),(\d+)", url).groups()) for url in urls)
    return [(x + w / 2, y + h / 2) for x, y, w, h in rects]


def line_of(page, key):
    (line,) = re.findall(rf'<tr class="line crops" data-line="{key}">.*?</tr>', page, re.S)
    return re.findall(r'<img src="([^"]+)"', line)


def test_the_cast_goes_when_the_black_is_corrected(client, data_folder):
    sitting = shot([(MOOR, LadderSpec("exposure", "shutter", METERED, under=4.0, over=0.0, step="two", darks=0))])
    page = client.get(f"/sittings/{sitting.pk}/push/").content.decode()
    # The whole grey patch: no noise is cut off at black there, and there are pixels enough to see a cast of 4 %.
    grey = Patch.objects.get(ladder__sitting=sitting, role="grey")
    patch = f"crop/{grey.x},{grey.y},{grey.w},{grey.h}.png"
    urls = [re.sub(r"crop/[\d,]+\.png", patch, line_of(page, key)[0]) for key in ("back", "black", "correct")]
    back, right, correct = (mean_colour(client, url) for url in urls)
    # As written the file's black turns shadows magenta: too little green between red and blue.
    tint = [colour[1] - (colour[0] + colour[2]) / 2 for colour in (back, right, correct)]
    assert abs(tint[1] - tint[2]) < 0.25 * abs(tint[0] - tint[2])
    assert right.mean() == pytest.approx(correct.mean(), rel=0.02)
    # An address that moves black further than the numbers of a frame go is none of ours.
    url = line_of(page, "black")[0].replace("&amp;", "&")
    assert client.get(re.sub(r"b=[^&]+", "b=1e9,0,0,0", url)).status_code == 404
    assert client.get(re.sub(r"b=[^&]+", "b=1,2", url)).status_code == 404


def test_a_setting_shows_the_same_spot_in_as_many_pixels(client, data_folder):
    noisy = Exposure(3200, 1 / 250, 8.0)
    sitting = shot([(HEATH, LadderSpec("setting", "raw_mode", noisy, values=("full", "half"), darks=0))])
    ladder = sitting.ladders.get()
    ladder.spot_x, ladder.spot_y = 400, 300
    ladder.save()
    page = client.get(f"/sittings/{sitting.pk}/push/").content.decode()
    urls = re.findall(r'<img src="([^"]+)"\s+width="(\d+)" height="(\d+)" loading="lazy" alt="The spot, ', page)
    assert len(urls) == 2
    assert urls[0][1:] == urls[1][1:]
    centres = middles(url for url, *_ in urls)
    wide, narrow = sorted(set(Frame.objects.values_list("width", flat=True)), reverse=True)
    assert wide == 2 * narrow
    assert centres[0] == pytest.approx((400, 300), abs=1.5)
    assert centres[1] == pytest.approx((200, 150), abs=1.5)
    full, half = (mean_colour(client, url) for url, *_ in urls)
    assert full == pytest.approx(half, rel=0.05)
    # The wall looks at the same place of the scene as well.
    wall = client.get(f"/sittings/{sitting.pk}/look/?ladder={ladder.pk}").content.decode()
    seen = middles(re.findall(r'<img[^>]*src="([^"]*/crop/[^"]*)"', wall))
    assert any(abs(x - 400) < 2 and abs(y - 300) < 2 for x, y in seen)
    assert any(abs(x - 200) < 2 and abs(y - 150) < 2 for x, y in seen)
