"""The tags of a file as Exiv2 finds them, whatever the container: TIFF-based, ISO-BMFF, JPEG behind a header, pictures.

The only module that reads tags. Exiv2 is C++ over input that nobody vouches for, so this runs where raw files are decoded:
in a reading process with bounds on time and memory. What the tags mean is worked out in ``capture``.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

import exiv2

# Maker notes hold up to a few thousand tags; a file of more is junk, and what comes after these is not looked at.
_MOST_TAGS = 50_000
# Longer texts and lists are no claim about a capture.
_MOST_BYTES, _MOST_NUMBERS = 2000, 64

# What Exiv2 complains about on standard error is of no use to anybody here.
exiv2.LogMsg.setLevel(exiv2.LogMsg.Level.mute)


@dataclass(frozen=True, slots=True)
class Tag:
    """One tag: its key (``Exif.Group.Name``), what it holds in words, and as numbers (None where they are not finite)."""

    key: str
    words: str
    numbers: tuple[float | None, ...] = ()

    @property
    def name(self) -> str:
        """Last part of the key: the same for every maker."""
        return self.key.rpartition(".")[2]


def read_tags(path: Path, wanted: Callable[[str], bool]) -> tuple[Tag, ...]:
    """The tags of a file whose key is ``wanted``, in the order of the file; none where Exiv2 finds no container it knows.

    Tags are a claim and never a reason to fail: a tag that cannot be read is left out.
    """
    return tuple(_told(_data_of(path), wanted))


def _data_of(path: Path) -> Any:
    try:
        image = exiv2.ImageFactory.open(str(path) if _is_text(path) else path.read_bytes())
        image.readMetadata()
        return image.exifData()
    except (exiv2.Exiv2Error, OSError, MemoryError, ValueError):
        return ()


def _is_text(path: Path) -> bool:
    """Whether the name is UTF-8 text, as Exiv2 takes names; others are given to it as their bytes."""
    try:
        str(path).encode()
    except UnicodeEncodeError:
        return False
    return True


def _told(data: Any, wanted: Callable[[str], bool]) -> Iterator[Tag]:
    for one in islice(data, _MOST_TAGS):
        with contextlib.suppress(exiv2.Exiv2Error, UnicodeDecodeError, ValueError, TypeError, OverflowError):
            key = one.key()
            if wanted(key) and one.size() <= _MOST_BYTES:
                yield Tag(key, _words(one, data), _numbers(one))


def _words(one: Any, data: Any) -> str:
    # NUL ends a text in some files and pads it in others; a database takes none.
    return str(one.print(data)).replace("\0", " ").strip()


def _numbers(one: Any) -> tuple[float | None, ...]:
    if one.typeId() in (exiv2.TypeId.asciiString, exiv2.TypeId.undefined, exiv2.TypeId.comment):
        return ()
    return tuple(_number(one, n) for n in range(min(one.count(), _MOST_NUMBERS)))


def _number(one: Any, n: int) -> float | None:
    if one.typeId() in (exiv2.TypeId.unsignedRational, exiv2.TypeId.signedRational):
        above, below = one.toRational(n)
        return above / below if below else None
    return float(one.toFloat(n))
