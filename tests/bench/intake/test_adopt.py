"""A folder without a plan becomes a sitting: ladders, singles, problems, and the stave."""

import os
import re
import shutil
from datetime import date, datetime
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest

from tests import making, workers
from yellowjacket.bench.check import audit, remedies
from yellowjacket.bench.intake import adopt as adopt_
from yellowjacket.bench.measure import run, staleness
from yellowjacket.bench.models import Body, Frame, Job, Ladder, Problem, Sitting
from yellowjacket.bench.plan.sittings import UseSpec, planned_ladders, schedule_of
from yellowjacket.bench.plan.uses import offered_uses
from yellowjacket.bench.refusal import Refusal

pytestmark = pytest.mark.django_db
USES = (UseSpec("Pixel level", None),)


@pytest.fixture
def inbox(data_folder, card):
    for path in card.iterdir():
        shutil.copy(path, data_folder / "inbox")
    return data_folder / "inbox"


def adopt(folder="") -> Sitting:
    return adopt_.adopt_folder(str(folder), USES, "Default")


def test_a_folder_becomes_a_measurable_ladder_and_a_body(inbox):
    (inbox / "broken.dng").write_bytes(b"x")
    (inbox / "again.dng").write_bytes((inbox / "F001.DNG").read_bytes())
    sitting = adopt()
    job = Job.objects.get()
    assert (job.state, job.message) == ("done", "12 frames in 1 ladder, 2 files not used")
    ladder = sitting.ladders.get()
    assert [rung.label for rung in ladder.rungs.all()] == ["ISO 100", "ISO 200", "ISO 400"]
    body = Body.objects.get()
    assert (body.make, body.model, body.serial, body.pixel_width) == ("Ostrel", "Heath", "OH-1", making.WIDTH)
    assert dict(Problem.objects.values_list("file_name", "code")) == {"broken.dng": "not-raw", "again.dng": "duplicate"}
    sitting.refresh_from_db()
    assert sitting.held_on == date(2026, 3, 14)
    assert audit.audit(ladder).findings == ()
    run.start_measuring(sitting)
    assert staleness.unmeasured(ladder) == 0
    # The plan was written backwards: a repeat begins from it.
    assert [rung.key for rung in ladder.planned.rungs] == ["100", "200", "400"]
    assert len(schedule_of(planned_ladders(sitting)).entries) == 12


def test_a_body_in_the_register_is_recognised(inbox, body):
    assert adopt().ladders.get().body == body
    assert Body.objects.count() == 1


def test_singles_are_kept_beside_the_plan_and_guesses_are_told(data_folder):
    rng = np.random.default_rng(1)
    inbox = data_folder / "inbox"
    for n, (iso, seconds) in enumerate([(100, Fraction(1, 8)), (100, Fraction(1, 8)), (200, Fraction(1, 15)),
                                        (200, Fraction(1, 250)), (400, Fraction(1, 30))]):  # fmt: skip
        making.write(inbox / f"{n}.dng", making.shot(iso, rng), iso=iso, exposure_s=seconds)
    sitting = adopt()
    assert Frame.objects.filter(sitting=sitting, standing="extra").count() == 1
    assert "ISO 200 was shot at 2 times" in sitting.events.get().text


def test_an_iso_that_is_no_mark_is_still_adopted(data_folder):
    rng = np.random.default_rng(1)
    for n, iso in enumerate((110, 230, 470)):
        path = data_folder / "inbox" / f"{n}.dng"
        making.write(path, making.shot(100, rng), iso=iso, exposure_s=Fraction(1, 8 * 2**n))
    ladder = adopt().ladders.get()
    assert [rung.iso for rung in ladder.rungs.all()] == [110, 230, 470]
    assert ladder.planned.rungs


def test_killed_between_storing_and_saying_so_it_goes_on_where_it_was(inbox):
    from yellowjacket.bench.jobs import queue

    sitting = adopt()
    said = Job.objects.get().message
    Job.objects.update(state=Job.State.RUNNING, message="")
    queue.resume_all()
    assert Frame.objects.filter(sitting=sitting, shot__isnull=False).count() == 12
    assert Ladder.objects.count() == 1
    assert (Job.objects.get().state, Job.objects.get().message) == ("done", said)


def test_killed_before_storing_it_begins_again(inbox):
    from yellowjacket.bench.jobs import queue

    sitting = adopt()
    sitting.ladders.all().delete()
    Frame.objects.all().delete()
    Job.objects.update(state=Job.State.RUNNING)
    queue.resume_all()
    assert Frame.objects.filter(sitting=sitting, shot__isnull=False).count() == 12


