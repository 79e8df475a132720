"""Files a call names, and the call on a machine that does not have them where they lie here: with copies, for its time."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, fields, is_dataclass, replace
from pathlib import Path
from typing import Any

_SECOND = 10**9


@dataclass(frozen=True, slots=True)
class Mark:
    """By which a file is told to be the same elsewhere: its bytes, and when it was changed last (ns)."""

    size: int
    changed_ns: int

    def same(self, other: Mark | None) -> bool:
        """Not every file system keeps more than whole seconds."""
        return other is not None and (self.size, self.changed_ns // _SECOND) == (
            other.size,
            other.changed_ns // _SECOND,
        )


@dataclass(frozen=True, slots=True)
class Missing:
    """Said instead of a result: this machine sees a named file not at all, or another in its place."""

    path: str


def named_files(item: object) -> dict[str, Mark]:
    """Readable files of this machine that an item names, with their marks: strings and paths in it, however deep."""
    found = {}

    def note(text: str) -> str:
        if (mark := _mark(text)) is not None:
            found[text] = mark
        return text

    _renamed(item, note)
    return found


def _mark(text: str) -> Mark | None:
    """Of a file; None where there is none. A word without a dot or a slash is not taken for one."""
    if "." not in text and os.sep not in text:
        return None
    try:
        if not Path(text).is_file() or not os.access(text, os.R_OK):
            return None
        known = Path(text).stat()
    except (OSError, ValueError):
        return None
    return Mark(known.st_size, known.st_mtime_ns)


def call_with_own(function: Callable[[Any], Any], item: Any, files: Mapping[str, Mark]) -> Any:
    """The result, or Missing, where this machine does not see all of the files. Raises what the function raises."""
    for path, mark in files.items():
        if not mark.same(_mark(path)):
            return Missing(path)
    return function(item)


def call_with_lent(
    function: Callable[[Any], Any], item: Any, files: Mapping[str, Mark], contents: Sequence[bytes]
) -> Any:
    """The result with copies of the files, gone afterwards; results and errors name the files as the item did.

    For workers of a Dask cluster: copies lie where Dask tidies up after a worker that was killed.
    """
    from distributed import get_worker

    with tempfile.TemporaryDirectory(prefix="lent-", dir=get_worker().local_directory) as folder:
        here = {}
        for n, ((path, mark), content) in enumerate(zip(files.items(), contents, strict=True)):
            # Of the same name, each in a folder of its own: names say what kind a file is, and stand in messages.
            copy = Path(folder, str(n), Path(path).name)
            copy.parent.mkdir()
            copy.write_bytes(content)
            # What is found in it says when it was changed last, by which a later change is noticed.
            os.utime(copy, ns=(mark.changed_ns, mark.changed_ns))
            here[path] = str(copy)
        back = {copy: path for path, copy in here.items()}
        try:
            found = function(_renamed(item, lambda text: here.get(text, text)))
        except Exception as error:
            raise _renamed(error, lambda text: back.get(text, text)) from None
        return _renamed(found, lambda text: back.get(text, text))


def _renamed(value: Any, name: Callable[[str], str]) -> Any:
    """A value with the strings and paths in it called as ``name`` says; itself, where that changes none."""
    if isinstance(value, Exception):
        parts: Any = value.__reduce__()
        arguments = _renamed(parts[1], name)
        return value if arguments is parts[1] else parts[0](*arguments)
    if is_dataclass(value) and not isinstance(value, type):
        old = {one.name: getattr(value, one.name) for one in fields(value) if one.init}
        new = _renamed(old, name)
        return value if new is old else replace(value, **{key: one for key, one in new.items() if one is not old[key]})
    if isinstance(value, dict):
        new = {key: _renamed(one, name) for key, one in value.items()}
        return value if all(one is value[key] for key, one in new.items()) else new
    if type(value) in (list, tuple):
        items = [_renamed(one, name) for one in value]
        return value if all(one is was for one, was in zip(items, value, strict=True)) else type(value)(items)
    # A member of an enumeration is a string too, and no name of a file.
    if type(value) is str or isinstance(value, Path):
        text = name(str(value))
        return value if text == str(value) else type(value)(text)
    return value
