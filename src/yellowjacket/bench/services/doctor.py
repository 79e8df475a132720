"""A look at the health of a data folder: database, originals, space, versions; each finding with its remedy."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import django
from django.conf import settings
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

from yellowjacket import __version__
from yellowjacket.bench.models import Frame, Job, LanePicture, MasterDark
from yellowjacket.core.frames import sha256_of

GOOD, ODD, BAD = "good", "odd", "bad"
_LITTLE_BYTES = 2_000_000_000
_MOST_NAMED = 5


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
    yield from _database()
    yield _migrations()
    yield from _files(thorough=thorough)
    yield _jobs()
    yield from _space()


def _database() -> Iterator[Finding]:
    with connection.cursor() as cursor:
        said = [row[0] for row in cursor.execute("PRAGMA integrity_check").fetchall()]
        astray = cursor.execute("PRAGMA foreign_key_check").fetchall()
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
    cache = sum(
        (Path(place) / name).stat().st_size for place, _, names in os.walk(settings.HOME / "cache") for name in names
    )
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
