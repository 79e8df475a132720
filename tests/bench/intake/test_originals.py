"""Originals: what people send arrives whole however many send at once, and nothing rests on a file that changed."""

import hashlib
import os
import shutil
import threading
from pathlib import Path

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from tests import making
from yellowjacket.bench.check import audit
from yellowjacket.bench.intake import adopt, originals, uploads
from yellowjacket.bench.intake.originals import OriginalState
from yellowjacket.bench.measure import run, staleness
from yellowjacket.bench.models import Frame, Job, Problem, Reading, Sitting
from yellowjacket.bench.plan.sittings import UseSpec
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.raw.frame import FrameError


def upload(name: str, content: bytes) -> SimpleUploadedFile:
    return SimpleUploadedFile(name, content)


def test_many_at_once_under_few_names_lose_nothing(tmp_path):
    """Two people send 80 files each; half of the contents are equal, all names are."""
    contents = [os.urandom(200_000) for _ in range(80)]
    stored: list[tuple[bytes, Path]] = []

    def send(which):
        for content in which:
            path, _ = uploads.store_upload(tmp_path, upload("DSC0001.ARW", content))
            stored.append((content, path))

    threads = [threading.Thread(target=send, args=(part,)) for part in
               (contents, contents[::-1], contents[:40], contents[40:])]  # fmt: skip
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(stored) == 240
    for content, path in stored:
        assert path.read_bytes() == content
    found = {hashlib.sha256(path.read_bytes()).digest() for path in tmp_path.iterdir()}
    assert found == {hashlib.sha256(content).digest() for content in contents}
    assert not list(tmp_path.glob(".*"))


def test_the_same_content_is_stored_once_and_never_taken_away(tmp_path):
    first, is_new = uploads.store_upload(tmp_path, upload("a.dng", b"same"))
    again, is_new_again = uploads.store_upload(tmp_path, upload("a.dng", b"same"))
    assert (first, is_new, is_new_again) == (again, True, False)

    class Broken(SimpleUploadedFile):
        def chunks(self, chunk_size=None):
            yield b"half"
            raise OSError(28, "No space left on device")

    with pytest.raises(OSError, match="No space"):
        uploads.store_uploads(tmp_path, [upload("a.dng", b"same"), upload("b.dng", b"new"), Broken("c.dng", b"x")])
    assert [path.name for path in tmp_path.iterdir()] == ["a.dng"]


@pytest.mark.parametrize(
    "name", ["..", "", ".", "a/../..", "x" * 300 + ".dng", "caf\udce9.dng", ".part", "a\0b.dng", "CON", "日本.dng"]
)
def test_any_name_a_browser_sends_ends_inside_the_folder(tmp_path, name):
    odd = upload("a.dng", b"content")
    odd._name = name
    path, _ = uploads.store_upload(tmp_path / ".", odd)
    assert path.parent == tmp_path
    assert path.read_bytes() == b"content"
    assert len(os.fsencode(path.name)) <= 255
    assert not path.name.startswith(".")


@pytest.mark.django_db
def test_without_room_no_sitting_is_left_behind(data_folder, monkeypatch):
    def full(folder, one):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(uploads, "store_upload", full)
    with pytest.raises(OSError, match="No space"):
        adopt.adopt_uploads([upload("a.dng", b"x")], (UseSpec("Web", 1000),), "Default")
    with pytest.raises(Refusal, match="Choose one or more"):
        adopt.adopt_uploads([], (UseSpec("Web", 1000),), "Default")
    assert not Sitting.objects.exists()
    assert not Job.objects.exists()
    assert not list((data_folder / "originals").iterdir())


def other_content(path: Path) -> None:
    """The file is written over by something else, as an editor or a second card does."""
    making.write(path, making.shot(100, np.random.default_rng(99)), iso=100)


@pytest.fixture
def own(filled, tmp_path):
    """The filled sitting with files of its own, which may be changed."""
    for frame in Frame.objects.filter(sitting=filled):
        target = tmp_path / frame.file_name
        shutil.copy2(frame.path, target)
        Frame.objects.filter(pk=frame.pk).update(path=str(target), mtime_ns=target.stat().st_mtime_ns)
    return filled


@pytest.mark.django_db
def test_a_touched_file_is_the_same_and_a_changed_one_is_not(own):
    frame = Frame.objects.first()
    assert originals.state_of(frame) is OriginalState.INTACT
    os.utime(frame.path, (1e9, 1e9))
    assert originals.state_of(frame) is OriginalState.INTACT
    content = bytearray(Path(frame.path).read_bytes())
    content[-1] ^= 1
    Path(frame.path).write_bytes(content)
    assert originals.state_of(frame) is OriginalState.CHANGED
    with pytest.raises(FrameError, match="was changed after it was imported"):
        originals.path_of(frame)
    Path(frame.path).unlink()
    assert originals.state_of(frame) is OriginalState.MISSING


@pytest.mark.django_db
def test_nothing_is_measured_or_shown_from_a_changed_original(own, client):
    changed = Frame.objects.filter(shot__rung__iso=200, shot__kind="light").first()
    intact = Path(changed.path).read_bytes()
    other_content(Path(changed.path))
    job = run.start_measuring(own)
    job.refresh_from_db()
    assert job.state == "done"
    assert "1 frame could not be used" in job.message
    problem = Problem.objects.get(code="changed")
    assert problem.file_name == changed.file_name
    # What the others say is measured: of the rung only one frame is left.
    assert Reading.objects.filter(rung__iso=100, quantity="snr", value__isnull=False).exists()
    assert staleness.unmeasured(own.ladders.get()) == 1
    page = client.get(f"/sittings/{own.pk}/check/").content.decode()
    assert "was changed after it was imported" in page
    found = [one for one in audit.audit(own.ladders.get()).findings if one.code == "changed"]
    assert [(one.rung.iso, one.frame, one.short) for one in found] == [(200, changed, "file changed")]
    assert client.get(f"/frames/{changed.pk}/crop/0,0,64,64.png?g=1,1,1").status_code == 404
    # Put back, it counts again, and the complaint goes.
    Path(changed.path).write_bytes(intact)
    run.start_measuring(own)
    assert staleness.unmeasured(own.ladders.get()) == 0
    assert not Problem.objects.filter(code="changed").exists()
