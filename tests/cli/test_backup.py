"""Backup, restore and doctor at the command line, on a real data folder; and the copy before an upgrade."""

import subprocess
import sys

import pytest

from tests import homes
from tests.homes import environment
from yellowjacket import data_folder

SITTING = """
import django; django.setup()
from datetime import date
from pathlib import Path
from django.conf import settings
from tests import making
from yellowjacket.bench.models import Body, ToleranceProfile, Sitting
from yellowjacket.bench.intake import importing
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec, create_sitting
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
body = Body.objects.create(make="Ostrel", model="Heath", serial="OH-1", pixel_width=making.WIDTH, pixel_height=making.HEIGHT,
    lowest_iso=100, native_lowest_iso=100, native_highest_iso=400, highest_iso=400, fastest_shutter_s=1 / 8000)
profile = ToleranceProfile.objects.get(name="Default")
sitting = Sitting(name="Drawer 1", scene="drawer", question="?", expectation="?", held_on=date(2026, 3, 14), profile=profile)
create_sitting(sitting, [UseSpec("Web", None)], [LadderRequest(body, LadderSpec("iso", "shutter", Exposure(100, 1 / 8, 8.0)))])
folder = settings.HOME / "inbox"
making.write_ladder(folder)
job = importing.import_folder(sitting, str(folder))
queue.run_job.call(job.pk)
"""


def run(folder, *arguments):
    command = [sys.executable, "-m", "yellowjacket.cli", *map(str, arguments)]
    return subprocess.run(command, env=environment(folder), capture_output=True, text=True, check=False)


@pytest.fixture(scope="module")
def lived_in(tmp_path_factory):
    folder = homes.ready(tmp_path_factory.mktemp("keeping") / "home")
    subprocess.run([sys.executable, "-c", SITTING], env=environment(folder), check=True)
    return folder


def test_a_data_folder_is_kept_put_back_and_found_sound(lived_in, tmp_path):
    kept = run(lived_in, "backup", tmp_path / "kept.zip")
    assert kept.returncode == 0, kept.stderr
    assert "12 files" not in kept.stderr
    again = tmp_path / "again"
    back = run(lived_in, "restore", tmp_path / "kept.zip", "--into", again)
    assert back.returncode == 0, back.stderr
    assert f"are in {again}, verified" in back.stdout
    # Every frame is found where the restored folder has it.
    sound = run(again, "doctor", "--thorough")
    assert sound.returncode == 0, sound.stdout + sound.stderr
    assert "12 files in place, contents compared" in sound.stdout
    assert "database: sound" in sound.stdout
    assert "schema: up to date" in sound.stdout


def test_the_doctor_names_what_is_gone_and_changed_with_the_remedy(lived_in, tmp_path):
    run(lived_in, "backup", tmp_path / "kept.zip")
    again = tmp_path / "again"
    run(lived_in, "restore", tmp_path / "kept.zip", "--into", again)
    frames = sorted((again / "inbox").iterdir())
    frames[0].unlink()
    data = bytearray(frames[1].read_bytes())
    data[-1] ^= 1
    frames[1].write_bytes(bytes(data))
    ill = run(again, "doctor", "--thorough")
    assert ill.returncode == 1
    assert f"1 of 12 files are gone: {frames[0]}" in ill.stdout
    assert f"1 of 12 files were changed: {frames[1]}" in ill.stdout
    assert ill.stdout.count("remedy:") == 2
    # A quick look compares sizes only.
    assert "were changed" not in run(again, "doctor").stdout


def test_refusals_are_one_line(lived_in, tmp_path):
    refused = run(lived_in, "restore", tmp_path / "none.zip", "--into", tmp_path / "x")
    assert refused.returncode == 1
    assert refused.stderr == f"yellowjacket: {tmp_path / 'none.zip'} does not exist\n"
    assert "holds data already" in run(lived_in, "restore", tmp_path / "none.zip").stderr
    assert "holds no data yet" in run(tmp_path / "nothing", "doctor").stderr


def test_an_upgrade_copies_the_database_first(lived_in, tmp_path):
    run(lived_in, "backup", tmp_path / "kept.zip")
    old = tmp_path / "old"
    run(lived_in, "restore", tmp_path / "kept.zip", "--into", old)
    data_folder.prepare(old)
    script = (
        "import django; django.setup()\n"
        "from tests.old_versions import migrated\n"
        "migrated('0010_blind_rounds')\n"
        "from yellowjacket import serving\n"
        "serving.prepare_database(); serving.prepare_database()\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], env=environment(old), capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout.count("The database is brought up to date") == 1
    assert len(list((old / "backups").iterdir())) == 1


def test_a_folder_that_was_only_prepared_takes_a_backup(lived_in, tmp_path):
    """What starting and ending the application makes, before there is any data, is in nobody's way."""
    assert run(lived_in, "backup", tmp_path / "kept.zip").returncode == 0
    fresh = tmp_path / "fresh"
    data_folder.prepare(fresh)
    with data_folder.only_here(fresh):
        pass
    back = run(fresh, "restore", tmp_path / "kept.zip")
    assert back.returncode == 0, back.stderr
    assert run(fresh, "doctor").returncode == 0
