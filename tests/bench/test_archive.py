"""The archive's spread, and the count of what wants a decision, which is remembered but never stale."""

import pytest

from yellowjacket.bench.check import remedies
from yellowjacket.bench.check.open_count import open_count
from yellowjacket.bench.intake import importing
from yellowjacket.bench.models import Frame
from yellowjacket.bench.register import usage
from yellowjacket.bench.shoot import undo_log

pytestmark = pytest.mark.django_db


def test_an_empty_archive_has_nothing_to_say(db):
    assert usage.of_archive() == usage.Spread((), (), None, 0.0)


def test_light_frames_are_counted_by_iso_and_time(filled):
    Frame.objects.filter(iso=400, dark=False).update(exposure_s=2.0)
    found = usage.of_archive()
    assert found.times == ("1/15 s", "1/8 s", "2 s")
    assert found.rows == (("100", (0, 2, 0), 2), ("200", (2, 0, 0), 2), ("400", (0, 0, 2), 2))
    assert found.median_iso == 200
    assert found.long_share == pytest.approx(1 / 3)


def test_what_wants_a_decision_is_counted_anew_after_every_change(filled, django_assert_max_num_queries):
    assert open_count(filled) == 0
    with django_assert_max_num_queries(3):
        assert open_count(filled) == 0
    frame = Frame.objects.filter(shot__rung__key="200").first()
    remedies.keep_as_extra(frame)
    assert open_count(filled) == 1
    undo_log.undo(filled)
    assert open_count(filled) == 0
    (importing.data_folder.inbox(importing.settings.HOME) / "a.txt").write_text("no frame")
    importing.import_folder(filled, "")
    assert open_count(filled) == 1
