"""How many queries each page takes, exactly; and that none takes more for more uses, rungs or bodies."""

import pytest

from tests.growing import grow, queries
from yellowjacket.bench.models import (
    Body,
    Conditions,
    Decision,
    Frame,
    Grade,
    Job,
    Ladder,
    Lane,
    Problem,
    Reading,
    Record,
    Rung,
    SittingEvent,
    Use,
)
from yellowjacket.bench.record import record as record_
from yellowjacket.core.metrology.measurands import Measurand

PAGES = {
    "/": 16, "/bodies/": 3, "/archive/": 1, "/compare/": 2,
    "/advice/": 12, "/tolerance/": 10, "/darks/": 5, "/night/": 5,
    "/practice/": 7, "/sittings/{0}/plan/": 8, "/sittings/{0}/shoot/": 8, "/sittings/{0}/check/": 6,
    "/sittings/{0}/measure/": 9, "/sittings/{0}/look/": 7, "/sittings/{0}/push/": 8, "/sittings/{0}/time/": 4,
    "/sittings/{0}/record/": 7,
}  # fmt: skip

# The same where a sitting has something of everything.
WITH_EVERYTHING = {
    "/sittings/{0}/plan/": 9, "/sittings/{0}/shoot/": 11, "/sittings/{0}/check/": 13, "/sittings/{0}/measure/": 10,
    "/sittings/{0}/look/": 10, "/sittings/{0}/push/": 9, "/sittings/{0}/time/": 5, "/sittings/{0}/record/": 11,
}  # fmt: skip


def asked(client, sitting):
    """Queries by page, each asked for a second time."""
    found = {}
    for page in PAGES:
        address = page.format(sitting.pk)
        queries(client, address)
        found[page] = queries(client, address)
    return found


def more_uses(sitting):
    for n in range(3):
        Use.objects.create(sitting=sitting, name=f"More {n}", position=10 + n, output_pixels=1_000_000 * (n + 1))


def more_rungs(sitting):
    grow(sitting.ladders.get())


def more_bodies(sitting, count):
    own = sitting.ladders.first()
    for _ in range(count):
        body = Body.objects.get(pk=own.body_id)
        body.pk, body.serial = None, f"OH-{Body.objects.count() + 1}"
        body.save(force_insert=True)
        rungs = list(own.rungs.all())
        ladder = Ladder.objects.get(pk=own.pk)
        ladder.pk, ladder.body = None, body
        ladder.save(force_insert=True)
        for rung in rungs:
            readings = list(Reading.objects.filter(rung=rung.pk))
            rung.pk, rung.ladder = None, ladder
            rung.save(force_insert=True)
            for reading in readings:
                reading.pk, reading.rung = None, rung
            Reading.objects.bulk_create(reading for reading in readings if reading.patch_id is None)


@pytest.fixture
def graded(measured):
    use = measured.uses.first()
    for rung in Rung.objects.filter(ladder__sitting=measured):
        Grade.objects.create(rung=rung, use=use, person="Wren", grade=2)
    return measured


@pytest.fixture
def with_everything(graded):
    """A sitting that has something of everything a page asks for where there is any."""
    ladder = graded.ladders.get()
    frame = Frame.objects.filter(shot__kind="light").order_by("pk").last()
    SittingEvent.objects.create(sitting=graded, kind=SittingEvent.Kind.NOTE, text="clouds")
    Problem.objects.create(
        sitting=graded, file_name="F900.DNG", path=frame.path, code="duplicate", reason="is there.", remedy="Delete it."
    )
    Conditions.objects.create(sitting=graded, body=ladder.body, shot=frame.shot, battery_percent=80, sensor_c=21.0)
    Frame.objects.filter(pk=frame.pk).update(shot=None, make="", model="")
    Job.objects.create(sitting=graded, kind=Job.Kind.IMPORT, state=Job.State.FAILED, message="the card was pulled out")
    record = Record.objects.create(ladder=ladder, version=1)
    Decision.objects.create(record=record, use=graded.uses.first(), level="usable", iso=400)
    lane = Lane.objects.create(ladder=ladder, name="gentle", kind=Lane.Kind.FINISH)
    Grade.objects.create(rung=ladder.rungs.first(), use=graded.uses.first(), person="Wren", grade=2, lane=lane)
    return graded


def test_with_something_of_everything_a_page_asks_little_more(client, with_everything):
    assert asked(client, with_everything) == PAGES | WITH_EVERYTHING
    ladder = with_everything.ladders.get()
    for n in range(3):
        lane = Lane.objects.create(ladder=ladder, name=f"lane {n}", kind=Lane.Kind.FINISH)
        Grade.objects.create(
            rung=ladder.rungs.first(), use=with_everything.uses.first(), person="Wren", grade=2, lane=lane
        )
    assert asked(client, with_everything) == PAGES | WITH_EVERYTHING


def test_every_page_asks_exactly_so_much(client, graded):
    assert asked(client, graded) == PAGES


def test_a_signed_record_asks_for_its_evidence_along_with_its_versions(client, graded):
    page, record = f"/sittings/{graded.pk}/record/", record_.open_record(graded.ladders.get())
    record_.accept_proposed(record)
    for use in graded.uses.all():
        for level in ("clean", "usable", "emergency"):
            if (use.pk, level) not in Decision.objects.of(record):
                record_.decide(record, use, level, None)
    queries(client, page)
    # Its versions, and what is decided.
    assert queries(client, page) == PAGES["/sittings/{0}/record/"] + 2
    record_.sign(record, "Wren")
    # What was decided its evidence tells.
    assert queries(client, page) == PAGES["/sittings/{0}/record/"] + 1
    record_.amend(record)
    assert queries(client, page) == PAGES["/sittings/{0}/record/"] + 2
    assert queries(client, f"{page}?version=1") == PAGES["/sittings/{0}/record/"] + 1
    assert queries(client, f"{page}?version=2") == PAGES["/sittings/{0}/record/"] + 2


@pytest.mark.parametrize("more", [more_uses, more_rungs])
def test_more_of_the_same_asks_no_more(client, graded, more):
    more(graded)
    assert asked(client, graded) == PAGES


def test_four_bodies_ask_as_much_as_two(client, graded):
    more_bodies(graded, 1)
    before = asked(client, graded)
    more_bodies(graded, 2)
    assert asked(client, graded) == before


def test_readings_are_found_by_their_rung(measured):
    """Not through the index of their use: nearly all are of none, and of every sitting there ever was."""
    rungs = [1, 2, 3]
    per_pixel = Reading.objects.speaking([Measurand.READ_NOISE_E]).filter(rung__in=rungs, use=None)
    for found in (per_pixel, Reading.objects.filter(rung__in=rungs, patch=None)):
        plan = found.explain()
        assert "(rung_id=?" in plan
        assert "SCAN bench_reading" not in plan
    assert "lane_id=?" not in Grade.objects.filter(rung__ladder=1, lane=None).explain()
