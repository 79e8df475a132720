"""Keeping data: a backup of the data folder while it is in use, and putting one back.

A backup is a zip of the database as of one moment, everything that cannot be made again, and a manifest with sizes and
SHA-256 of every file. It holds no secrets: a restored folder makes its own.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import shutil
import sqlite3
import stat
import struct
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path, PurePosixPath
from typing import IO, Any

FORMAT = "yellowjacket-backup/1"
DATABASE, MANIFEST = "yellowjacket.sqlite3", "manifest.json"
# Rooms of the data folder that are kept, and single files beside the database.
ROOMS = ("card", "inbox", "originals", "masters", "deleted")
FILES = ("folders.txt",)
# What preparing a folder makes besides empty rooms; none of it is data.
_PREPARED = ("secret-key", "cache", "static", "arriving", ".served")
# Tables that name files by where they lie: they follow the folder when it moves.
_PATHS = (("bench_frame", "path"), ("bench_problem", "path"), ("bench_lanepicture", "path"))
# Pages copied at a time, and the pause (s) in which others may write.
_PAGES, _PAUSE_S = 512, 0.005
_BLOCK = 1 << 20
_MANIFEST_BYTES = 64 << 20
# What must stay free on the disk after restoring.
_SPARE_BYTES = 64 << 20
_KEPT_COPIES = 5


# What zip files that are damaged, encrypted, packed in unknown ways or nested without end are answered with.
UNREADABLE = (
    zipfile.BadZipFile, zlib.error, EOFError, RuntimeError, NotImplementedError, RecursionError, ValueError, struct.error,
)  # fmt: skip
_DIGEST = re.compile(r"[0-9a-f]{64}")


class KeepingError(ValueError):
    """A backup that cannot be made or put back; the message says why and what to do."""


@dataclass(frozen=True, slots=True)
class Kept:
    """What a backup holds: how many files, and their bytes."""

    files: int
    total_bytes: int


def copy_database(source: Path, target: Path) -> None:
    """Copy a database that is in use, as of one moment, without holding up those who write (SQLite's online backup)."""
    try:
        with closing(sqlite3.connect(source, timeout=30)) as here, closing(sqlite3.connect(target)) as there:
            here.backup(there, pages=_PAGES, sleep=_PAUSE_S)
    except sqlite3.DatabaseError as error:
        raise KeepingError(f"{source} cannot be read ({error}): run `yellowjacket doctor`") from error


def backup(home: Path, target: Path, version: str, now: datetime, report: Callable[[str], None]) -> Kept:
    """Write a backup of a data folder; the file appears whole or not at all. Raises KeepingError.

    ``report`` gets a line now and then.
    """
    database = home / DATABASE
    if not database.is_file():
        raise KeepingError(f"{home} holds no database: there is nothing to back up yet")
    if target.exists():
        raise KeepingError(f"{target} exists already; name another file")
    target.parent.mkdir(parents=True, exist_ok=True)
    entries: list[dict[str, object]] = []
    partial = target.with_name(f".{target.name}.{os.getpid()}.part")
    try:
        with tempfile.TemporaryDirectory(prefix="yellowjacket-") as scratch:
            moment = Path(scratch) / DATABASE
            copy_database(database, moment)
            try:
                _sound(moment)
            except KeepingError as error:
                raise KeepingError(
                    f"{database} is damaged, and so would be its backup: restore an earlier one with `yellowjacket restore`"
                ) from error
            with zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
                entries.append(_add(archive, moment, DATABASE))
                for n, (path, name) in enumerate(_kept_files(home), start=1):
                    try:
                        entries.append(_add(archive, path, name))
                    except FileNotFoundError:
                        # Removed between listing and copying: the database of the moment before may still name it.
                        report(f"{name} went away meanwhile and is not in the backup")
                    if n % 200 == 0:
                        report(f"{n} files ...")
                manifest = {
                    "format": FORMAT, "version": version, "made_at": now.isoformat(timespec="seconds"), "home": str(home),
                    "files": entries,
                }  # fmt: skip
                archive.writestr(MANIFEST, json.dumps(manifest, indent=1))
        partial.replace(target)
    finally:
        partial.unlink(missing_ok=True)
    return Kept(len(entries), sum(int(str(entry["size"])) for entry in entries))


def _kept_files(home: Path) -> Iterator[tuple[Path, str]]:
    for name in FILES:
        if (home / name).is_file():
            yield home / name, name
    for room in ROOMS:
        for place, folders, names in os.walk(home / room):
            folders.sort()
            for name in sorted(names):
                path = Path(place) / name
                # Half-written files are nobody's yet, and links lead elsewhere.
                if not name.startswith(".") and stat.S_ISREG(path.lstat().st_mode):
                    yield path, path.relative_to(home).as_posix()


def _add(archive: zipfile.ZipFile, path: Path, name: str) -> dict[str, object]:
    digest, size = hashlib.sha256(), 0
    with path.open("rb") as source, archive.open(zipfile.ZipInfo(name), "w", force_zip64=True) as target:
        while block := source.read(_BLOCK):
            digest.update(block)
            target.write(block)
            size += len(block)
    return {"path": name, "size": size, "sha256": digest.hexdigest()}


def restore(archive_path: Path, home: Path, report: Callable[[str], None]) -> Kept:
    """Put a backup back into a folder that holds no data yet; everything is verified before anything appears there.

    Raises KeepingError for what is no backup, is damaged or tampered with, does not fit, or would overwrite data.
    """
    if (home / DATABASE).exists():
        raise KeepingError(f"{home} holds data already; restore into another folder, or move that one away first")
    if home.exists() and any(home.iterdir()) and not _only_prepared(home):
        raise KeepingError(f"{home} is not empty; name an empty or a new folder")
    home.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix=".yellowjacket-restore-", dir=home.parent) as scratch:
        inside = Path(scratch) / "home"
        inside.mkdir()
        manifest = _unpacked(archive_path, inside, report)
        _sound(inside / DATABASE)
        _follow(inside / DATABASE, str(manifest["home"]), str(home))
        home.mkdir(exist_ok=True)
        for item in inside.iterdir():
            target = home / item.name
            if target.is_dir():
                # Rooms that were prepared, and are empty.
                target.rmdir()
            item.replace(target)
    files = manifest["files"]
    return Kept(len(files), sum(entry["size"] for entry in files))


