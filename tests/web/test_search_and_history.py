"""Finding what was kept, and a body's limits over time."""

import pytest
from django.db import connection
from django.test.utils import CaptureQueriesContext

from yellowjacket.bench.look import grades
from yellowjacket.bench.models import Body, MarkedSpot, Problem, Record, Sitting
from yellowjacket.bench.record import other_limits
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.register import desk, history, search
from yellowjacket.core.limits.tolerance import LEVELS

pytestmark = pytest.mark.django_db


def kinds(text):
    return {hit.what for hit in search.find(text).hits}


def test_bodies_sittings_notes_and_files_are_found(client, measured):
    ladder, use = measured.ladders.get(), measured.uses.first()
    rung = ladder.rungs.first()
    grades.grade_rung(rung, use, "Wren", 2)
    grades.give_reason(rung, use, "Wren", note="blotches in the felt")
    MarkedSpot.objects.create(sitting=measured, body=ladder.body, name="antenna", x=1, y=1, note="hair-fine")
    record_.note(record_.open_record(ladder), answer="ISO 200 it is", text="")
    assert "body" in kinds("heath ostrel")
    assert "sitting" in kinds("drawer")
    assert kinds("felt blotches") == {"grade"}
    assert kinds("hair-fine") == {"spot"}
    assert "record" in kinds("it is")
    name = ladder.rungs.first().shots.first().frame.file_name
    assert "file" in kinds(name)
    page = client.get("/search/", {"q": "felt"}).content.decode()
    assert "blotches in the felt" in page
    assert f"/sittings/{measured.pk}/look/" in page


@pytest.mark.parametrize("text", ["", " ", "x", "no such thing anywhere"])
def test_little_or_unknown_text_finds_nothing(client, measured, text):
    assert search.find(text).hits == []
    assert client.get("/search/", {"q": text}).status_code == 200


def another(body, **changes):
    """A body like this one but for some of its fields."""
    made = Body.objects.get(pk=body.pk)
    made.pk = None
    for name, value in changes.items():
        setattr(made, name, value)
    made.save(force_insert=True)
    return made


def test_sittings_are_found_by_the_bodies_that_were_tested(client, measured):
    other = another(Body.objects.get(), make="Quillon", model="Moor", serial="QM-1")
    ladder = measured.ladders.get()
    ladder.pk, ladder.body = None, other
    ladder.save(force_insert=True)
    # Once, by either of them, and by words of both.
    for text in ("heath", "moor", "heath moor", "moor drawer"):
        assert [hit.sitting for hit in search.find(text).hits if hit.what == "sitting"] == [measured], text
    assert "sitting" not in kinds("moor nowhere")


def test_a_long_list_says_that_there_is_more(client, body):
    for n in range(search.MOST):
        another(body, model="Fen", serial=f"OF-{n}")
    assert "are listed" not in client.get("/search/", {"q": "fen"}).content.decode()
    assert "the first 30 are listed" in client.get("/search/", {"q": "ostrel"}).content.decode()


def test_what_is_typed_is_escaped(client, measured):
    assert "<script>" not in client.get("/search/", {"q": "<script>alert(1)</script>"}).content.decode()


def signed(sitting, firmware="1.10", shift=0.0):
    """A signed record whose measured crossings are moved by so many stops."""
    ladder = sitting.ladders.get()
    record = record_.open_record(ladder)
    for use in sitting.uses.all():
        for level, iso in zip(LEVELS, (100, 200, 400), strict=True):
            record_.decide(record, use, level, iso)
    others = other_limits.as_evidence(other_limits.of_ladder(ladder, list(sitting.uses.all())))
    record = record_.sign(record, "Wren", others)
    for one in record.evidence["proposals"]:
        one["measured"] |= {"crossing": 200 * 2**shift, "low": 190 * 2**shift, "high": 210 * 2**shift}
    record.evidence["conditions"]["firmware"] = [firmware]
    record.save()
    return record


def test_history_tells_significant_changes_from_others(client, measured, make_sitting):
    first = signed(measured)
    again = make_sitting("Drawer 1 again")
    body = measured.ladders.get().body
    record = signed(again, "1.20", shift=1.0)
    found = history.of_body(body)
    assert [entry.record for entry in found] == [record, first]
    assert found[0].changes == ("Pixel level: +1.0 stop", "Web: +1.0 stop")
    assert found[0].steady == ()
    assert (found[0].firmware, found[1].firmware) == ("1.20", "1.10")
    page = client.get(f"/bodies/{body.pk}/").content.decode()
    assert "<b>Changed:</b> Pixel level: +1.0 stop" in page
    assert "Drawer 1 again" in page


def test_a_change_inside_its_uncertainty_is_none(measured, make_sitting):
    signed(measured)
    signed(make_sitting("Drawer 1 again"), "1.20", shift=0.05)
    found = history.of_body(measured.ladders.get().body)
    assert found[0].changes == ()
    assert found[0].steady == ("Pixel level", "Web")


def test_of_every_ladder_the_newest_version_counts(measured):
    record = signed(measured)
    second = record_.amend(record)
    record_.sign(second, "Ash")
    found = history.of_body(measured.ladders.get().body)
    assert [entry.record.signed_by for entry in found] == ["Ash"]
    assert Record.objects.count() == 2


def test_the_desk_shows_limits_besides_iso_the_newest_change_and_what_waits(client, measured, make_sitting):
    first = signed(measured)
    assert first.evidence["others"]
    later = make_sitting(name="Drawer 2")
    Sitting.objects.filter(pk=later.pk).update(held_on="2026-05-01")
    signed(later, firmware="1.20", shift=1.0)
    Problem.objects.create(sitting=later, file_name="x.DNG", code="odd", reason="is odd", remedy="look")
    page = client.get("/").content.decode()
    assert "Web: +1.0 stop" in page
    assert "firmware 1.20" in page
    assert "1 file to decide on" in page
    row = desk.body_rows(Body.objects.all())[0]
    assert row.record.ladder.sitting == later
    assert [limit.use for limit in row.limits] == ["Pixel level", "Web"]
    Record.objects.filter(ladder__sitting=later).update(
        evidence={"others": [{"what": "push, usable", "use": "Web", "text": "3.1 stops", "decided": "3 stops"}]}
    )
    assert desk.body_rows(Body.objects.all())[0].limits[1].besides == ["push 3 stops"]
    with CaptureQueriesContext(connection) as few:
        client.get("/")
    assert len(few) < 30
