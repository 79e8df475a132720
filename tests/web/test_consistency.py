"""Pages, papers and documents of one sitting say the same; the demo's are walked by ``python -m tests.consistency``."""

import hashlib
from dataclasses import replace

import pytest

from tests.bench.record.test_record import WREN, grade_all
from tests.bench.record.test_standing import pushed  # noqa: F401 - a fixture
from tests.consistency import differences
from tests.web.test_look import two  # noqa: F401 - a fixture
from yellowjacket.bench.models import Frame, ToleranceProfile
from yellowjacket.bench.record import other_limits
from yellowjacket.bench.record import record as record_
from yellowjacket.core.limits.iso_limits import Limit

pytestmark = pytest.mark.django_db


def test_two_bodies_before_and_after_they_are_signed(client, two):  # noqa: F811
    for frame in Frame.objects.filter(sha256__endswith="x"):
        # The second body's frames are copies of the first one's: their digests are made up.
        frame.sha256 = hashlib.sha256(frame.sha256.encode()).hexdigest()
        frame.save()
    assert list(differences(client, two)) == []
    ladder = two.ladders.first()
    record = record_.open_record(ladder)
    record_.accept_proposed(record)
    found = other_limits.of_ladder(ladder, list(two.uses.all()))
    record_.sign(record, WREN, other_limits.as_evidence(found))
    two.profile = ToleranceProfile.objects.create(name="Another", thresholds={"grey_snr": [900.0, 800.0, 700.0]})
    two.save()
    assert list(differences(client, two)) == []


def test_graded_and_measured(client, measured):
    grade_all(measured, "ABC")
    assert list(differences(client, measured)) == []


def test_an_exposure_ladder(client, pushed):  # noqa: F811
    assert list(differences(client, pushed.sitting)) == []


def test_a_contradiction_is_found(client, measured, monkeypatch):
    """The walk can fail: a page that shows other limits than the record's is named."""
    from yellowjacket.web.record import parts

    assert list(differences(client, measured)) == []
    true = parts.standing_of

    def wrong(record, uses):
        standing = true(record, uses)
        return replace(standing, proposals=[replace(one, measured=Limit(one.level, 50)) for one in standing.proposals])

    monkeypatch.setattr(parts, "standing_of", wrong)
    assert any("report" in line for line in differences(client, measured))
