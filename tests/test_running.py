"""What goes wrong around the application while it runs: disk, database, cache, other servers, people who send half of a thing."""

import contextlib
import os
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path

import pytest

from tests.cli.test_backup import lived_in, run  # noqa: F401 - a fixture
from tests.homes import environment
from tests.test_serving import free_port
from yellowjacket import data_folder


@pytest.fixture
def folder(lived_in, tmp_path):  # noqa: F811
    """A data folder with a sitting, of one's own."""
    own = tmp_path / "home"
    shutil.copytree(lived_in, own)
    with contextlib.closing(sqlite3.connect(own / "yellowjacket.sqlite3")) as database, database:
        for table in ("bench_frame", "bench_problem"):
            database.execute(f"UPDATE {table} SET path = replace(path, ?, ?)", (str(lived_in), str(own)))
    return own


@contextlib.contextmanager
def serving(folder, **extra):
    port = free_port()
    process = subprocess.Popen(
        [sys.executable, "-m", "yellowjacket.cli", "serve", "--port", str(port)], env=environment(folder) | extra,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        line = process.stdout.readline()
        assert "Yellowjacket is up" in line, process.stderr.read()
        yield f"http://127.0.0.1:{port}", process
    finally:
        process.send_signal(signal.SIGINT)
        try:
            process.wait(timeout=20)
        except subprocess.TimeoutExpired:
            process.kill()


def status(address: str) -> int:
    try:
        with urllib.request.urlopen(address, timeout=20) as response:
            response.read()
            return response.status
    except urllib.error.HTTPError as error:
        return error.code


def test_half_sent_requests_keep_nobody_waiting_and_the_cache_may_vanish(folder):
    with serving(folder) as (address, process):
        port = int(address.rsplit(":", 1)[1])
        open_ones = []
        for n in range(200):
            one = socket.create_connection(("127.0.0.1", port))
            head = "POST /adopt/ HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 100000\r\n"
            one.sendall((head + ("\r\n" if n % 2 else "")).encode())
            open_ones.append(one)
        begin = time.monotonic()
        assert status(f"{address}/") == 200
        assert time.monotonic() - begin < 10
        shutil.rmtree(folder / "cache")
        page = urllib.request.urlopen(f"{address}/", timeout=20).read().decode()
        for link in {part.split('"')[0] for part in page.split('"/static/')[1:]}:
            assert status(f"{address}/static/{link}") == 200
        frame = sqlite3.connect(folder / "yellowjacket.sqlite3").execute("SELECT id FROM bench_frame").fetchone()[0]
        for _ in range(2):
            assert status(f"{address}/frames/{frame}/crop/0,0,64,64.png?g=1,1,1") == 200
        assert process.poll() is None
        for one in open_ones:
            one.close()


def test_a_second_server_on_one_data_folder_is_refused(folder):
    # What a killed server left of an upload goes with the next start.
    (folder / "arriving").mkdir(exist_ok=True)
    (folder / "arriving" / "half.upload").write_bytes(b"x")
    with serving(folder):
        assert not (folder / "arriving" / "half.upload").exists()
        second = run(folder, "serve", "--port", free_port())
        assert second.returncode == 1
        assert "another Yellowjacket is using" in second.stderr
        # What only reads, or writes a row, is not.
        assert run(folder, "account", "list").returncode == 0


def test_whatever_child_dies_is_started_anew_and_all_end_with_the_supervisor(folder):
    import psutil

    with serving(folder) as (address, process):
        for _ in range(1):
            children = psutil.Process(process.pid).children()
            assert len(children) == 3
            for child in children:
                child.kill()
            deadline = time.monotonic() + 30
            while time.monotonic() < deadline and (
                len(psutil.Process(process.pid).children()) < 3 or status_or_none(f"{address}/") != 200
            ):
                time.sleep(0.1)
            assert status(f"{address}/") == 200
        everybody = psutil.Process(process.pid).children(recursive=True)
        process.kill()
        process.wait()
        _, alive = psutil.wait_procs(everybody, timeout=15)
        assert not alive
    # The folder is free again at once.
    with serving(folder):
        pass


def status_or_none(address: str) -> int | None:
    try:
        return status(address)
    except OSError:
        return None


def test_a_damaged_database_is_told_by_every_command(folder, tmp_path):
    database = folder / "yellowjacket.sqlite3"
    for path in folder.glob("yellowjacket.sqlite3-*"):
        path.unlink()
    content = bytearray(database.read_bytes())
    content[4096 : len(content) : 7] = os.urandom(len(content[4096 : len(content) : 7]))
    database.write_bytes(content)
    for command in (("serve", "--port", free_port()), ("doctor",), ("backup", tmp_path / "b.zip"), ("account", "list")):
        told = run(folder, *command)
        assert told.returncode == 1, (command, told)
        assert "Traceback" not in told.stderr, (command, told.stderr)
        said = told.stdout + told.stderr
        assert "restore" in said or "doctor" in said, (command, said)
    assert not (tmp_path / "b.zip").exists()
    assert not list(tmp_path.glob(".*part"))


def test_no_database_at_all_is_told_too(folder):
    (folder / "yellowjacket.sqlite3").write_bytes(b"moths " * 1000)
    for command in (("serve", "--port", free_port()), ("doctor",)):
        told = run(folder, *command)
        assert told.returncode == 1
        assert "Traceback" not in told.stderr
        assert "damaged" in told.stdout + told.stderr


def test_a_database_of_a_newer_version_is_left_alone(folder):
    with contextlib.closing(sqlite3.connect(folder / "yellowjacket.sqlite3")) as database, database:
        database.execute(
            "INSERT INTO django_migrations (app, name, applied) VALUES ('bench', '9999_future', '2030-01-01')"
        )
    for command in (("serve", "--port", free_port()), ("demo", "--prepare-only")):
        told = run(folder, *command)
        assert told.returncode == 1
        assert "newer version" in told.stderr
        assert "Traceback" not in told.stderr
    looked = run(folder, "doctor")
    assert looked.returncode == 1
    assert "9999_future" in looked.stdout


def test_doctor_finds_and_removes_what_was_left_behind(folder):
    originals = folder / "originals" / "sitting-99"
    originals.mkdir(parents=True)
    (originals / "orphan.dng").write_bytes(b"x" * 1000)
    (originals / ".abc.part").write_bytes(b"half")
    before = set((folder / "inbox").iterdir())
    found = run(folder, "doctor")
    assert "left behind: 2 files that no record names" in found.stdout
    cleaned = run(folder, "doctor", "--clean-up")
    assert "orphan.dng" in cleaned.stdout
    assert "left behind: nothing" in cleaned.stdout
    assert not originals.exists()
    assert set((folder / "inbox").iterdir()) == before


@pytest.fixture
def small_disk(tmp_path):
    """A file system of a few megabytes."""
    place = tmp_path / "small"
    place.mkdir()
    made = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", str(place)], capture_output=True, check=False
    )
    if made.returncode:
        pytest.skip("making a file system needs root")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=False)


