"""Measuring a sitting, the jobs behind it, and what is kept when something goes wrong."""

import math
from pathlib import Path

import numpy as np
import pytest

from tests import making, workers
from yellowjacket import data_folder as data_folder_
from yellowjacket.bench.intake import importing
from yellowjacket.bench.jobs import executor, queue
from yellowjacket.bench.jobs import progress as progress_
from yellowjacket.bench.measure import patches, run, staleness
from yellowjacket.bench.models import Frame, Job, Ladder, Patch, Problem, Reading, Rung
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.metrology.notes import Remark
from yellowjacket.core.raw.frame import sha256_of

pytestmark = pytest.mark.django_db


@pytest.fixture
def shot_sitting(sitting, card, data_folder):
    data_folder_.allow_folder(data_folder, card)
    importing.import_folder(sitting, str(card))
    return sitting


def measure(sitting) -> Job:
    job = run.start_measuring(sitting)
    job.refresh_from_db()
    return job


def test_measuring_proposes_patches_and_reads_every_rung(shot_sitting):
    job = measure(shot_sitting)
    assert (job.state, job.message) == ("done", "3 rungs measured")
    ladder = shot_sitting.ladders.get()
    assert set(ladder.patches.values_list("role", flat=True)) == {"grey", "shadow", "black", "highlight", "field"}
    for rung in ladder.rungs.all():
        gain = rung.readings.get(quantity="gain_e_per_dn", channel="all")
        assert gain.low < making.GAIN_E_PER_DN[rung.iso] * 1.02
        assert gain.high > making.GAIN_E_PER_DN[rung.iso] * 0.98
        error = rung.readings.get(quantity="exposure_error_stops")
        assert abs(error.value) < 0.01
    assert staleness.unmeasured(ladder) == 0


def test_what_is_measured_is_not_measured_again(shot_sitting):
    measure(shot_sitting)
    ids = set(Reading.objects.filter(patch__isnull=False).values_list("pk", flat=True))
    assert measure(shot_sitting).message == "everything was measured already"
    assert set(Reading.objects.filter(patch__isnull=False).values_list("pk", flat=True)) == ids


