"""Backups and restoring: whole, verified, and never over data; tricks and damage are refused by name."""

import json
import sqlite3
import threading
import zipfile
from contextlib import closing
from datetime import datetime

import pytest

from yellowjacket import backup
from yellowjacket.backup import KeepingError

NOW = datetime(2026, 3, 14, 12, 0)


def quiet(_line):
    return None


@pytest.fixture
def home(tmp_path):
    """A data folder with a database that names a file of its own and one elsewhere."""
    folder = tmp_path / "home"
    (folder / "originals" / "sitting-1").mkdir(parents=True)
    (folder / "cache").mkdir()
    (folder / "originals" / "sitting-1" / "F1.DNG").write_bytes(b"raw" * 50_000)
    (folder / "cache" / "x.png").write_bytes(b"again")
    (folder / "secret-key").write_text("secret")
    (folder / "folders.txt").write_text("/media/card\n")
    with closing(sqlite3.connect(folder / backup.DATABASE)) as connection, connection:
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute("CREATE TABLE bench_frame (id INTEGER PRIMARY KEY, path TEXT)")
        for path in (folder / "originals" / "sitting-1" / "F1.DNG", "/media/card/F2.DNG"):
            connection.execute("INSERT INTO bench_frame (path) VALUES (?)", (str(path),))
    return folder


@pytest.fixture
def saved(home, tmp_path):
    target = tmp_path / "kept" / "one.zip"
    backup.backup(home, target, "0.1.0", NOW, quiet)
    return target


def paths_of(folder):
    with closing(sqlite3.connect(folder / backup.DATABASE)) as connection:
        return [row[0] for row in connection.execute("SELECT path FROM bench_frame ORDER BY id")]


def test_a_backup_holds_what_cannot_be_made_again_and_no_secret(saved):
    with zipfile.ZipFile(saved) as archive:
        names = set(archive.namelist())
        manifest = json.loads(archive.read(backup.MANIFEST))
    assert names == {backup.DATABASE, "folders.txt", "originals/sitting-1/F1.DNG", backup.MANIFEST}
    assert manifest["format"] == backup.FORMAT
    assert {entry["path"] for entry in manifest["files"]} == names - {backup.MANIFEST}


def test_what_comes_back_is_the_same_to_the_last_bit_and_its_paths_follow(saved, home, tmp_path):
    again = tmp_path / "elsewhere" / "home"
    kept = backup.restore(saved, again, quiet)
    assert kept.files == 3
    assert (again / "originals/sitting-1/F1.DNG").read_bytes() == (home / "originals/sitting-1/F1.DNG").read_bytes()
    assert paths_of(again) == [str(again / "originals/sitting-1/F1.DNG"), "/media/card/F2.DNG"]
    assert not (again / "secret-key").exists()


def test_a_backup_does_not_hold_up_those_who_write(home, tmp_path):
    stop = threading.Event()
    written = []

    def write():
        with closing(sqlite3.connect(home / backup.DATABASE, timeout=5)) as connection:
            while not stop.is_set():
                with connection:
                    connection.execute("INSERT INTO bench_frame (path) VALUES ('/x')")
                written.append(1)

    worker = threading.Thread(target=write)
    worker.start()
    try:
        for n in range(5):
            backup.backup(home, tmp_path / f"{n}.zip", "0.1.0", NOW, quiet)
    finally:
        stop.set()
        worker.join()
    assert written
    backup.restore(tmp_path / "4.zip", tmp_path / "again", quiet)
    assert len(paths_of(tmp_path / "again")) >= 2


def test_data_is_never_overwritten(saved, home, tmp_path):
    with pytest.raises(KeepingError, match="holds data already"):
        backup.restore(saved, home, quiet)
    other = tmp_path / "other"
    other.mkdir()
    (other / "diary.txt").write_text("mine")
    with pytest.raises(KeepingError, match="not empty"):
        backup.restore(saved, other, quiet)
    with pytest.raises(KeepingError, match="exists already"):
        backup.backup(home, saved, "0.1.0", NOW, quiet)
    with pytest.raises(KeepingError, match="nothing to back up"):
        backup.backup(tmp_path / "empty", tmp_path / "y.zip", "0.1.0", NOW, quiet)