def test_bulb_exposures_of_one_intention_are_one_rung(data_folder):
    """A clock by hand is never exact: 70.02 and 70.03 s were meant to be the same."""
    rng = np.random.default_rng(4)
    times = (("20", 20), ("70.02", 70.02), ("70.03", 70.03), ("250.4", 250.4), ("251.9", 251.9))
    for n, (name, seconds) in enumerate(times):
        exposure = Fraction(seconds).limit_denominator(1000)
        making.write(data_folder / "inbox" / f"{name}.dng", making.shot(100, rng, dark=True), exposure_s=exposure,
                     captured_at=datetime(2026, 3, 14, 20, n))  # fmt: skip
    ladder = adopt().ladders.get()
    assert Job.objects.get().state == "done"
    assert [(rung.label, rung.shots.count()) for rung in ladder.rungs.all()] == [
        ("20 s", 1), ("1.17 min", 2), ("4.17 min", 2),
    ]  # fmt: skip


def test_frames_without_a_maker_are_the_same_body_every_time(data_folder):
    rng = np.random.default_rng(5)
    for n, iso in enumerate((100, 200, 400)):
        making.write(data_folder / "inbox" / f"{n}.dng", making.shot(iso, rng), iso=iso, make="", model="", serial="",
                     exposure_s=Fraction(1, 8 * 2**n))  # fmt: skip
    bodies = {adopt().ladders.get().body_id for _ in range(2)}
    assert set(Job.objects.values_list("state", flat=True)) == {"done"}
    assert len(bodies) == Body.objects.count() == 1


def test_one_odd_file_costs_one_line(inbox, monkeypatch):
    """A name that is no UTF-8, a link to itself, and a file the decoder stumbles over: the ladder is adopted all the same."""
    content = (inbox / "F001.DNG").read_bytes()
    strange = os.fsencode(str(inbox)) + b"/caf\xe9.dng"
    Path(os.fsdecode(strange)).write_bytes(content + b"\0")
    (inbox / "round.dng").symlink_to(inbox / "round.dng")
    (inbox / "cursed.dng").write_bytes(content + b"\1")
    monkeypatch.setattr(adopt_, "inspect_file", workers.stumbling)
    sitting = adopt()
    job = Job.objects.get()
    assert (job.state, job.message) == ("done", "12 frames in 1 ladder, 2 files not used")
    assert dict(Problem.objects.values_list("file_name", "code")) == {
        "caf\\xe9.dng": "name", "cursed.dng": "unexpected",
    }  # fmt: skip
    assert "KeyError" in Problem.objects.get(code="unexpected").reason
    assert sitting.ladders.count() == 1


def test_folders_are_refused_before_anything_is_stored(data_folder):
    for folder, words in (("/etc", "outside the folders"), ("", "holds no files")):
        with pytest.raises(Refusal, match=words):
            adopt(folder)
    assert not Sitting.objects.exists()


def test_from_the_desk_to_the_stave(client, inbox):
    response = client.post("/adopt/", {"folder": ""}, follow=True)
    page = response.content.decode()
    assert re.search(r"12 frames in 1 ladder", page)
    assert 'data-rung="400"' in page
    assert "Adopted: inbox" in client.get("/").content.decode()
    spread = client.get("/archive/").content.decode()
    assert "Half of your frames lie at ISO 200 or below" in spread
    assert [use.name for use in offered_uses()] == ["Pixel level", "Large print", "Web"]


def test_what_makes_no_ladder_says_so(client, data_folder):
    (data_folder / "inbox" / "list.txt").write_text("no frame")
    page = client.post("/adopt/", {"folder": ""}, follow=True).content.decode()
    assert "No ladder could be made" in page
    assert "passed over: 1 .txt" in page
    sitting = Sitting.objects.get()
    # Its other pages lead back to what happened instead of failing.
    for step in ("plan", "shoot", "check", "measure", "look", "record"):
        answer = client.get(f"/sittings/{sitting.pk}/{step}/")
        assert (answer.status_code, answer["Location"]) == (302, f"/sittings/{sitting.pk}/adopting/")
        assert client.get(f"/sittings/{sitting.pk + 1}/{step}/").status_code == 404
    assert "see what was found" in client.get("/").content.decode()


def test_a_guess_can_be_taken_apart_and_made_again(inbox):
    sitting = adopt()
    ladder = sitting.ladders.get()
    with pytest.raises(Refusal, match="needs a ladder"):
        adopt_.dissolve(ladder)
    singles = [frame for frame in Frame.objects.all() if frame.shot.rung.iso == 400 and frame.shot.kind == "dark"]
    for frame in singles:
        remedies.keep_as_extra(frame)
    fresh = list(Frame.objects.filter(shot=None))
    darks = adopt_.gather(sitting, fresh, "time")
    assert (darks.kind, darks.method, darks.rungs.count()) == ("time", "capped", 1)
    assert Frame.objects.filter(shot=None).count() == 0
    adopt_.dissolve(darks)
    assert Frame.objects.filter(shot=None).count() == len(singles)
    assert Frame.objects.filter(standing="used").count() == 12 - len(singles)
    with pytest.raises(Refusal, match="Choose which kind"):
        adopt_.gather(sitting, fresh, "shape")
    with pytest.raises(Refusal, match="belong to no shot"):
        adopt_.gather(sitting, [], "iso")