def test_a_moved_patch_wants_measuring_and_moves_the_readings(shot_sitting):
    measure(shot_sitting)
    ladder = shot_sitting.ladders.get()
    patches.place_patch(ladder, "grey", making.WIDTH // making.STEPS + 10, 200, 48, 48)
    assert staleness.unmeasured(ladder) == 3
    measure(shot_sitting)
    signal = Reading.objects.get(rung=ladder.rungs.first(), patch__role="grey", channel="G1", quantity="signal_dn")
    # One step to the left on the wedge is twice as bright.
    assert signal.value == pytest.approx(2 * making.GREY_DN, rel=0.01)


def test_a_patch_that_cannot_be_is_refused(sitting, data_folder):
    ladder = sitting.ladders.get()
    with pytest.raises(Refusal, match="no patch called 'sky'"):
        patches.place_patch(ladder, "sky", 0, 0, 9, 9)
    with pytest.raises(Refusal, match="no frame to draw on"):
        patches.place_patch(ladder, "grey", 0, 0, 9, 9)
    with pytest.raises(Refusal, match="no frame to measure"):
        run.start_measuring(sitting)


def test_a_single_frame_on_a_rung_is_told_by_file_and_forgotten_with_the_second(shot_sitting):
    second = Frame.objects.get(shot__rung__iso=200, shot__kind="light", shot__repeat=2)
    first = Frame.objects.get(shot__rung__iso=200, shot__kind="light", shot__repeat=1)
    second.delete()
    measure(shot_sitting)
    problem = Problem.objects.get(code="single")
    assert problem.file_name == first.file_name
    assert "second frame" in problem.remedy
    rung = first.shot.rung
    alone = rung.readings.get(quantity="snr", channel="G", patch__role="grey", use=None)
    assert "from one frame" in alone.reason
    importing.import_folder(shot_sitting, second.path.rsplit("/", 1)[0])
    measure(shot_sitting)
    assert not Problem.objects.exists()
    paired = rung.readings.get(quantity="snr", channel="G", patch__role="grey", use=None)
    assert paired.value > 10
    assert not paired.reason


def test_an_original_that_vanished_costs_its_rung_only(shot_sitting, tmp_path):
    Frame.objects.filter(shot__rung__iso=400, shot__kind="light").update(path=str(tmp_path / "gone.dng"))
    patches.propose(shot_sitting.ladders.get())
    job = measure(shot_sitting)
    assert job.state == "done"
    assert "1 frame could not be used" in job.message
    assert (Problem.objects.get().code, Problem.objects.get().file_name) == ("missing", "gone.dng")
    assert not Reading.objects.filter(rung__iso=400, quantity="snr").exists()
    assert Reading.objects.filter(rung__iso=200, quantity="snr", channel="G", value__isnull=False).exists()


def test_measuring_a_scene_without_grey_says_what_to_do(shot_sitting, monkeypatch):
    monkeypatch.setattr(patches, "propose_from", workers.no_patches)
    job = measure(shot_sitting)
    assert job.state == "failed"
    assert "Put a grey card into the scene" in job.message


def test_a_job_that_was_stopped_keeps_what_it_has(shot_sitting, monkeypatch):
    patches.propose(shot_sitting.ladders.get())
    begin = progress_.Progress.begin

    def stop_at_once(progress, total):
        begin(progress, total)
        queue.stop(progress._job)

    monkeypatch.setattr(progress_.Progress, "begin", stop_at_once)
    job = measure(shot_sitting)
    assert (job.state, job.message) == ("stopped", "stopped after 1 of 3; what came in is kept")
    monkeypatch.undo()
    assert staleness.unmeasured(shot_sitting.ladders.get()) == 2


def test_a_job_stopped_before_it_began_does_nothing(sitting):
    job = Job.objects.create(sitting=sitting, kind=Job.Kind.MEASURE)
    queue.stop(job)
    queue.run_job.call(job.pk)
    job.refresh_from_db()
    assert (job.state, job.message) == ("stopped", "stopped before it began")


def test_an_unexpected_failure_is_said_without_its_traceback(shot_sitting, monkeypatch):
    def broken(ladder):
        raise RuntimeError("wires crossed")

    monkeypatch.setattr(run, "store_relations", broken)
    job = measure(shot_sitting)
    assert job.state == "failed"
    assert "wires" not in job.message


def test_a_worker_that_dies_costs_one_input_only():
    found = dict(executor.run_all(workers.double_or_die, [1, 2, 3, 4, 5]))
    assert isinstance(found[3], executor.WorkerDied)
    assert isinstance(found[4], ValueError)
    assert [found[n] for n in (1, 2, 5)] == [2, 4, 10]


def test_patches_are_unique_by_name_in_the_schema(shot_sitting):
    from django.db import IntegrityError, transaction

    ladder = shot_sitting.ladders.get()
    values = {"ladder": ladder, "name": "grey", "role": "grey", "x": 0, "y": 0, "w": 16, "h": 16}
    Patch.objects.create(**values)
    with pytest.raises(IntegrityError), transaction.atomic():
        Patch.objects.create(**values)


def test_a_ladder_that_is_not_shot_yet_does_not_keep_the_others_from_being_measured(shot_sitting):
    ladder = shot_sitting.ladders.get()
    later = type(ladder).objects.get(pk=ladder.pk)
    later.pk, later.position = None, 1
    later.save()
    rung = ladder.rungs.first()
    rung.pk, rung.ladder = None, later
    rung.save()
    job = measure(shot_sitting)
    assert (job.state, job.message) == ("done", "3 rungs measured")
    assert not later.patches.exists()


def test_a_ladder_without_a_grey_area_is_named_and_the_others_are_measured(shot_sitting, tmp_path):
    ladder = shot_sitting.ladders.get()
    other = type(ladder).objects.get(pk=ladder.pk)
    other.pk, other.position = None, 1
    other.save()
    rung = ladder.rungs.get(iso=400)
    rung.ladder = other
    rung.save()
    Frame.objects.get(shot__rung=rung, shot__kind="light", shot__repeat=2).delete()
    frame = Frame.objects.get(shot__rung=rung, shot__kind="light")
    # All black: nothing in it is grey.
    frame.path = str(making.write(tmp_path / "black.dng", making.shot(400, np.random.default_rng(1), dark=True)))
    frame.sha256 = sha256_of(Path(frame.path))
    frame.save()
    job = measure(shot_sitting)
    assert job.state == "done"
    assert job.message.startswith("2 rungs measured. ISO · Heath: No uniform neutral area near mid-grey was found")


def test_a_clip_point_that_one_rung_saw_counts_for_all_of_its_iso(measured):
    """The tag of the file says 30 000 e⁻; a rung that was exposed until its wells were full saw 26 000."""
    ladder = measured.ladders.get()
    low = ladder.rungs.get(iso=100)
    copy = Ladder.objects.get(pk=ladder.pk)
    copy.pk, copy.position, copy.kind = None, 5, "exposure"
    copy.save()
    seen = Rung.objects.get(pk=low.pk)
    seen.pk, seen.ladder = None, copy
    seen.save()
    Reading.objects.create(
        rung=seen, channel="all", quantity="saturation_e", value=26000.0, low=25800.0, high=26200.0, n=99
    )
    tagged = {
        "saturation_e": (30000.0, 24000.0, 31000.0), "range_snr1": (11.0, 10.6, 11.1), "range_engineering": (11.5, 11.0, 11.6),
    }  # fmt: skip
    for quantity, (value, lowest, highest) in tagged.items():
        Reading.objects.update_or_create(
            rung=low, patch=None, use=None, channel="all", quantity=quantity,
            defaults={"value": value, "low": lowest, "high": highest, "n": 9, "notes": [["FROM_TAG"]]},
        )  # fmt: skip
    run.spread_clips(ladder)
    now = {row.quantity: row.result for row in Reading.objects.filter(rung=low, patch=None, use=None, channel="all")}
    assert now["saturation_e"].value == 26000.0
    assert "as seen at" in now["saturation_e"].reason
    for quantity in ("range_snr1", "range_engineering"):
        assert now[quantity].value == pytest.approx(tagged[quantity][0] + math.log2(26 / 30))
        assert not now[quantity].has(Remark.FROM_TAG)
        assert now[quantity].low < now[quantity].value < now[quantity].high
    before = now["range_snr1"]
    run.spread_clips(ladder)
    assert Reading.objects.get(rung=low, use=None, quantity="range_snr1").result == before
