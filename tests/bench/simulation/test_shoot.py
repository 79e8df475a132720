"""The simulated camera shoots what the plan asks for, and nothing twice."""

import hashlib
from pathlib import Path

import pytest

from yellowjacket.bench.models import Body, Frame, Job, Problem, Shot
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.simulation import shoot as shoot_
from yellowjacket.simcam.bodies import HEATH, MOOR

pytestmark = pytest.mark.django_db


@pytest.fixture
def simulated(body, make_sitting, data_folder):
    """A short ladder of the simulated body: three rungs, one light frame and one dark."""
    body.simulated_as, body.serial = HEATH.key, HEATH.serial
    body.pixel_width, body.pixel_height = HEATH.width_px, HEATH.height_px
    body.save()
    sitting = make_sitting(repeats=2, darks=1)
    shoot_.accept_without_looking(sitting)
    return sitting.ladders.get()


def shoot(ladder) -> Job:
    job = shoot_.start_shooting(ladder)
    job.refresh_from_db()
    return job


def test_every_shot_gets_the_frame_that_was_shot_for_it(simulated):
    assert shoot(simulated).message == "9 frames shot"
    for frame in Frame.objects.select_related("shot__rung"):
        assert (frame.iso, frame.dark) == (frame.shot.rung.iso, frame.shot.kind == "dark")
        assert frame.serial == HEATH.serial
    with pytest.raises(Refusal, match="in already"):
        shoot_.start_shooting(simulated)


def test_shooting_goes_on_where_it_was_stopped_whatever_came_in_before(simulated):
    shoot(simulated)
    files = {f.path: hashlib.sha256(Path(f.path).read_bytes()).hexdigest() for f in Frame.objects.all()}
    # The first frame of each pair is missing, as when the second was finished first before a stop.
    lost = Frame.objects.filter(shot__kind="light", shot__repeat=1)
    Path(lost[0].path).unlink()
    lost.delete()
    assert shoot(simulated).message == "3 frames shot"
    assert not Shot.objects.filter(frame__isnull=True).exists()
    assert not Problem.objects.exists()
    assert {f.path: hashlib.sha256(Path(f.path).read_bytes()).hexdigest() for f in Frame.objects.all()} == files


def test_a_real_body_is_not_shot_by_the_simulation(sitting):
    with pytest.raises(Refusal, match="shoot it by hand"):
        shoot_.start_shooting(sitting.ladders.get())


def test_a_body_known_from_its_files_gets_its_simulation_back(db):
    named = {"make": MOOR.make, "model": MOOR.model, "serial": MOOR.serial}
    adopted = Body.objects.create(
        **named, pixel_width=1824, pixel_height=1216, lowest_iso=50, highest_iso=3200, native_lowest_iso=50,
        native_highest_iso=3200, fastest_shutter_s=1 / 4000, slowest_shutter_s=30,
    )  # fmt: skip
    body = shoot_.register_simulated(MOOR)
    assert (body.pk, body.simulated_as, body.lowest_iso) == (adopted.pk, MOOR.key, 50)
    assert Body.objects.get().sensor_width_mm == MOOR.sensor_width_mm
