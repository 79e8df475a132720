"""Advice: options from a body's readings, light as meters say it, and honest refusals."""

import math
import re

import pytest

from yellowjacket.bench.advise import exposure
from yellowjacket.bench.darks import measure
from yellowjacket.bench.models import Frame, Reading, ToleranceProfile
from yellowjacket.bench.record.proposals import proposals
from yellowjacket.core.limits.exposure_advice import NOT_USABLE, Asked, option_at
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.simcam.bodies import HEATH

pytestmark = pytest.mark.django_db


@pytest.fixture
def ask(client, measured):
    body = measured.ladders.get().body

    def ask(path="/advice/answer/", **changes):
        use = measured.uses.get(name="Pixel level")
        asked = {"body": body.pk, "use": use.pk, "aperture": "f/8", "shutter": "1/125 s", "light": "iso", "amount": "400",
                 "level": "usable"} | changes  # fmt: skip
        return client.get(path, asked).content.decode()

    return ask


def test_there_is_an_answer_before_anything_is_asked(client, measured):
    text = client.get("/advice/").content.decode()
    assert "No ISO of this body" in text or re.search(r"Set ISO \d+", text)
    assert "A meter asks for ISO" in text


def test_options_come_in_order_with_their_reasons(ask):
    text = ask(amount="400")
    assert re.findall(r'<th scope="row" class="nowrap">(ISO \d+)</th>', text)
    assert "Best" in text
    assert "3 ISO marks" in text
    assert "95 %" in text
    assert "nan" not in text.lower().replace("nance", "")


def test_light_in_lux_and_ev_asks_for_the_same_iso(ask):
    """2.5 lux is EV 0 at ISO 100 (ISO 2720; from memory), so EV 7 is 320 lux; f/8 and 1/125 s there ask for ISO 6250."""
    wanted = 100 * 2 ** (math.log2(64 * 125) - 7)
    for light, amount in (("ev", "7"), ("lux", "320")):
        asked = re.search(r"A meter asks for ISO ([\d\u2009.]+)", ask(light=light, amount=amount))
        assert float(asked[1].replace("\u2009", "")) == pytest.approx(wanted, rel=0.01)


@pytest.mark.parametrize(
    ("changes", "words"),
    [({"light": "lux", "amount": "0"}, "more than 0 lux"), ({"light": "ev", "amount": "99"}, "no light on Earth"),
     ({"amount": "1e9"}, "no body has"), ({"aperture": "wide"}, "Aperture I need"), ({"shutter": "fast"}, "Shutter I need"),
     ({"amount": "nan"}, "and that is")],
)  # fmt: skip
def test_what_cannot_be_is_said(ask, changes, words):
    assert words in ask(**changes)


def test_too_much_light_is_no_option(ask):
    assert "Even its lowest measured mark would over-expose" in ask(amount="20")


def test_beyond_the_ladder_says_so(ask):
    # Every option is a measured mark; the push is what grows.
    text = ask(amount="12800")
    assert "+5.00" in text


def test_the_address_holds_the_question(ask):
    text = ask("/advice/", amount="800", shutter="1/60 s")
    assert 'value="1/60 s"' in text
    assert 'value="800"' in text


def test_without_records_the_way_to_them_is_shown(client, sitting):
    assert "none has a measured ISO ladder yet" in client.get("/advice/").content.decode()


def test_findings_are_those_of_the_readings(measured):
    ladder = measured.ladders.get()
    assert exposure.ladder_of(ladder.body) == ladder
    known = exposure.known_of(ladder, measured.uses.first())
    assert [one.mark for one in known.findings.marks] == [100, 200, 400]
    assert known.findings.dark_e_per_s is None
    assert exposure.long_of(measure.of_body(ladder.body), "usable", 1.0, None) is None
    assert exposure.darks_that_fit(ladder.body, 400, 60.0, 20.0) == []


