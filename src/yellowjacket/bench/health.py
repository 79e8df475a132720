"""A look at the health of a data folder: database, originals, space, versions; each finding with its remedy."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import django
from django.apps import apps
from django.conf import settings
from django.db import DatabaseError, connection
from django.db.migrations.executor import MigrationExecutor
from django.db.migrations.recorder import MigrationRecorder

from yellowjacket import __version__, last_checks
from yellowjacket.backup import DATABASE
from yellowjacket.bench import deleted_archives
from yellowjacket.bench.models import Frame, Job, LanePicture, MasterDark, Problem
from yellowjacket.bench.patience import Trouble, trouble_of, words_for
from yellowjacket.core.raw.frame import sha256_of

GOOD, ODD, BAD = "good", "odd", "bad"
_LITTLE_BYTES = 2_000_000_000
_MOST_NAMED = 5
_UPGRADE = (
    "upgrade this application, or give it another data folder: an older version would damage what the newer one wrote"
)
_TOO_NEW = "the database was changed by a newer version of Yellowjacket ({}): " + _UPGRADE


@dataclass(frozen=True, slots=True)
class Finding:
    """What was looked at, how it is (GOOD, ODD or BAD), in words, and what to do about it."""

    what: str
    state: str
    words: str
    remedy: str = ""


def examine(*, thorough: bool = False) -> Iterator[Finding]:
    """Everything, one finding after the other. ``thorough``: read every original and compare its digest, too."""
    yield Finding(
        "versions", GOOD, f"Yellowjacket {__version__}, Django {django.get_version()}, data in {settings.HOME}"
    )
    yield _writable()
    readable = True
    for found in _database():
        readable = readable and found.state != BAD
        yield found
    if readable:
        yield _migrations()
        yield from _files(thorough=thorough)
        yield _left_behind()
        yield _jobs()
    yield from _space()


def looked(*, thorough: bool = False) -> list[Finding]:
    """As examine, and kept as the last look."""
    found = list(examine(thorough=thorough))
    lines = [{"what": one.what, "state": one.state, "words": one.words, "remedy": one.remedy} for one in found]
    now = last_checks.Looked(datetime.now(UTC), __version__, thorough, lines)
    with contextlib.suppress(OSError):
        # A folder that cannot be written to is one of the findings.
        last_checks.keep(settings.HOME, last_checks.HEALTH, now)
    return found


def require_readable() -> None:
    """Raise ValueError, with the remedy, for a database that is damaged, or belongs to a newer version."""
    try:
        unknown = _unknown_migrations()
    except DatabaseError as error:
        if trouble_of(error) is not Trouble.DAMAGED:
            raise
        raise ValueError(f"{settings.HOME / DATABASE}: {words_for(Trouble.DAMAGED)}") from error
    if unknown:
        raise ValueError(_TOO_NEW.format(", ".join(unknown)))


def has_every_change() -> bool:
    """Whether the database has the changes that this version makes, and no others. It is looked at with each start: as the names
    of files, which takes a hundredth of loading them."""
    own = {
        (app.label, file.stem)
        for app in apps.get_app_configs() for file in (Path(app.path) / "migrations").glob("[0-9]*.py")
    }  # fmt: skip
    try:
        made = set(MigrationRecorder(connection).applied_migrations())
    except DatabaseError:
        # What is the matter is told by who looks closer.
        return False
    labels = {app.label for app in apps.get_app_configs()}
    return bool(made) and {one for one in made if one[0] in labels} == own


def _unknown_migrations() -> list[str]:
    """Changes of the database that this version does not know."""
    loader = MigrationExecutor(connection).loader
    known = set(loader.disk_migrations)
    replaced = {one for migration in loader.disk_migrations.values() for one in migration.replaces}
    apps = {app for app, _ in known}
    unknown = (one for one in loader.applied_migrations if one[0] in apps and one not in known | replaced)
    return sorted(f"{app} {name}" for app, name in unknown)


def _writable() -> Finding:
    try:
        with tempfile.TemporaryFile(dir=settings.HOME, buffering=0) as file:
            file.write(b"\0" * 4096)
    except OSError as error:
        return Finding(
            "data folder", BAD, f"cannot be written to ({(error.strerror or str(error)).lower()})",
            "check who owns it and whether its disk is full or read-only",
        )  # fmt: skip
    return Finding("data folder", GOOD, "can be written to")


def _database() -> Iterator[Finding]:
    try:
        with connection.cursor() as cursor:
            said = [row[0] for row in cursor.execute("PRAGMA integrity_check").fetchall()]
            astray = cursor.execute("PRAGMA foreign_key_check").fetchall()
    except DatabaseError as error:
        trouble = trouble_of(error) or Trouble.DAMAGED
        yield Finding("database", BAD, f"cannot be read: {error}", words_for(trouble))
        return
    if said == ["ok"]:
        yield Finding("database", GOOD, "sound")
    else:
        yield Finding(
            "database", BAD, f"damaged: {'; '.join(str(one) for one in said[:3])}",
            "restore the newest backup into another folder with `yellowjacket restore`",
        )  # fmt: skip
    if astray:
        tables = sorted({str(row[0]) for row in astray})
        yield Finding(
            "references", BAD, f"{len(astray)} rows refer to what is gone, in {', '.join(tables)}",
            "restore a backup, or send its log with this line to whoever looks after the application",
        )  # fmt: skip


def _migrations() -> Finding:
    executor = MigrationExecutor(connection)
    due = executor.migration_plan(executor.loader.graph.leaf_nodes())
    if unknown := _unknown_migrations():
        return Finding("schema", BAD, f"changed by a newer version ({', '.join(unknown)})", _UPGRADE)
    if due:
        return Finding(
            "schema", ODD, f"{len(due)} changes are due", "start the application once: it copies the database first"
        )
    return Finding("schema", GOOD, "up to date")


def _files(*, thorough: bool) -> Iterator[Finding]:
    gone, changed, looked = [], [], 0
    rows: list[tuple[str, str, int | None]] = list(Frame.objects.values_list("path", "sha256", "size_bytes"))
    rows += [(path, sha256, None) for path, sha256 in LanePicture.objects.values_list("path", "sha256")]
    for path_text, sha256, size in rows:
        path = Path(path_text)
        looked += 1
        if not path.is_file():
            gone.append(path_text)
        elif (size is not None and path.stat().st_size != size) or (thorough and sha256_of(path) != sha256):
            changed.append(path_text)
    how = "contents compared" if thorough else "sizes compared; --thorough reads them all"
    if not gone and not changed:
        yield Finding("originals", GOOD, f"{looked} files in place, {how}")
    if gone:
        yield Finding(
            "originals", BAD, f"{len(gone)} of {looked} files are gone: {_named(gone)}",
            "put them back where they were, or import them again from where they are now: what was measured is kept",
        )  # fmt: skip
    if changed:
        yield Finding(
            "originals", BAD, f"{len(changed)} of {looked} files were changed: {_named(changed)}",
            "put the untouched files back; readings of changed ones no longer belong to them",
        )  # fmt: skip
    lost = [
        one.file_name for one in MasterDark.objects.all() if not (settings.HOME / "masters" / one.file_name).is_file()
    ]
    if lost:
        yield Finding("master darks", BAD, f"{len(lost)} files are gone: {_named(lost)}", "make them again on Darks")


def _unreferenced() -> list[Path]:
    """Files among the originals that no record names, and half-written ones: what a full disk, a kill or a sitting that was
    removed left behind. Half-written files of this hour may still be under way."""
    named = set(Frame.objects.values_list("path", flat=True)) | set(LanePicture.objects.values_list("path", flat=True))
    # A deleted sitting that may be restored has its frames again then.
    named |= deleted_archives.paths_needed()
    named |= set(Problem.objects.exclude(path="").values_list("path", flat=True))
    for parameters in Job.objects.filter(state__in=Job.OPEN).values_list("parameters", flat=True):
        named |= {str(path) for path in parameters.get("files", ())}
    found = []
    for room in ("originals", "masters", "card"):
        for place, _, names in os.walk(settings.HOME / room):
            for name in names:
                path = Path(place) / name
                # Frames on the card are the simulated camera's own.
                if (room == "originals" and str(path) not in named) or (name.startswith(".") and "part" in name):
                    found.append(path)
    return sorted(found)


def _left_behind() -> Finding:
    left = _unreferenced()
    if not left:
        return Finding("left behind", GOOD, "nothing")
    size = sum(path.stat().st_size for path in left if path.is_file())
    return Finding(
        "left behind", ODD, f"{len(left)} files that no record names, {size / 1e6:.1f} MB: {_named([str(p) for p in left])}",
        "stop the application and run `yellowjacket doctor --clean-up`",
    )  # fmt: skip


def clean_up() -> Iterator[str]:
    """Remove what was left behind, a line for each; only with the data folder for oneself."""
    for path in _unreferenced():
        path.unlink(missing_ok=True)
        yield f"removed {path}"
    for place, folders, names in os.walk(settings.HOME / "originals", topdown=False):
        if not folders and not names and Path(place) != settings.HOME / "originals":
            Path(place).rmdir()


def _named(paths: list[str]) -> str:
    more = f" and {len(paths) - _MOST_NAMED} more" if len(paths) > _MOST_NAMED else ""
    return ", ".join(paths[:_MOST_NAMED]) + more


def _jobs() -> Finding:
    failed = Job.objects.filter(state=Job.State.FAILED).count()
    waiting = Job.objects.filter(state__in=Job.OPEN).count()
    words = f"{waiting} under way or waiting, {failed} failed"
    if waiting:
        return Finding("work", ODD, words, "it goes on when the application runs")
    return Finding("work", GOOD, words)


def _space() -> Iterator[Finding]:
    cache = 0
    for place, _, names in os.walk(settings.HOME / "cache"):
        for name in names:
            # Anything in the cache may go at any time.
            with contextlib.suppress(OSError):
                cache += (Path(place) / name).stat().st_size
    yield Finding(
        "cache", GOOD, f"{cache / 1e6:.0f} MB that can be made again; {settings.HOME / 'cache'} may be emptied"
    )
    free = shutil.disk_usage(settings.HOME).free
    if free < _LITTLE_BYTES:
        yield Finding(
            "disk", ODD, f"{free / 1e9:.1f} GB are free", f"empty {settings.HOME / 'cache'}, or move old originals away"
        )
    else:
        yield Finding("disk", GOOD, f"{free / 1e9:.0f} GB are free")
