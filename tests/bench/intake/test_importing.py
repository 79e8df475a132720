"""Files into a sitting: matched, refused with a reason, never changed, never lost."""

import hashlib
import shutil
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from tests import making
from yellowjacket import data_folder as data_folder_
from yellowjacket.bench.intake import importing
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.models import Frame, Job, Lens, Problem, Shot
from yellowjacket.bench.refusal import Refusal

pytestmark = pytest.mark.django_db


@pytest.fixture
def inbox(data_folder):
    return data_folder / "inbox"


def copy_card(card: Path, inbox: Path) -> None:
    for path in card.iterdir():
        shutil.copy(path, inbox / path.name)


def run_import(sitting, folder) -> Job:
    job = importing.import_folder(sitting, str(folder))
    job.refresh_from_db()
    return job


def test_a_folder_of_frames_fills_the_ladder(sitting, card, inbox):
    copy_card(card, inbox)
    job = run_import(sitting, inbox)
    assert (job.state, job.message) == ("done", "12 frames in")
    assert Frame.objects.filter(sitting=sitting).count() == 12
    assert not Shot.objects.filter(rung__ladder__sitting=sitting, frame__isnull=True).exists()
    for frame in Frame.objects.select_related("shot__rung"):
        assert frame.iso == frame.shot.rung.iso
        assert frame.dark == (frame.shot.kind == "dark")


def test_importing_again_changes_nothing(sitting, card, inbox):
    copy_card(card, inbox)
    run_import(sitting, inbox)
    job = run_import(sitting, inbox)
    assert job.message == "0 frames in, 12 known already"
    assert Frame.objects.count() == 12
    assert not Problem.objects.exists()


def test_originals_are_never_changed(sitting, card, inbox):
    copy_card(card, inbox)
    (inbox / "broken.dng").write_bytes((card / "F001.DNG").read_bytes()[:50_000])
    before = {path: hashlib.sha256(path.read_bytes()).hexdigest() for path in inbox.iterdir()}
    run_import(sitting, inbox)
    assert {path: hashlib.sha256(path.read_bytes()).hexdigest() for path in inbox.iterdir()} == before


