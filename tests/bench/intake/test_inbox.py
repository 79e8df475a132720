"""A watched inbox: frames go to their shots as they land, what has nothing to do with the sitting is passed over."""

import os
import shutil
import time
from datetime import datetime, timedelta

import pytest
from django.utils import timezone

from yellowjacket.bench.intake import importing
from yellowjacket.bench.models import Frame, Job, Problem, Shot
from yellowjacket.bench.shoot import shots

pytestmark = pytest.mark.django_db


def land(path, inbox, name=None, age_s=10):
    target = inbox / (name or path.name)
    shutil.copy(path, target)
    moment = time.time() - age_s
    os.utime(target, (moment, moment))
    return target


@pytest.fixture
def inbox(data_folder):
    return data_folder / "inbox"


def test_frames_are_matched_as_they_land_and_looked_at_once(sitting, card, inbox):
    assert importing.look_into_inbox(sitting) is None
    importing.set_watch(sitting, True)
    assert importing.look_into_inbox(sitting) is None
    land(card / "F001.DNG", inbox)
    assert importing.look_into_inbox(sitting) is not None
    assert Frame.objects.get().shot.rung.key == "100"
    assert importing.look_into_inbox(sitting) is None
    land(card / "F003.DNG", inbox)
    importing.look_into_inbox(sitting)
    assert Frame.objects.count() == 2
    importing.set_watch(sitting, False)
    land(card / "F005.DNG", inbox)
    assert importing.look_into_inbox(sitting) is None


def test_a_file_still_being_written_waits_for_the_next_look(sitting, card, inbox):
    importing.set_watch(sitting, True)
    target = land(card / "F001.DNG", inbox, age_s=0)
    assert importing.look_into_inbox(sitting) is None
    moment = time.time() - 10
    os.utime(target, (moment, moment))
    assert importing.look_into_inbox(sitting) is not None


def test_a_thousand_unrelated_files_do_not_stand_before_a_frame(sitting, card, inbox):
    for n in range(1000):
        path = inbox / f"note{n:04d}.txt"
        path.write_text(f"note {n}")
        os.utime(path, (1e9, 1e9))
    land(card / "F001.DNG", inbox, "zz.dng")
    importing.set_watch(sitting, True)
    importing.look_into_inbox(sitting)
    # The first look takes what landed last; the others pass over the rest in portions and in silence.
    assert Frame.objects.get().shot.rung.key == "100"
    looks = 1
    while importing.look_into_inbox(sitting):
        looks += 1
    assert looks == 6
    assert Frame.objects.count() == 1
    assert not Problem.objects.exists()
    assert Job.objects.filter(state="done").count() == looks


def test_a_frame_of_the_body_that_does_not_fit_is_told(sitting, card, inbox):
    importing.set_watch(sitting, True)
    Shot.objects.filter(rung__key="400").delete()
    land(card / "F005.DNG", inbox)
    importing.look_into_inbox(sitting)
    assert Problem.objects.get().file_name == "F005.DNG"


def test_a_shoot_page_begins_watching_and_the_worker_looks(client, sitting, card, inbox):
    land(card / "F001.DNG", inbox)
    page = client.post(f"/sittings/{sitting.pk}/shoot/watch/", {"watch": "on"}, follow=True).content.decode()
    assert "Stop watching the inbox" in page
    assert Frame.objects.count() == 0
    client.get(f"/sittings/{sitting.pk}/shoot/live/")
    assert Frame.objects.count() == 0
    importing.look_into_inboxes()
    assert Frame.objects.get().file_name == "F001.DNG"


@pytest.mark.parametrize(("ahead_s", "zone_h"), [(0, 0), (42, 0), (-7, 2), (3, -5)])
def test_the_clock_of_the_body_is_held_against_the_computers(sitting, card, data_folder, ahead_s, zone_h):
    from yellowjacket import data_folder as data_folder_

    data_folder_.allow_folder(data_folder, card)
    importing.import_folder(sitting, str(card))
    assert shots.clock_offset_s(shots.of_ladders(sitting.ladders.all())) is None
    begin = timezone.now()
    for n, shot in enumerate(Shot.objects.select_related("rung", "frame").order_by("order")[:5]):
        taken = begin + timedelta(seconds=10 * n)
        released = taken.replace(tzinfo=None) - timedelta(seconds=shot.rung.exposure_s)
        captured: datetime = released + timedelta(seconds=ahead_s, hours=zone_h)
        Frame.objects.filter(shot=shot).update(captured_at=captured.isoformat())
        Shot.objects.filter(pk=shot.pk).update(taken_at=taken)
    assert shots.clock_offset_s(shots.of_ladders(sitting.ladders.all())) == pytest.approx(ahead_s, abs=0.01)


def test_a_file_of_a_clock_that_runs_ahead_is_taken(sitting, card, inbox):
    importing.set_watch(sitting, True)
    land(card / "F001.DNG", inbox, age_s=-86_400)
    assert importing.look_into_inbox(sitting) is not None
    assert Frame.objects.count() == 1


def test_a_look_that_was_refused_or_failed_loses_no_file(sitting, card, inbox, monkeypatch):
    importing.set_watch(sitting, True)
    land(card / "F001.DNG", inbox)
    land(card / "F003.DNG", inbox)
    # Another import is under way: the look waits.
    other = Job.objects.create(sitting=sitting, kind="import", state="running")
    assert importing.look_into_inbox(sitting) is None
    other.delete()
    add_frame, calls = importing.add_frame, []

    def full_once(*args, **kwargs):
        calls.append(1)
        if len(calls) == 2:
            raise OSError(28, "No space left on device")
        return add_frame(*args, **kwargs)

    monkeypatch.setattr(importing, "add_frame", full_once)
    job = importing.look_into_inbox(sitting)
    job.refresh_from_db()
    assert (job.state, job.message.split(".")[0]) == ("failed", "The disk is full")
    assert Frame.objects.count() == 1
    # Not again without a pause, and then only what is missing.
    assert importing.look_into_inbox(sitting) is None
    Job.objects.update(finished_at=timezone.now() - timedelta(minutes=1))
    again = importing.look_into_inbox(sitting)
    assert len(again.parameters["files"]) == 1
    assert Frame.objects.count() == 2


def test_two_cards_may_hold_equal_names_sizes_and_times(sitting, card, inbox):
    importing.set_watch(sitting, True)
    for folder, source in (("card-a", "F001.DNG"), ("card-b", "F002.DNG")):
        (inbox / folder).mkdir()
        target = land(card / source, inbox, f"{folder}/DSC0001.DNG")
        os.utime(target, (1e9, 1e9))
    importing.look_into_inbox(sitting)
    assert Frame.objects.count() == 2