def test_every_mark_is_graded_as_the_record_limits_it(measured):
    """What is shot as the meter asks is what the record judged: same use, same profile, same findings, same grade."""
    ladder = measured.ladders.get()
    marks = [rung.iso for rung in ladder.rungs.all()]
    for use in measured.uses.all():
        known = exposure.known_of(ladder, use)
        limits = {one.level: one.measured.mark for one in proposals(ladder) if one.use == use}
        for mark in marks:
            option = option_at(known.findings, float(mark), mark, float(mark), Asked(known.profile, known.limits))
            expected = [level for level in LEVELS if limits[level] is not None and mark <= limits[level]]
            assert option.level == (expected[0] if expected else NOT_USABLE), (use, mark)


def test_another_sitting_that_was_not_shot_changes_nothing(ask, client, measured, make_sitting):
    before = ask()
    other = make_sitting(name="Planned for later")
    other.profile = ToleranceProfile.objects.create(name="Of somebody else", thresholds={"grey_snr": [900, 800, 700]})
    other.save()
    use = other.uses.get(name="Pixel level")
    assert re.sub(r'(value|selected)="?\d*"?', "", ask(use=use.pk)) == re.sub(r'(value|selected)="?\d*"?', "", before)
    assert "by the profile “Default”" in before
    assert "Of somebody else" not in before


def test_a_mark_to_be_avoided_is_recommended_only_with_a_word(ask, measured):
    rung = measured.ladders.get().rungs.get(iso=400)
    Reading.objects.filter(rung=rung, quantity="flags").delete()
    Reading.objects.create(rung=rung, channel="all", quantity="flags", value=1, notes=[["UNDER_BASE"]])
    text = ask(amount="400")
    assert "to be avoided: under base" in text.lower()
    assert ("Set ISO 400" in text) == ("a mark to be avoided where another will do" in text)


def test_the_sliders_move_what_is_asked_by_thirds(ask):
    plain, faster = ask(), ask(shutter_stops="1", aperture_stops="-0.3333333")
    assert "A meter asks for ISO 400" in plain
    assert "What if" not in plain
    assert "<b>What if f/7.1, 1/250 s:</b> A meter asks for ISO 635" in faster
    assert "light +1.00 stops:</b> A meter asks for ISO 200" in re.sub(r"\s+", " ", ask(light_stops="1"))
    assert "less than or equal to 4" in ask(light_stops="9")


def test_the_colour_of_the_light_moves_the_channels(ask, measured):
    Frame.objects.update(matrix=HEATH.matrix.tolist())
    text = ask(kelvin="2856")
    assert "In light of 2856 K" in text
    assert "Blue is the weakest" in text
    assert "an approximation in other light" in text
    assert "greater than or equal to 1700" in ask(kelvin="300")
    Frame.objects.update(matrix=None)
    assert "name no colour matrix" in ask(kelvin="2856").lower()


def test_a_cast_is_told_between_the_rungs_that_measured_it(measured, make_sitting):
    """An exposure ladder with casts of 1, 3 and 9 at pushes of 0, 1 and 2 stops."""
    body, use = measured.ladders.get().body, measured.uses.first()
    other = make_sitting(name="Pushed", kind="exposure", method="shutter", under=2, over=0)
    ladder = other.ladders.get()
    for rung, stops, cast in zip(ladder.rungs.order_by("position"), (-2, -1, 0), (9.0, 3.0, 1.0), strict=True):
        for quantity, value in (("step_stops", stops), ("cast_de00", cast)):
            Reading.objects.create(rung=rung, channel="G", quantity=quantity, value=value, low=value, high=value, n=9)
    assert exposure.casts_of(body, use).at(0.5).de00.value == pytest.approx(2.0)
    assert exposure.casts_of(body, use).at(2.0).de00.value == pytest.approx(9.0)
    assert "in Pushed" in exposure.casts_of(body, use).at(1.0).words
    assert exposure.casts_of(body, use).at(2.5) is None


def test_any_iso_can_be_asked_about(ask):
    text = re.sub(r"\s+", " ", ask(iso="200"))
    assert "If ISO 200 is set" in text
    assert "Pushed by 1.0 stops it is" in text
    between = ask(iso="320")
    assert "Between ISO 200 and 400." in between
    assert "Over by 1.0 stops, to be pulled" in ask(iso="800")
    assert "Extrapolated by 1.0 stop from ISO 400." in ask(iso="800")
    assert "too far from what was measured" in ask(iso="25600")
    assert "greater than or equal to 1" in ask(iso="0")
