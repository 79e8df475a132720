"""What a signed version shows is what was signed, on every page and paper; other ladders have limits of their own."""

import io
import re

import pytest
from pypdf import PdfReader

from tests.bench.record.test_record import WREN, grade_all
from yellowjacket.bench.models import Reading, Record, ToleranceProfile
from yellowjacket.bench.record import other_limits
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.record.standing import newest_signed, standing_of
from yellowjacket.bench.refusal import Refusal
from yellowjacket.web.record import cards

pytestmark = pytest.mark.django_db


@pytest.fixture
def signed(measured):
    grade_all(measured, "ABC")
    ladder = measured.ladders.get()
    record = record_.open_record(ladder)
    record_.accept_proposed(record)
    others = other_limits.as_evidence(other_limits.of_ladder(ladder, list(measured.uses.all())))
    return record_.sign(record, WREN, others)


def limits_of(standing):
    return [(p.use.name, p.level, p.measured.words, p.measured.criterion, p.graded.words) for p in standing.proposals]


def pages_of(client, sitting):
    """What every page and paper says, tags and spaces off."""
    said = {}
    for name in ("", "print/", "report.html", "card.txt"):
        text = client.get(f"/sittings/{sitting.pk}/record/{name}").content.decode()
        said[name] = re.sub(r"\s+", " ", re.sub(r"<[^>]*>", " ", text))
    return said


def test_another_profile_and_other_readings_change_nothing_that_was_signed(client, measured, signed):
    uses = list(measured.uses.all())
    before = limits_of(standing_of(signed, uses))
    assert standing_of(signed, uses).today == []
    card = cards.as_text(cards.card_of(signed))
    measured.profile = ToleranceProfile.objects.create(
        name="Much stricter", thresholds={"grey_snr": [9000, 8000, 7000], "shadow_snr": [900, 800, 700]}
    )
    measured.save()
    Reading.objects.filter(rung__ladder__sitting=measured, quantity="snr").update(value=1.0, low=0.9, high=1.1)
    fresh = Record.objects.get(pk=signed.pk)
    standing = standing_of(fresh, uses)
    assert limits_of(standing) == before
    assert standing.conditions["profile"] == "Default"
    assert any("Much stricter" in line for line in standing.today)
    assert any(line.endswith("instead of ISO 400") or "none instead of" in line for line in standing.today)
    assert cards.as_text(cards.card_of(fresh)) == card
    for name, text in pages_of(client, measured).items():
        assert "Default" in text, name
        assert "Much stricter" not in text.split("numbers would say")[0].split("of later days would say")[0].replace(
            "Tolerance Much stricter", "").replace("tolerance Much stricter", ""), name  # fmt: skip


def test_a_version_that_is_open_shows_today(measured, signed):
    amended = record_.amend(signed)
    standing = standing_of(amended, list(measured.uses.all()))
    assert standing.today is None
    assert newest_signed(signed.ladder) == signed


def test_a_use_that_is_gone_takes_nothing_of_what_was_signed(measured, signed):
    before = dict(standing_of(signed, list(measured.uses.all())).decided)
    measured.uses.first().delete()
    fresh = Record.objects.get(pk=signed.pk)
    assert standing_of(fresh, list(measured.uses.all())).decided == before


@pytest.fixture
def pushed(make_sitting):
    sitting = make_sitting(name="Pushed", kind="exposure", method="shutter", under=2, over=1)
    ladder = sitting.ladders.get()
    for rung in ladder.rungs.all():
        for quantity, value in (("step_stops", rung.at_stops), ("cast_de00", abs(rung.at_stops) + 0.5)):
            Reading.objects.create(rung=rung, channel="all", quantity=quantity, value=value, low=value, high=value, n=9)
    return ladder


def test_an_exposure_ladder_is_recorded_with_its_own_limits(client, pushed):
    sitting = pushed.sitting
    page = client.get(f"/sittings/{sitting.pk}/record/").content.decode()
    assert "Limits of this ladder" in page
    assert "Highest ISO" not in page
    assert "Push, clean" in page
    assert "Pull, emergency" in page
    record = record_.open_record(pushed)
    found = other_limits.of_ladder(pushed, list(sitting.uses.all()))
    with pytest.raises(Refusal, match="not decided yet"):
        record_.sign(record, WREN, other_limits.as_evidence(found))
    other_limits.take_over(record, found)
    record_.sign(record, WREN, other_limits.as_evidence(found))
    for name, text in pages_of(client, sitting).items():
        assert re.search(r"push, usable", text, re.I), name
    pdf = client.get(f"/sittings/{sitting.pk}/record/report.pdf").content
    text = " ".join(one.extract_text() for one in PdfReader(io.BytesIO(pdf)).pages)
    assert "Push, usable" in text or "push, usable" in text