def rewritten(saved, change):
    """The backup with its entries changed by ``change(name, data) -> (name, data) or None``."""
    with zipfile.ZipFile(saved) as archive:
        entries = [(info.filename, archive.read(info)) for info in archive.infolist()]
    bad = saved.with_name("bad.zip")
    with zipfile.ZipFile(bad, "w") as archive:
        for name, data in entries:
            changed = change(name, data)
            if changed is not None:
                archive.writestr(*changed)
    return bad


def manifest_with(**changes):
    def change(name, data):
        if name != backup.MANIFEST:
            return name, data
        return name, json.dumps(json.loads(data) | changes)

    return change


def renamed_to(path):
    def change(name, data):
        if name == "folders.txt":
            return path, data
        return name, data.replace(b'"folders.txt"', json.dumps(path).encode()) if name == backup.MANIFEST else data

    return change


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda n, d: (n, d[:-1] + b"!") if n.endswith("DNG") else (n, d), "not what the manifest says"),
        (lambda n, d: (n, d + b"bomb" * 10) if n.endswith("DNG") else (n, d), "damaged"),
        (lambda n, d: None if n.endswith("DNG") else (n, d), "is missing"),
        (lambda n, d: None if n == backup.MANIFEST else (n, d), "no manifest"),
        (lambda n, d: (n, b"{") if n == backup.MANIFEST else (n, d), "manifest is damaged"),
        (manifest_with(format="yellowjacket-backup/2"), "upgrade it"),
        (manifest_with(format="something/1"), "not yellowjacket-backup"),
        (manifest_with(files=[]), "not a complete backup"),
        (manifest_with(files=[{"path": "x", "size": -1, "sha256": ""}]), "manifest is damaged"),
        (renamed_to("../escaped.txt"), "leads out of the folder"),
        (renamed_to("/etc/passwd"), "leads out of the folder"),
        (renamed_to("cache/x"), "no part of a data folder"),
    ],
)
def test_damage_and_tricks_are_refused_and_nothing_appears(saved, tmp_path, change, words):
    target = tmp_path / "again"
    with pytest.raises(KeepingError, match=words):
        backup.restore(rewritten(saved, change), target, quiet)
    assert not target.exists()
    assert not (tmp_path / "escaped.txt").exists()


def test_a_newer_minor_version_may_be_read(saved, tmp_path):
    newer = rewritten(saved, manifest_with(format="yellowjacket-backup/1.3", more="x"))
    assert backup.restore(newer, tmp_path / "again", quiet).files == 3


def test_truncated_and_foreign_files_are_named(saved, tmp_path):
    short = tmp_path / "short.zip"
    short.write_bytes(saved.read_bytes()[:4000])
    with pytest.raises(KeepingError, match=r"short\.zip is not a backup, or was cut short"):
        backup.restore(short, tmp_path / "again", quiet)
    with pytest.raises(KeepingError, match="does not exist"):
        backup.restore(tmp_path / "none.zip", tmp_path / "again", quiet)


def test_what_does_not_fit_is_not_begun(saved, tmp_path, monkeypatch):
    usage = type("Usage", (), {"free": 10_000})
    monkeypatch.setattr(backup.shutil, "disk_usage", lambda _: usage)
    with pytest.raises(KeepingError, match="do not fit"):
        backup.restore(saved, tmp_path / "again", quiet)


def test_copies_before_an_upgrade_are_few(home):
    for minute in range(8):
        backup.before_upgrade(home, "0.1.0", NOW.replace(minute=minute))
    kept = sorted((home / "backups").iterdir())
    assert len(kept) == 5
    assert kept[-1].name == "before-0.1.0-20260314-120700.sqlite3"
