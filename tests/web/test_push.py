"""The Push page: what it shows before and after measuring, and moving thresholds."""

import pytest

from yellowjacket.bench.models import Ladder, Patch, Reading, Rung
from yellowjacket.core.latitude.push_pull import StopLimit
from yellowjacket.core.metrology.notes import Missing, Note
from yellowjacket.web.push.brackets import brackets_of

pytestmark = pytest.mark.django_db
SNR = {0: 30.0, -1: 20.0, -2: 13.0, -3: 3.1, -4: 1.9}


@pytest.fixture
def exposed(sitting):
    """An exposure ladder with readings as measuring leaves them."""
    ladder = sitting.ladders.get()
    ladder.kind, ladder.method = Ladder.Kind.EXPOSURE, Ladder.Method.SHUTTER
    ladder.save()
    ladder.rungs.all().delete()
    grey = Patch.objects.create(ladder=ladder, name="grey", role="grey", x=0, y=0, w=64, h=64)
    light = Patch.objects.create(ladder=ladder, name="highlight", role="highlight", x=64, y=0, w=64, h=64)

    def read(rung, quantity, value, channel="all", patch=None, half=0.01, notes=()):
        Reading.objects.create(rung=rung, patch=patch, channel=channel, quantity=quantity, value=value, low=value - half,
                               high=value + half, n=100, notes=list(notes))  # fmt: skip

    for n, (stops, snr) in enumerate(sorted(SNR.items())):
        rung = Rung.objects.create(ladder=ladder, position=n, iso=100, exposure_s=1 / 8 * 2.0**stops, key=f"{stops}",
                                   label=f"{stops:+d}", at_stops=stops, measured_inputs="x")  # fmt: skip
        read(rung, "step_stops", float(stops))
        read(rung, "shadow_snr", snr, half=0.2)
        read(rung, "cast_de00", 0.3 * -stops, patch=grey, notes=[["TOWARDS", "magenta"]])
        read(rung, "cast_corrected_de00", 0.01, patch=grey)
        if stops == 0:
            read(rung, "clips_at_stops", 1.4, "G1", light)
            for channel in ("R", "G1", "G2", "B"):
                read(rung, "black_error_dn", 1.6 if channel == "R" else -0.7, channel)
    return sitting


def test_limits_stand_as_brackets_and_in_a_sentence(client, exposed):
    page = client.get(f"/sittings/{exposed.pk}/push/").content.decode()
    assert "stops</b> can be brought back" in page
    assert "shadow SNR fails" in page
    assert "<b>1.4 stops</b>; beyond that, highlight clips in G1" in page
    assert "+1.60" in page
    assert 'class="line text" data-line="cast_de00"' in page
    assert "magenta" in page
    assert "As shot" in page
    assert "Brought back" in page


def test_bands_and_colour_are_told_from_the_push_at_which_they_begin(client, exposed):
    for rung in exposed.ladders.get(kind="exposure").rungs.all():
        share = 0.004 * 2.0 ** max(0.0, -rung.at_stops - 1)
        Reading.objects.create(rung=rung, channel="all", quantity="row_noise_share", value=share, low=share * 0.98,
                               high=share * 1.02, n=100)  # fmt: skip
    page = " ".join(client.get(f"/sittings/{exposed.pk}/push/limits/").content.decode().split())
    # 0.012 of the grey is usable: 0.004 doubles with every stop past the first, so 1 + log2(3) stops in.
    assert "Bands appear from a push of 2.6 stops" in page


def test_the_record_of_an_exposure_ladder_holds_what_somebody_decides_or_reads(client, exposed):
    """No row for each of a chart's fields, the cast with its direction, real minus signs; nothing before it is measured."""
    ladder = exposed.ladders.get(kind="exposure")
    field = Patch.objects.create(ladder=ladder, name="field 1", role="field", x=0, y=64, w=64, h=64)
    reference = ladder.rungs.get(at_stops=0)
    Reading.objects.create(rung=reference, patch=field, channel="G1", quantity="clips_at_stops", value=2.0, low=1.9,
                           high=2.1, n=9)  # fmt: skip
    page = client.get(f"/sittings/{exposed.pk}/record/?ladder={ladder.pk}").content.decode()
    assert "Field 1 clips" not in page
    assert "Highlight clips" in page
    assert "−0.70 DN" in page
    deepest = ladder.rungs.order_by("at_stops").first()
    assert f"Cast at {deepest.label}" in page
    assert "towards magenta" in page
    Reading.objects.filter(rung__ladder=ladder).delete()
    page = client.get(f"/sittings/{exposed.pk}/record/?ladder={ladder.pk}").content.decode()
    assert "No limits yet" in page
    assert "Push, usable" not in page


def test_a_moved_threshold_moves_the_bracket_without_the_page(client, exposed):
    url = f"/sittings/{exposed.pk}/push/limits/"
    plain = client.get(url).content.decode()
    moved = client.get(url, {"t_shadow_snr": "15"}).content.decode()
    assert "<html" not in moved
    assert "by the thresholds below" in moved
    assert "by the thresholds below" not in plain
    assert moved != plain
    # A cast that is not allowed ends the push before noise does; a comma is a decimal point too.
    cast = client.get(url, {"t_neutral_drift": "0,45"}).content.decode()
    assert "neutral drift fails" in cast
    for odd in ({"t_shadow_snr": "much"}, {"t_shadow_snr": "-3"}, {"t_shadow_snr": ""}, {"level_of": "dreamt"}):
        assert client.get(url, odd).status_code == 200


def test_a_ladder_that_is_not_measured_says_so(client, exposed):
    Reading.objects.all().delete()
    page = client.get(f"/sittings/{exposed.pk}/push/").content.decode()
    assert "not measured yet" in page
    assert client.get(f"/sittings/{exposed.pk}/push/limits/").status_code == 200


def test_without_any_ladder_to_push_the_page_offers_one(client, sitting):
    page = client.get(f"/sittings/{sitting.pk}/push/").content.decode()
    assert "Add a ladder" in page


def test_the_matrix_of_an_iso_ladder_has_its_answer(client, measured):
    page = client.get(f"/sittings/{measured.pk}/push/").content.decode()
    assert "ISO against push" in page
    assert "predicted from the read noise" in page
    assert page.count('<td class="num predicted') == 3


def limit(level, stops, **more):
    return StopLimit(
        level, stops, None if stops is None else stops - 0.1, None if stops is None else stops + 0.1, **more
    )


def test_brackets_stand_where_the_stops_are():
    push = {
        "clean": limit("clean", 1.0),
        "usable": limit("usable", 2.5),
        "emergency": limit("emergency", None, why=Note(Missing.NOTHING_MEASURED)),
    }
    pull = {level: limit(level, 1.5) for level in push}
    # Measured steps are not those planned: −2 lies where −1.5 was asked for.
    found = brackets_of(push, pull, [-3.0, -2.0, -1.0, 0.0, 1.0], 76)
    clean, usable, emergency = found.rows
    assert clean.left.x == 2.5 * 76
    assert usable.left.x == 1.0 * 76
    assert clean.middle == 3.5 * 76
    assert clean.right.x == 5 * 76 - 4
    assert emergency.left is None
    assert emergency.reason == "nothing measured yet"
    assert clean.left.low_x < clean.left.x < clean.left.high_x