def _only_prepared(home: Path) -> bool:
    """Whether a folder holds nothing but what preparing it makes."""
    for item in home.iterdir():
        if item.name in _PREPARED:
            continue
        if not (item.is_dir() and item.name in ROOMS and not any(item.iterdir())):
            return False
    return True


def _unpacked(archive_path: Path, folder: Path, report: Callable[[str], None]) -> Mapping[str, Any]:
    try:
        with zipfile.ZipFile(archive_path) as archive:
            manifest = read_manifest(archive, archive_path.name, FORMAT)
            wanted = {entry["path"]: entry for entry in manifest["files"]}
            if DATABASE not in wanted:
                raise KeepingError(f"{archive_path.name} holds no database, so it is not a complete backup")
            free = shutil.disk_usage(folder).free
            total = sum(entry["size"] for entry in wanted.values())
            if total + _SPARE_BYTES > free:
                raise KeepingError(f"{total / 1e9:.1f} GB do not fit on the disk, {free / 1e9:.1f} GB are free")
            for n, (name, entry) in enumerate(wanted.items(), start=1):
                extract(archive, entry, folder / checked_name(name))
                if n % 200 == 0:
                    report(f"{n} of {len(wanted)} files ...")
            return manifest
    except FileNotFoundError as error:
        raise KeepingError(f"{archive_path} does not exist") from error
    except KeepingError:
        raise
    except UNREADABLE as error:
        raise KeepingError(f"{archive_path.name} is not a backup, or was cut short: fetch it again") from error


def read_manifest(archive: zipfile.ZipFile, name: str, wanted: str) -> Mapping[str, Any]:
    """The manifest of an archive of a known format. Raises KeepingError for unknown versions and damaged ones."""
    try:
        info = archive.getinfo(MANIFEST)
    except KeyError as error:
        raise KeepingError(f"{name} has no manifest: it is none of ours, or was cut short") from error
    if info.file_size > _MANIFEST_BYTES:
        raise KeepingError(f"{name} has a manifest of {info.file_size / 1e6:.0f} MB: that is none of ours")
    try:
        with archive.open(info) as source:
            manifest = json.loads(_whole(source))
        kind, _, number = str(manifest["format"]).partition("/")
        files = manifest["files"]
        well_formed = all(
            isinstance(entry["path"], str) and type(entry["size"]) is int and 0 <= entry["size"] < 1 << 50
            and isinstance(entry["sha256"], str) and _DIGEST.fullmatch(entry["sha256"]) for entry in files
        ) and len({entry["path"] for entry in files}) == len(files)  # fmt: skip
    except (ValueError, KeyError, TypeError, AttributeError, *UNREADABLE) as error:
        raise KeepingError(f"{name}: its manifest is damaged; fetch the file again") from error
    if kind != wanted.partition("/")[0]:
        raise KeepingError(f"{name} is {kind or 'nothing known'}, not {wanted.partition('/')[0]}")
    # A newer minor version adds, and may be read.
    if number.partition(".")[0] != wanted.partition("/")[2].partition(".")[0]:
        raise KeepingError(
            f"{name} has version {number}, this application knows {wanted.partition('/')[2]}: upgrade it"
        )
    if not well_formed:
        raise KeepingError(f"{name}: its manifest is damaged; fetch the file again")
    return dict(manifest)