def spoil(inbox: Path, card: Path) -> dict[str, str]:
    """Files of every bad kind beside the good ones; returns the code expected for each."""
    rng = np.random.default_rng(1)
    good = (card / "F001.DNG").read_bytes()
    (inbox / "empty.dng").write_bytes(b"")
    (inbox / "cut.dng").write_bytes(good[: len(good) // 2])
    (inbox / "list.txt").write_text("shots of the evening")
    Image.new("RGB", (64, 64)).save(inbox / "picture.dng", "JPEG")
    (inbox / "again.dng").write_bytes(good)
    making.write(inbox / "small.dng", making.shot(100, rng)[:64, :64])
    making.write(inbox / "other.dng", making.shot(100, rng), model="Fen")
    making.write(inbox / "iso800.dng", making.shot(100, rng), iso=800)
    making.write(inbox / "late.dng", making.shot(100, rng), exposure_s=Fraction(1, 60))
    making.write(inbox / "third.dng", making.shot(100, rng))
    return {
        "empty.dng": "empty", "cut.dng": "truncated", "list.txt": "not-raw", "picture.dng": "not-raw",
        "again.dng": "duplicate", "small.dng": "size", "other.dng": "body", "iso800.dng": "iso", "late.dng": "shutter",
        "third.dng": "complete",
    }  # fmt: skip


def test_each_bad_file_gets_one_clear_message_and_the_others_go_on(sitting, card, inbox):
    copy_card(card, inbox)
    run_import(sitting, inbox)
    expected = spoil(inbox, card)
    job = run_import(sitting, inbox)
    assert job.message == f"0 frames in, 12 known already, {len(expected)} not used, see below"
    found = {problem.file_name: problem for problem in Problem.objects.all()}
    assert {name: problem.code for name, problem in found.items()} == expected
    for name, problem in found.items():
        assert str(problem).startswith(name)
        assert problem.reason.endswith(".")
        assert problem.remedy
    assert Frame.objects.count() == 12


def test_bad_files_among_good_ones_cost_no_good_one(sitting, card, inbox):
    copy_card(card, inbox)
    spoil(inbox, card)
    # "third" and "again" look like good ones: which of the equals come first is open, but none is lost.
    run_import(sitting, inbox)
    assert not Shot.objects.filter(rung__ladder__sitting=sitting, frame__isnull=True).exists()
    assert Frame.objects.count() == 12
    assert Frame.objects.count() + Problem.objects.count() == len(list(inbox.iterdir()))


def test_a_repaired_file_is_taken_and_its_complaint_deleted(sitting, card, inbox):
    (inbox / "F001.DNG").write_bytes((card / "F001.DNG").read_bytes()[:50_000])
    run_import(sitting, inbox)
    assert Problem.objects.get().code == "truncated"
    shutil.copy(card / "F001.DNG", inbox / "F001.DNG")
    run_import(sitting, inbox)
    assert not Problem.objects.exists()
    assert Frame.objects.get().file_name == "F001.DNG"


@pytest.mark.parametrize(
    ("folder", "words"),
    [("", "inbox holds no files"), ("inbox", "full path"), ("/etc", "outside the folders"),
     ("{inbox}/no", "not a folder"), ("{inbox}/../../..", "outside the folders"), ("{inbox}", "holds no files")],
)  # fmt: skip
def test_folders_that_may_not_or_cannot_be_read_are_refused(sitting, inbox, folder, words):
    with pytest.raises(Refusal, match=words):
        importing.import_folder(sitting, folder.format(inbox=inbox))
    assert not Job.objects.exists()


def test_a_link_out_of_the_allowed_folders_is_not_followed(sitting, card, inbox, tmp_path):
    outside = tmp_path / "outside"
    outside.mkdir()
    shutil.copy(card / "F001.DNG", outside)
    (inbox / "link.dng").symlink_to(outside / "F001.DNG")
    with pytest.raises(Refusal, match="holds no files"):
        importing.import_folder(sitting, str(inbox))


def test_an_allowed_folder_may_be_read(sitting, card, data_folder):
    data_folder_.allow_folder(data_folder, card)
    assert run_import(sitting, card).message == "12 frames in"


def test_a_folder_with_too_many_files_is_refused(sitting, inbox, settings):
    settings.IMPORT_MAX_FILES = 3
    for n in range(5):
        (inbox / f"{n}.dng").write_bytes(b"")
    with pytest.raises(Refusal, match="more than 3 files"):
        importing.import_folder(sitting, str(inbox))


def upload(path: Path, name: str | None = None) -> SimpleUploadedFile:
    return SimpleUploadedFile(name or path.name, path.read_bytes())


def test_uploads_are_stored_whole_and_matched(sitting, card, data_folder):
    importing.import_uploads(sitting, [upload(path) for path in sorted(card.iterdir())])
    assert Frame.objects.count() == 12
    stored = data_folder / "originals" / f"sitting-{sitting.pk}"
    assert sorted(path.name for path in stored.iterdir()) == sorted(path.name for path in card.iterdir())


def test_two_uploads_of_one_name_are_both_kept(sitting, card, data_folder):
    importing.import_uploads(sitting, [upload(card / "F001.DNG", "shot.dng"), upload(card / "F002.DNG", "shot.dng")])
    assert Frame.objects.count() == 2


def test_an_upload_cannot_leave_its_folder(sitting, card, data_folder):
    sneaky = upload(card / "F001.DNG", "evil.dng")
    sneaky._name = "../../evil.dng"
    importing.import_uploads(sitting, [sneaky])
    assert Path(Frame.objects.get().path).parent == data_folder / "originals" / f"sitting-{sitting.pk}"


def test_uploads_too_large_are_refused_by_name(sitting, card, data_folder, settings):
    settings.UPLOAD_MAX_BYTES = 1024
    with pytest.raises(Refusal, match="larger than an upload may be"):
        importing.import_uploads(sitting, [upload(card / "F001.DNG")])
    assert Problem.objects.get().file_name == "F001.DNG"
    with pytest.raises(Refusal, match="Choose one or more"):
        importing.import_uploads(sitting, [])


def test_one_import_at_a_time(sitting, inbox, card):
    copy_card(card, inbox)
    Job.objects.create(sitting=sitting, kind=Job.Kind.IMPORT, state=Job.State.RUNNING)
    with pytest.raises(Refusal, match="already under way"):
        importing.import_folder(sitting, str(inbox))


def test_an_import_taken_up_after_a_kill_ends_with_every_frame_once(sitting, inbox, card):
    copy_card(card, inbox)
    run_import(sitting, inbox)
    # Killed half way: half of the frames stored, the job still called running.
    job = Job.objects.get()
    Frame.objects.filter(pk__in=Frame.objects.values_list("pk")[6:]).delete()
    Job.objects.update(state=Job.State.RUNNING)
    assert queue.resume_all() == 1
    job.refresh_from_db()
    assert (job.state, job.message) == ("done", "6 frames in, 6 known already")
    assert Frame.objects.count() == 12


@pytest.mark.parametrize(("contacts", "placed"), [(True, 0), (False, 1)])
def test_a_lens_without_contacts_leaves_the_plans_aperture_in_force(sitting, data_folder, contacts, placed):
    sitting.lens_used = Lens.objects.create(name="Old 90", contacts=contacts)
    sitting.save()
    rng = np.random.default_rng(3)
    making.write(data_folder / "inbox" / "a.dng", making.shot(100, rng), f_number=Fraction(1))
    importing.import_folder(sitting, "")
    assert Frame.objects.count() == placed
    for frame in Frame.objects.all():
        # Both are kept: what the file says, and what holds.
        assert (frame.f_number, frame.said("f_number")) == (1.0, 8.0)


def test_each_raw_mode_of_a_setting_ladder_takes_its_own_frames(body, make_sitting, data_folder):
    body.raw_modes = [
        {"name": "full", "width": making.WIDTH, "height": making.HEIGHT, "bits": 14},
        {"name": "half", "width": making.WIDTH // 2, "height": making.HEIGHT // 2, "bits": 14},
    ]
    body.save()
    sitting = make_sitting(kind="setting", method="raw_mode", values=("full", "half"), repeats=1, darks=0)
    rng = np.random.default_rng(3)
    numbers = making.shot(100, rng)
    making.write(data_folder / "inbox" / "a.dng", numbers[::2, ::2].copy())
    making.write(data_folder / "inbox" / "b.dng", numbers)
    importing.import_folder(sitting, "")
    assert {frame.file_name: frame.shot.rung.value for frame in Frame.objects.all()} == {
        "a.dng": "half",
        "b.dng": "full",
    }


@pytest.mark.parametrize(("held_equal", "placed"), [("settings", 0), ("brightness", 1)])
def test_bodies_held_equally_bright_have_times_of_their_own(sitting, inbox, held_equal, placed):
    """A third of a stop off the planned time is another setting, unless brightness is what is held; two stops are always."""
    type(sitting).objects.filter(pk=sitting.pk).update(held_equal=held_equal)
    sitting.refresh_from_db()
    rng = np.random.default_rng(2)
    making.write(inbox / "third.dng", making.shot(100, rng, stops=1 / 3), iso=100, exposure_s=Fraction(1, 6))
    making.write(inbox / "stops.dng", making.shot(100, rng, stops=2), iso=100, exposure_s=Fraction(1, 2))
    run_import(sitting, inbox)
    assert Frame.objects.filter(shot__isnull=False).count() == placed
    refused = dict(Problem.objects.values_list("file_name", "code"))
    assert refused == {"stops.dng": "shutter"} | ({} if placed else {"third.dng": "shutter"})