def fill(place: Path, leave: int = 0) -> Path:
    filler = place / "filler"
    size = shutil.disk_usage(place).free - leave
    with filler.open("wb") as file, contextlib.suppress(OSError):
        for _ in range(max(0, size) // 4096):
            file.write(b"\0" * 4096)
    return filler


def test_a_full_disk_is_a_sentence_and_leaves_nothing(small_disk):
    folder = small_disk / "home"
    data_folder.prepare(folder)
    assert run(folder, "account", "list").returncode == 0
    with serving(folder) as (address, process):
        opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
        page = opener.open(f"{address}/", timeout=20).read().decode()
        token = page.split('name="csrfmiddlewaretoken" value="')[1].split('"')[0]
        for leave in (0, 1_500_000):
            filler = fill(small_disk, leave)
            code, said = send(opener, f"{address}/adopt/", token, os.urandom(1_000_000))
            assert code in (413, 503, 507), (leave, code, said)
            assert "disk" in said, said
            filler.unlink()
        assert status(f"{address}/") == 200
        with contextlib.closing(sqlite3.connect(folder / "yellowjacket.sqlite3")) as database:
            assert database.execute("SELECT count(*) FROM bench_sitting").fetchone() == (0,)
        assert not [path for path in (folder / "originals").rglob("*") if path.is_file()]
        assert not list(folder.rglob("*.part"))
        assert process.poll() is None
    fill(small_disk)
    told = run(folder, "doctor")
    assert "Traceback" not in told.stderr
    assert "cannot be written to" in told.stdout


def send(opener, address, token, content) -> tuple[int, str]:
    boundary = "moth"
    body = (
        f'--{boundary}\r\nContent-Disposition: form-data; name="csrfmiddlewaretoken"\r\n\r\n{token}\r\n'
        f'--{boundary}\r\nContent-Disposition: form-data; name="files"; filename="a.dng"\r\n'
        "Content-Type: application/octet-stream\r\n\r\n"
    ).encode() + content + f"\r\n--{boundary}--\r\n".encode()  # fmt: skip
    request = urllib.request.Request(address, body, {"Content-Type": f"multipart/form-data; boundary={boundary}"})
    try:
        with opener.open(request, timeout=60) as response:
            return response.status, response.read().decode()
    except urllib.error.HTTPError as error:
        return error.code, error.read().decode()


@pytest.fixture
def read_only(small_disk):
    folder = small_disk / "home"
    data_folder.prepare(folder)
    assert run(folder, "account", "list").returncode == 0
    subprocess.run(["mount", "-o", "remount,ro", str(small_disk)], check=True)
    yield folder
    subprocess.run(["mount", "-o", "remount,rw", str(small_disk)], check=True)


def test_a_read_only_folder_is_told_by_every_command(read_only, tmp_path):
    for command in (("serve", "--port", free_port()), ("account", "list"), ("demo", "--prepare-only"), ("doctor",)):
        told = run(read_only, *command)
        assert told.returncode == 1, (command, told)
        assert "Traceback" not in told.stderr, told.stderr
        assert "cannot be written to" in told.stdout + told.stderr, (command, told)
        assert "read-only" in told.stdout + told.stderr
