"""The data folder: where it is, what is in it, and which other folders may be read."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import secrets
import shutil
import time
from collections.abc import Iterator
from pathlib import Path
from typing import IO

HOME_VARIABLE = "YELLOWJACKET_HOME"
_SECRET_FILE = "secret-key"  # noqa: S105 - a file name
_FOLDERS_FILE = "folders.txt"
_LOCK_FILE = ".served"
_LET_GO_S = 10.0


def data_folder() -> Path:
    """YELLOWJACKET_HOME, or ``~/yellowjacket`` when it is not set."""
    return Path(os.environ.get(HOME_VARIABLE) or Path.home() / "yellowjacket").expanduser().resolve()


def prepare(home: Path) -> None:
    """Make the folder, its parts and its secret if they are not there. Raises OSError, with the remedy, when it may not."""
    try:
        _make(home)
    except OSError as error:
        why = "its disk is full" if error.errno == errno.ENOSPC else error.strerror or str(error)
        raise OSError(
            f"{home} cannot be written to ({why.lower()}): check who owns it and whether its disk is full or read-only, or "
            f"give another data folder with {HOME_VARIABLE}"
        ) from error


def _make(home: Path) -> None:
    for part in ("card", "inbox", "originals", "cache", "static", "arriving"):
        (home / part).mkdir(parents=True, exist_ok=True)
    secret = home / _SECRET_FILE
    if not secret.exists():
        handle = os.open(secret, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "w") as file:
            file.write(secrets.token_urlsafe(48))
    # A folder that was made by somebody else, or on a disk that turned read-only, is found out now rather than at work.
    probe = home / f".{secrets.token_hex(8)}.part"
    probe.touch()
    probe.unlink()


@contextlib.contextmanager
def only_here(home: Path) -> Iterator[IO[str]]:
    """Hold the data folder for one application, and its children that are given the file. Raises OSError, with the remedy,
    while another one has it."""
    # Children of a server that was killed a moment ago need as long to end.
    deadline = time.monotonic() + _LET_GO_S
    with (home / _LOCK_FILE).open("a+", encoding="utf-8") as file:
        while True:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError as error:
                if time.monotonic() > deadline:
                    raise OSError(
                        f"another Yellowjacket is using {home}: use that one, stop it first, or give this one another data "
                        f"folder with {HOME_VARIABLE}"
                    ) from error
            time.sleep(0.1)
        yield file


def read_secret(home: Path) -> str | None:
    """The secret of this folder, or None when it was never prepared."""
    secret = home / _SECRET_FILE
    return secret.read_text() if secret.is_file() else None


def arriving(home: Path) -> Path:
    """Where uploads lie while they come in; nothing in it outlives the server."""
    return home / "arriving"


def clear_arriving(home: Path) -> None:
    """Remove what a server that was killed left of uploads. Only while no server runs."""
    shutil.rmtree(arriving(home), ignore_errors=True)
    arriving(home).mkdir(exist_ok=True)


def inbox(home: Path) -> Path:
    """Where files may always be put to be imported."""
    return home / "inbox"


def allowed_folders(home: Path) -> tuple[Path, ...]:
    """Folders whose files may be read: the data folder's own, and those named in folders.txt."""
    own = [inbox(home), home / "card", home / "originals"]
    listed = home / _FOLDERS_FILE
    lines = listed.read_text(encoding="utf-8").splitlines() if listed.is_file() else []
    return tuple(own + [Path(line.strip()).expanduser() for line in lines if line.strip() and not line.startswith("#")])


def allow_folder(home: Path, folder: Path) -> None:
    """Add a folder to folders.txt. Raises FileNotFoundError when it is no folder."""
    resolved = folder.expanduser().resolve()
    if not resolved.is_dir():
        raise FileNotFoundError(f"{folder} is not a folder")
    if resolved in allowed_folders(home):
        return
    with (home / _FOLDERS_FILE).open("a", encoding="utf-8") as file:
        file.write(f"{resolved}\n")


def inside_allowed(home: Path, folder: Path) -> bool:
    """Whether a path, links followed, lies in an allowed folder. What cannot be followed, such as a link to itself, does
    not."""
    try:
        resolved = folder.resolve()
    except (OSError, RuntimeError, ValueError):
        return False
    return any(resolved.is_relative_to(allowed.resolve()) for allowed in allowed_folders(home))


def set_up_django() -> None:
    """Prepare the data folder and load Django with it. Everything Django is imported after this."""
    prepare(data_folder())
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yellowjacket.settings.local")
    import django

    django.setup()