def _whole(source: IO[bytes]) -> bytes:
    """All of a member, but never more than a manifest may have, whatever the archive says of its size."""
    data = source.read(_MANIFEST_BYTES + 1)
    if len(data) > _MANIFEST_BYTES:
        raise zipfile.BadZipFile("more than a manifest holds")
    return data


def checked_name(name: str) -> str:
    """A path inside an archive that stays inside the folder. Raises KeepingError for tricks."""
    path = PurePosixPath(name)
    if path.is_absolute() or ".." in path.parts or "\\" in name or "\0" in name or not path.parts:
        raise KeepingError(f"{name!r} leads out of the folder: the archive was tampered with")
    if name != DATABASE and name not in FILES and path.parts[0] not in ROOMS:
        raise KeepingError(f"{name!r} belongs to no part of a data folder: the archive was tampered with")
    return name


def extract(archive: zipfile.ZipFile, entry: Mapping[str, Any], target: Path) -> None:
    """Write one file of an archive to its place, as extract_into does. Raises KeepingError, and OSError without room."""
    target.parent.mkdir(parents=True, exist_ok=True)
    with target.open("wb") as file:
        extract_into(archive, entry, file)


def extract_into(archive: zipfile.ZipFile, entry: Mapping[str, Any], file: IO[bytes]) -> None:
    """Write one file of an archive, never more bytes than its manifest says, and compare its digest. Raises KeepingError."""
    name = str(entry["path"])
    try:
        info = archive.getinfo(name)
    except KeyError as error:
        raise KeepingError(f"{name} is missing from the archive: it was cut short or tampered with") from error
    if stat.S_ISLNK(info.external_attr >> 16):
        raise KeepingError(f"{name} is a link: the archive was tampered with")
    digest, left = hashlib.sha256(), int(entry["size"])
    try:
        with archive.open(info) as source:
            while block := _some(source, left):
                digest.update(block)
                file.write(block)
                left -= len(block)
    except RuntimeError as error:
        raise KeepingError(
            f"{name} is encrypted, or packed in a way that is not known here: make the archive again"
        ) from error
    except (zipfile.BadZipFile, EOFError, zlib.error) as error:
        raise KeepingError(f"{name} cannot be unpacked: the archive is damaged; fetch it again") from error
    if left or digest.hexdigest() != entry["sha256"]:
        raise KeepingError(f"{name} is not what the manifest says: the archive is damaged or was tampered with")


def _some(source: IO[bytes], left: int) -> bytes:
    block = source.read(min(_BLOCK, left + 1))
    if len(block) > left:
        raise zipfile.BadZipFile("more than the manifest says")
    return block


def _sound(database: Path) -> None:
    try:
        with closing(sqlite3.connect(database)) as connection:
            said = connection.execute("PRAGMA integrity_check").fetchone()[0]
    except sqlite3.DatabaseError as error:
        raise KeepingError("the database in the backup is none, or damaged") from error
    if said != "ok":
        raise KeepingError(f"the database in the backup is damaged: {said}")


def _follow(database: Path, old: str, new: str) -> None:
    """Files of the data folder are named by where they lie: those names follow it."""
    with closing(sqlite3.connect(database)) as connection, connection:
        tables = {row[0] for row in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
        for table, column in _PATHS:
            if table in tables:
                connection.execute(
                    f"UPDATE {table} SET {column} = ? || substr({column}, ?) WHERE substr({column}, 1, ?) = ?",  # noqa: S608
                    (new, len(old) + 1, len(old) + 1, old + "/"),
                )


def before_upgrade(home: Path, version: str, now: datetime) -> Path:
    """A copy of the database before it is brought up to date, the newest few kept; where it lies."""
    folder = home / "backups"
    folder.mkdir(exist_ok=True)
    target = folder / f"before-{version}-{now.strftime('%Y%m%d-%H%M%S')}.sqlite3"
    copy_database(home / DATABASE, target)
    for old in sorted(folder.glob("before-*.sqlite3"))[:-_KEPT_COPIES]:
        old.unlink()
    return target
